"""Names for events and sends: sortable by time, safe in a URL."""

from __future__ import annotations

import datetime as dt

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
_PAIRS = [a + b for a in _ALPHABET for b in _ALPHABET]


def make_id(prefix: str, now: dt.datetime, noise: int) -> str:
    """`prefix-` and 19 characters: 9 of time (milliseconds since 1970, base 32), 10 of `noise` (its low 50 bits)."""
    number = (int(now.timestamp() * 1000) << 50) | (noise & ((1 << 50) - 1))
    high, low = number >> 50, number & ((1 << 50) - 1)
    return (
        f"{prefix}-{_PAIRS[high >> 40 & 1023][1]}{_PAIRS[high >> 30 & 1023]}{_PAIRS[high >> 20 & 1023]}"
        f"{_PAIRS[high >> 10 & 1023]}{_PAIRS[high & 1023]}"
        + "".join(_PAIRS[low >> shift & 1023] for shift in (40, 30, 20, 10, 0))
    )
