"""An email as bytes for SMTP (RFC 5322, MIME RFC 2045 to 2049)."""

from __future__ import annotations

import base64
import datetime as dt
import quopri
import re
from dataclasses import dataclass
from email.header import Header
from email.utils import format_datetime
from functools import lru_cache

from angelon.core.messages.email import RenderedEmail, one_line

_ASCII = bytes(range(128))
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


def mailbox(address: str, name: str) -> str:
    """A name and address for a header, the name encoded where it has to be (RFC 2047). Raises ValueError for a line break in the address."""
    if any(ord(c) <= 32 or c in "<>,;\x7f" for c in address):
        raise ValueError("An address holds a space, line break or bracket.")
    name = one_line(name)[:120]
    if not name:
        return address
    if _ATOMS.match(name):
        return f"{name} <{address}>"
    if name.isascii():
        quoted = name.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}" <{address}>'
    return f"{_encoded(name)} <{address}>"


@lru_cache(maxsize=2048)
def _encoded(text: str) -> str:
    return "\r\n ".join(Header(text, "utf-8", maxlinelen=70).encode(linesep="\n").split("\n ")) if not text.isascii() else text


def _subject(text: str) -> str:
    subject = one_line(text)
    if not subject.isascii():
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
    return "quoted-printable", quopri.encodestring(data).replace(b"\n", b"\r\n")


def build(mail: RenderedEmail, envelope: Envelope) -> bytes:
    """The message's bytes, lines ended by CRLF, none longer than 998 (RFC 5322, section 2.1.1). ASCII throughout."""
    boundary = "=_" + re.sub(r"[^A-Za-z0-9]", "", envelope.message_id)[-40:]
    head = [
        f"Date: {format_datetime(envelope.date)}",
        f"From: {mailbox(envelope.from_address, envelope.from_name)}",
        f"To: {mailbox(envelope.to_address, envelope.to_name)}",
        f"Message-ID: <{envelope.message_id}>",
        f"Subject: {_subject(mail.subject)}",
        "MIME-Version: 1.0",
        "Auto-Submitted: auto-generated",
        f'Content-Type: multipart/alternative; boundary="{boundary}"',
    ]
    if envelope.reply_to:
        head.insert(3, f"Reply-To: {mailbox(envelope.reply_to, '')}")
    lines = ["\r\n".join(head).encode("ascii"), b""]
    for subtype, text in (("plain", mail.text), ("html", mail.html)):
        encoding, body = _body(text)
        lines += [
            f"--{boundary}".encode(),
            f"Content-Type: text/{subtype}; charset=utf-8".encode(),
            f"Content-Transfer-Encoding: {encoding}".encode(),
            b"",
            body,
        ]
    lines += [f"--{boundary}--".encode(), b""]
    return b"\r\n".join(lines)
