"""How a store signs, told from a delivery whose signature was refused: in which header it stands and in which form."""

from __future__ import annotations

import base64
import binascii
import datetime as dt
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from angelon.core.signatures import verify
from angelon.core.specs.source import Signing

_HEX = re.compile(r"^(.{0,20}?[=: ])?([0-9a-fA-F]{64})$")
_BASE64 = re.compile(r"^(.{0,20}?[=: ])?([A-Za-z0-9+/]{43}=)$")
_STAMP = re.compile(r"^\d{10}$")
_NAMED = re.compile(r"sign|hmac|digest|sha-?256", re.I)
MOST = 4
"""Headers that are tried."""
MOST_BYTES = 65_536
"""Bodies up to this size are tried with the source's secrets, and kept whole."""


@dataclass(frozen=True, slots=True)
class Guess:
    """A way of signing, and whether one of the source's secrets makes this very signature that way."""

    signing: Signing
    verified: bool


def guess(headers: Mapping[str, str], raw: bytes, secrets: Sequence[str], now: dt.datetime) -> Guess | None:
    """The way that a delivery seems to be signed: one that a secret verifies before one that only looks so; None where
    no header looks like a signature. `headers` has lower-case names, `now` is aware.
    """
    found = None
    for signing in _candidates(headers):
        if len(raw) <= MOST_BYTES and secrets and verify(signing, secrets, headers, raw, now) is None:
            return Guess(signing, True)
        found = found or Guess(signing, False)
    return found


def _candidates(headers: Mapping[str, str]) -> Iterator[Signing]:
    """The ways that may be meant, the likeliest first: headers named after signatures before others."""
    if all(headers.get(f"webhook-{part}") for part in ("id", "timestamp", "signature")):
        yield Signing(scheme="standard-webhooks")
    looking = [(name, form) for name, value in list(headers.items())[:60] if (form := _form(value.strip()))]
    looking.sort(key=lambda one: not _NAMED.search(one[0]))
    stamps = [name for name, value in headers.items() if _STAMP.match(value.strip())]
    for name, (encoding, prefix) in looking[:MOST]:
        for stamp in ("", *stamps[:2]):
            yield Signing(header=_written(name), encoding=encoding, prefix=prefix, timestamp_header=_written(stamp))


def _form(value: str) -> tuple[str, str] | None:
    """(encoding, prefix) of what looks like 32 bytes written out."""
    if found := _HEX.match(value):
        return "hex", found[1] or ""
    if found := _BASE64.match(value):
        try:
            base64.b64decode(found[2], validate=True)
        except (ValueError, binascii.Error):
            return None
        return "base64", found[1] or ""
    return None


def _written(name: str) -> str:
    """A header's name as people write it; case makes no difference (RFC 9110, section 5.1)."""
    return "-".join(part.capitalize() for part in name.split("-"))
