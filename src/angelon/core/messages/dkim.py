"""A DKIM signature over a mail (RFC 6376: rsa-sha256, relaxed/relaxed), by a key that is at hand."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import re
from functools import lru_cache

from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import padding, rsa

SIGNED = (
    "from", "to", "cc", "reply-to", "subject", "date", "message-id", "mime-version", "content-type",
    "list-unsubscribe", "list-unsubscribe-post",
)  # fmt: skip
"""The headers that are signed, those that a mail has."""
KEY_BITS = 2048
_SPACES = re.compile(rb"[ \t]+")


def new_key() -> str:
    """A private key as PEM (PKCS 8)."""
    made = rsa.generate_private_key(65537, KEY_BITS)
    return made.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ).decode()


@lru_cache(maxsize=32)
def _key(pem: str) -> rsa.RSAPrivateKey:
    found = serialization.load_pem_private_key(pem.encode(), None)
    assert isinstance(found, rsa.RSAPrivateKey)
    return found


def record(pem: str) -> str:
    """What stands in DNS beside a key (section 3.6.1), as one text."""
    public = _key(pem).public_key()
    der = public.public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    return f"v=DKIM1; k=rsa; p={base64.b64encode(der).decode()}"


def signed(mail: bytes, domain: str, selector: str, pem: str, now: dt.datetime) -> bytes:
    """The mail with its signature before it. `mail` has CRLF line ends; `now` is aware."""
    head, _, body = mail.partition(b"\r\n\r\n")
    headers = _headers(head)
    names = [name for name in SIGNED if any(name == have for have, _ in headers)]
    digest = base64.b64encode(hashlib.sha256(_relaxed_body(body)).digest()).decode()
    listed = ":".join([*names, "from"])  # once more than there are: none can be put before it
    start = (
        f"v=1; a=rsa-sha256; c=relaxed/relaxed; d={domain}; s={selector};\r\n t={int(now.timestamp())}; "
        f"h={listed};\r\n bh={digest};\r\n b="
    )
    last = {name: value for name, value in headers}
    text = b"".join(_relaxed_header(name, last[name]) + b"\r\n" for name in names)
    text += _relaxed_header("dkim-signature", start.encode())
    made = base64.b64encode(_key(pem).sign(text, padding.PKCS1v15(), hashes.SHA256())).decode()
    folded = "\r\n ".join(made[at : at + 72] for at in range(0, len(made), 72))
    return f"DKIM-Signature: {start}{folded}\r\n".encode() + mail


def _headers(head: bytes) -> list[tuple[str, bytes]]:
    """Names in lower case with their values, folded as they stand, in the order of the mail."""
    found: list[tuple[str, bytes]] = []
    for line in head.split(b"\r\n"):
        if line[:1] in (b" ", b"\t") and found:
            found[-1] = (found[-1][0], found[-1][1] + b"\r\n" + line)
        else:
            name, _, value = line.partition(b":")
            found.append((name.strip().decode("ascii", "replace").lower(), value))
    return found


def _relaxed_header(name: str, value: bytes) -> bytes:
    """Section 3.4.2: unfolded, runs of white space as one space, none at the ends."""
    return f"{name}:".encode() + _SPACES.sub(b" ", value.replace(b"\r\n", b"")).strip(b" \t")


def _relaxed_body(body: bytes) -> bytes:
    """Section 3.4.4: no white space at the ends of lines, runs as one space, no empty lines at the end."""
    lines = [_SPACES.sub(b" ", line).rstrip(b" ") for line in body.split(b"\r\n")]
    while lines and not lines[-1]:
        lines.pop()
    return b"\r\n".join(lines) + b"\r\n" if lines else b""
