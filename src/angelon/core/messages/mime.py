"""An email as bytes for SMTP (RFC 5322, MIME RFC 2045 to 2049)."""

from __future__ import annotations

import base64
import datetime as dt
import quopri
import re
from collections.abc import Sequence
from dataclasses import dataclass
from email.header import Header
from email.utils import format_datetime
from functools import lru_cache
from urllib.parse import quote

from angelon.core.messages.attachments import File
from angelon.core.messages.email import RenderedEmail
from angelon.core.templates import one_line

_ASCII = bytes(range(128))
_BETWEEN_TAGS = b"><"
"""Where a page may be taken apart: pieces of it are put together by soft line breaks (RFC 2045, section 6.7)."""
_SAME = 1000
"""Bytes of a piece up to which its quoted form is kept."""
_WORD = "=?"
"""How an encoded word begins (RFC 2047, section 2)."""
_ATOMS = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~ -]*\Z")


@dataclass(frozen=True, slots=True)
class Envelope:
    """Who it is from and to. Addresses are checked ones (core.addresses); `message_id` comes without angle brackets."""

    from_address: str
    from_name: str
    to_address: str
    to_name: str
    message_id: str
    date: dt.datetime
    reply_to: str = ""
    cc: tuple[str, ...] = ()
    test: bool = False


def mailbox(address: str, name: str) -> str:
    """A name and address for a header, the name encoded where it has to be (RFC 2047). Raises ValueError for a line
    break in the address.
    """
    if any(ord(c) <= 32 or c in "<>,;\x7f" for c in address):
        raise ValueError("An address holds a space, line break or bracket.")
    name = one_line(name)[:120]
    if not name:
        return address
    if _WORD in name:  # else a program would decode what somebody has typed
        return f"{_encoded(name)} <{address}>"
    if _ATOMS.match(name):
        return f"{name} <{address}>"
    if name.isascii():
        quoted = name.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}" <{address}>'
    return f"{_encoded(name)} <{address}>"


@lru_cache(maxsize=2048)
def _encoded(text: str) -> str:
    return "\r\n ".join(Header(text, "utf-8", maxlinelen=70).encode(linesep="\n").split("\n "))


def _subject(text: str) -> str:
    subject = one_line(text)
    if not subject.isascii() or _WORD in subject:
        return _encoded(subject)
    return subject if len(subject) < 60 else _folded(subject)


def _folded(text: str, first: int = 9) -> str:
    lines, line = [], " " * first
    for word in text.split(" "):
        if len(line) + len(word) > 76 and line.strip():
            lines.append(line)
            line = ""
        line += word + " "
    lines.append(line)
    return "\r\n ".join(part.strip() for part in lines)


def _body(text: str) -> tuple[str, bytes]:
    """Transfer encoding and lines of a text part (RFC 2045, section 6)."""
    data = text.replace("\r\n", "\n").encode()
    if data.isascii() and max(map(len, data.split(b"\n"))) <= 990:
        return "7bit", data.replace(b"\n", b"\r\n")
    if len(data.translate(None, _ASCII)) * 6 > len(data):
        return "base64", base64.encodebytes(data).replace(b"\n", b"\r\n")
    first, *rest = data.split(_BETWEEN_TAGS)
    if not rest:
        return "quoted-printable", _quoted(data)
    *inner, last = rest
    return "quoted-printable", b"=\r\n".join(
        [
            _quoted(first + b">"),
            *(_quoted_inside(tag) if len(tag) < _SAME else _quoted(b"<" + tag + b">") for tag in inner),
            _quoted(b"<" + last),
        ]
    )


def _quoted(text: bytes) -> bytes:
    return quopri.encodestring(text).replace(b"\n", b"\r\n")


@lru_cache(maxsize=4096)
def _quoted_inside(tag: bytes) -> bytes:
    """What stands from a tag of a page to the next: most of it is the same for everybody."""
    return _quoted(b"<" + tag + b">")


def build(mail: RenderedEmail, envelope: Envelope, files: Sequence[File] = ()) -> bytes:
    """The message's bytes, lines ended by CRLF, none longer than 998 (RFC 5322, section 2.1.1). ASCII throughout.
    Raises ValueError for an address that would end its header.

    Pictures that the page shows travel beside it (multipart/related, RFC 2387), other files after it (multipart/mixed).
    """
    if any(ord(sign) <= 32 or sign in "<>\x7f" for sign in mail.leave + envelope.message_id):
        raise ValueError("The address to leave by, or the Message-ID, holds a space or a line break.")
    mark = re.sub(r"[^A-Za-z0-9]", "", envelope.message_id)[-40:]
    head = [
        f"Date: {format_datetime(envelope.date)}",
        f"From: {mailbox(envelope.from_address, envelope.from_name)}",
        *(
            [f"Reply-To: {_folded(', '.join(mailbox(one, '') for one in envelope.reply_to.split(', ')), 10)}"]
            if envelope.reply_to
            else []
        ),
        f"To: {mailbox(envelope.to_address, envelope.to_name)}",
        *([f"Cc: {_folded(', '.join(mailbox(address, '') for address in envelope.cc), 4)}"] if envelope.cc else []),
        f"Message-ID: <{envelope.message_id}>",
        f"Subject: {_subject(mail.subject)}",
        "MIME-Version: 1.0",
        "Auto-Submitted: auto-generated",
        *(
            [f"List-Unsubscribe:\r\n <{mail.leave}>", "List-Unsubscribe-Post: List-Unsubscribe=One-Click"]
            if mail.leave and not envelope.test
            else []
        ),
        *(["X-Test: yes"] if envelope.test else []),
    ]
    content = _text_part("plain", mail.text)
    if mail.html:
        content = _many("alternative", f"=_a{mark}", [content, _text_part("html", mail.html)])
    shown, attached = [f for f in files if f.content_id], [f for f in files if not f.content_id]
    if shown:
        content = _many("related", f"=_r{mark}", [content, *map(_file_part, shown)], '; type="multipart/alternative"')
    if attached:
        content = _many("mixed", f"=_m{mark}", [content, *map(_file_part, attached)])
    return "\r\n".join(head).encode("ascii") + b"\r\n" + content


def _many(subtype: str, boundary: str, parts: list[bytes], more: str = "") -> bytes:
    lines = [f'Content-Type: multipart/{subtype}; boundary="{boundary}"{more}'.encode(), b""]
    for part in parts:
        lines += [f"--{boundary}".encode(), part]
    return b"\r\n".join([*lines, f"--{boundary}--".encode(), b""])


def _text_part(subtype: str, text: str) -> bytes:
    encoding, body = _body(text)
    return (
        f"Content-Type: text/{subtype}; charset=utf-8\r\nContent-Transfer-Encoding: {encoding}\r\n\r\n".encode() + body
    )


def _file_part(file: File) -> bytes:
    kind = "inline" if file.content_id else "attachment"
    more = (
        "; charset=utf-8" + ("; method=PUBLISH" if file.type == "text/calendar" else "")
        if file.type.startswith("text/")
        else ""
    )
    lines = [
        f"Content-Type: {file.type}{more}",
        f"Content-Disposition: {kind}; {_file_name(file.name)}",
        "Content-Transfer-Encoding: base64",
    ]
    if file.content_id:
        lines.append(f"Content-ID: <{file.content_id}>")
    encoded = base64.b64encode(file.data)
    return "\r\n".join([*lines, "", ""]).encode("ascii") + b"\r\n".join(
        encoded[at : at + 76] for at in range(0, len(encoded), 76)
    )


def _file_name(name: str) -> str:
    """The parameter `filename` (RFC 2183), in parts where it is long or not ASCII (RFC 2231)."""
    name = one_line(name).replace("/", "-").replace("\\", "-") or "file"
    if name.isascii() and len(name) <= 60 and _WORD not in name:
        return 'filename="' + name.replace('"', "'") + '"'
    encoded = quote(name, safe="")
    pieces = re.findall(r"(?:%[0-9A-F]{2}|[^%]){1,20}", encoded)
    if len(pieces) == 1:
        return f"filename*=utf-8''{encoded}"
    return ";\r\n ".join(f"filename*{n}*=" + ("utf-8''" if n == 0 else "") + piece for n, piece in enumerate(pieces))
