"""Names for events and sends: sortable by time, safe in a URL."""

from __future__ import annotations

import datetime as dt

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"


def make_id(prefix: str, now: dt.datetime, noise: int) -> str:
    """`prefix-` and 19 characters: 9 of time (milliseconds since 1970, base 32), 10 of `noise` (its low 50 bits)."""
    number = (int(now.timestamp() * 1000) << 50) | (noise & ((1 << 50) - 1))
    letters = [_ALPHABET[(number >> shift) & 31] for shift in range(90, -1, -5)]
    return f"{prefix}-{''.join(letters)}"
