"""What comes back to a mail's return path: reports of non-delivery (RFC 3464), complaints (RFC 5965), others. Pure."""

from __future__ import annotations

import email
import email.policy
import re
from dataclasses import dataclass
from email.message import Message
from typing import Literal

from angelon.core.deliveries import storable_text

MOST_BYTES = 2_000_000
READ = 256_000
"""Bytes of a mail that are looked at: a report stands before the mail that it is about."""
MOST_PARTS, MOST_NESTED = 200, 20
MOST_HEADER = 16_000
"""Lines that may part a mail, how often it may say that it has parts, and bytes of one header, folded lines included.
All are looked at before anything is parsed: a parser would take seconds for what is larger.
"""
_HEADER = re.compile(rb"(?m)^[!-9;-~]+:[^\r\n]*(?:\r?\n[ \t][^\r\n]*)*")


@dataclass(frozen=True, slots=True)
class Returned:
    """What one mail says of the one that it is about. `status` is the enhanced code, such as 5.1.1."""

    kind: Literal["failed", "delayed", "complaint", "other"]
    status: str = ""
    reason: str = ""
    message_id: str = ""
    """Of the mail that it is about, without brackets; empty where it does not say."""
    recipient: str = ""


def return_path(pattern: str, send_id: str, proof: str) -> str:
    """The envelope's sender for one send (a variable envelope return path): its id and a proof in the local part."""
    local, _, domain = pattern.rpartition("@")
    return f"{local}+{send_id}={proof}@{domain}"


def send_of(address: str, pattern: str = "") -> tuple[str, str] | None:
    """(send id, proof) of a return path; None for an address that is none, or is of another pattern."""
    local, _, domain = address.strip().strip("<>").rpartition("@")
    start, plus, rest = local.partition("+")
    send_id, equals, proof = rest.partition("=")
    if not plus or not equals or not send_id or not proof:
        return None
    if pattern and f"{start}@{domain}".casefold() != pattern.casefold():
        return None
    return send_id.lower(), proof.lower()


def read_returned(data: bytes) -> Returned:
    """What a mail says. Never raises: what can't be read, and what is no report by its size, is `other`."""
    data = data[:READ]
    if not is_bounded(data):
        return Returned("other")
    try:
        mail = email.message_from_bytes(data, policy=email.policy.compat32)
        return _report(mail)
    except Exception:  # whatever a stranger sends
        return Returned("other")


def is_bounded(data: bytes) -> bool:
    parts = sum(1 for line in data.splitlines() if line.startswith(b"--"))
    nested = data.lower().count(b"boundary=")
    longest = max((found.end() - found.start() for found in _HEADER.finditer(data)), default=0)
    return parts <= MOST_PARTS and nested <= MOST_NESTED and longest <= MOST_HEADER


def _report(mail: Message) -> Returned:
    about = _original_id(mail)
    for part in mail.walk():
        kind = part.get_content_type()
        if kind == "message/feedback-report":
            fields = _fields(part)
            what = fields.get("feedback-type", "abuse").strip().lower()
            return Returned("other" if what == "not-spam" else "complaint", "", f"complaint: {what}"[:200], about)
        if kind == "message/delivery-status":
            return _delivery(part, about)
    return Returned("other", message_id=about)


def _delivery(part: Message, about: str) -> Returned:
    """The first recipient that failed, else the first at all (RFC 3464, section 2.3)."""
    groups = [{name.lower(): str(value) for name, value in group.items()} for group in _groups(part)]
    told = [group for group in groups if "action" in group]
    chosen = next((group for group in told if group["action"].strip().lower() == "failed"), told[0] if told else None)
    if chosen is None:
        return Returned("other", message_id=about)
    action = chosen["action"].strip().lower()
    status = (re.search(r"\d\.\d{1,3}\.\d{1,3}", chosen.get("status", "")) or [""])[0]
    said = chosen.get("diagnostic-code", "").partition(";")[2] or chosen.get("status", "")
    recipient = (chosen.get("original-recipient") or chosen.get("final-recipient", "")).partition(";")[2].strip()
    reason = storable_text(" ".join(said.split()))[:300]
    kind: Literal["failed", "delayed", "other"] = (
        "failed" if action == "failed" else "delayed" if action == "delayed" else "other"
    )
    return Returned(kind, status, reason, about, recipient[:254])


def _groups(part: Message) -> list[Message]:
    payload = part.get_payload()
    if isinstance(payload, list):
        return [one for one in payload if isinstance(one, Message)]
    return [email.message_from_string(block) for block in re.split(r"\r?\n\r?\n", str(payload)) if block.strip()]


def _fields(part: Message) -> dict[str, str]:
    payload = part.get_payload()
    inner = payload[0] if isinstance(payload, list) and payload else None
    found = inner if isinstance(inner, Message) else email.message_from_string(str(payload))
    return {name.lower(): str(value) for name, value in found.items()}


def _original_id(mail: Message) -> str:
    """The Message-ID of the mail that came back whole, or as its headers."""
    for part in mail.walk():
        kind = part.get_content_type()
        if kind == "message/rfc822":
            payload = part.get_payload()
            inner = payload[0] if isinstance(payload, list) and payload else None
            if isinstance(inner, Message):
                return str(inner.get("Message-ID", "")).strip().strip("<>")[:300]
        if kind == "text/rfc822-headers":
            text = part.get_payload(decode=True)
            headers = email.message_from_bytes(text if isinstance(text, bytes) else b"")
            return str(headers.get("Message-ID", "")).strip().strip("<>")[:300]
    return ""
