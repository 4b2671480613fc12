"""A mail as a payload: who sent it, what it says, what is found in it, what is attached. Pure."""

from __future__ import annotations

import email
import email.policy
import email.utils
from dataclasses import dataclass
from email.message import EmailMessage
from typing import Any

from inscriptis import get_text

from angelon.core.deliveries import storable_text
from angelon.core.messages.attachments import File, detect_media_type, file_name
from angelon.core.payload.body import NotReadable
from angelon.core.problems import Problem
from angelon.core.sending.returned import is_bounded
from angelon.core.specs.mail_in import MailIn
from angelon.core.timed_patterns import BadPattern, groups_in

MOST_BYTES = 12_000_000
MOST_TEXT = 100_000
"""Characters of a mail's text that are read."""
MOST_FILES, MOST_FILE = 10, 5_000_000


@dataclass(frozen=True, slots=True)
class ReadMail:
    """A mail as it is stored. `id` is its Message-ID (RFC 5322, section 3.6.4) without brackets; empty where it has
    none.
    """

    id: str
    payload: dict[str, Any]
    files: tuple[File, ...]
    problems: tuple[str, ...]
    """What was left out, as sentences."""


def allowed(spec: MailIn, address: str) -> bool:
    """Whether a sender is among those that are allowed."""
    address = address.strip().strip("<>").lower()
    domain = f"@{address.rpartition('@')[2]}"
    return bool(address) and (address in spec.senders or domain in spec.senders)


def read_mail(spec: MailIn, data: bytes) -> ReadMail:
    """A mail's payload and files. Raises NotReadable for one that can't be read, or whose sender is not allowed."""
    if len(data) > MOST_BYTES:
        raise _not_readable(f"The mail has over {MOST_BYTES // 1_000_000} MB.", 413)
    if not is_bounded(data):
        raise _not_readable("The mail has more parts or longer headers than any mail needs.", 400)
    try:
        mail = email.message_from_bytes(data, policy=email.policy.default)
        assert isinstance(mail, EmailMessage)
        name, address = email.utils.parseaddr(str(mail.get("from", "")))
        text = _text(mail)
    except Exception as error:  # what a broken mail makes of a parser is told, whatever it is
        raise _not_readable(f"The mail can't be read: {type(error).__name__}.", 400) from None
    if not allowed(spec, address):
        raise _not_readable(f"{address[:100] or 'Nobody'} is not among the senders that may send mails here.", 403)
    subject = _header(mail, "subject")[:1000]
    found, problems = _found(spec, f"{subject}\n\n{text}")
    files, left = _files(mail)
    payload = {
        "from": address.lower(),
        "from_name": storable_text(name)[:200],
        "to": _header(mail, "to")[:500],
        "subject": subject,
        "date": _date(mail),
        "text": text,
        "found": found,
        "files": [one.name for one in files],
    }
    id_ = _header(mail, "message-id").strip().strip("<>")[:200]
    return ReadMail(id_, payload, files, (*problems, *left))


def _not_readable(what: str, status: int) -> NotReadable:
    return NotReadable(Problem("mail", what, "See the page Mail of the source."), status)


def _header(mail: EmailMessage, name: str) -> str:
    """A header; empty where there is none, or one that the parser breaks off at."""
    try:
        return storable_text(str(mail.get(name, "")))
    except Exception:
        return ""


def _text(mail: EmailMessage) -> str:
    body = mail.get_body(("plain", "html"))
    if body is None:
        return ""
    raw = body.get_content()
    raw = raw if isinstance(raw, str) else ""
    raw = get_text(raw[: MOST_TEXT * 5]) if body.get_content_type() == "text/html" else raw
    return storable_text(raw).replace("\r\n", "\n").strip()[:MOST_TEXT]


def _date(mail: EmailMessage) -> str:
    try:
        return email.utils.parsedate_to_datetime(_header(mail, "date")).isoformat()
    except ValueError:
        return ""


def _found(spec: MailIn, text: str) -> tuple[dict[str, str], list[str]]:
    """What the patterns find; of a name that several find, the first."""
    found: dict[str, str] = {}
    problems = []
    for pattern in spec.patterns:
        try:
            found = {**groups_in(pattern, text), **found}
        except BadPattern as error:
            problems.append(str(error))
    return found, problems


def _files(mail: EmailMessage) -> tuple[tuple[File, ...], list[str]]:
    files: list[File] = []
    left = []
    for part in mail.iter_attachments():
        try:
            data = part.get_payload(decode=True)
            name = file_name(part.get_filename() or "", "file")
        except Exception as error:
            left.append(f"An attachment can't be read: {type(error).__name__}.")
            continue
        if not isinstance(data, bytes) or not data:
            continue
        if len(files) >= MOST_FILES or len(data) > MOST_FILE:
            left.append(f"“{name}” was left out: at most {MOST_FILES} files of {MOST_FILE // 1_000_000} MB are kept.")
            continue
        files.append(File(name, detect_media_type(data), data))
    return tuple(files), left
