"""Names for events and sends: sortable by time, safe in a URL."""

from __future__ import annotations

import datetime as dt
import hashlib

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


def sibling(prefix: str, id_: str) -> str:
    """The id of the one that comes about together with another: its letters behind another prefix."""
    return prefix + id_[id_.index("-") :]


def short(text: str) -> str:
    """What a text is told apart by, in 16 letters: 80 bits of its BLAKE2b (RFC 7693), so that of 10^9 no two are alike
    but with a chance of 1 in a million.
    """
    number = int.from_bytes(hashlib.blake2b(text.encode(), digest_size=10).digest(), "big")
    return "".join(_PAIRS[number >> at & 1023] for at in range(70, -1, -10))


def first_of(prefix: str, at: dt.datetime) -> str:
    """What stands before every id of a moment (aware) and of later ones, and after those of earlier ones."""
    return make_id(prefix, at, 0)[: len(prefix) + 10]


def time_of(id_: str | None) -> dt.datetime | None:
    """When an id was made (to the millisecond, UTC); None for what is none of ours."""
    time = (id_ or "").rpartition("-")[2][:9]
    if len(time) < 9 or not set(time) <= set(_ALPHABET):
        return None
    number = 0
    for sign in time:
        number = number * 32 + _ALPHABET.index(sign)
    return dt.datetime.fromtimestamp(number / 1000, dt.UTC)
