"""Names for events and sends: sortable by time, safe in a URL."""

from __future__ import annotations

import datetime as dt

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
_PAIRS = [a + b for a in _ALPHABET for b in _ALPHABET]


def make_id(prefix: str, now: dt.datetime, noise: int) -> str:
    """`prefix-` and 19 characters: 9 of time (milliseconds since 1970, base 32), 10 of `noise` (its low 50 bits)."""
    time, p = int(now.timestamp() * 1000), _PAIRS
    return (
        f"{prefix}-{_ALPHABET[time >> 40 & 31]}{p[time >> 30 & 1023]}{p[time >> 20 & 1023]}{p[time >> 10 & 1023]}"
        f"{p[time & 1023]}{p[noise >> 40 & 1023]}{p[noise >> 30 & 1023]}{p[noise >> 20 & 1023]}"
        f"{p[noise >> 10 & 1023]}{p[noise & 1023]}"
    )
