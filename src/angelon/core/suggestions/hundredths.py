"""Whether amounts are probably told in a currency's smallest unit (cents, öre), which no payload says by itself."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

LEAST, DISTINCT = 1000, 2
"""An amount that large there has to be, and so many different ones, before it is asked about."""


def probable(amounts: Iterable[Any]) -> bool:
    """Whether it should be asked: all amounts (raw values of payloads) are whole numbers, none with a decimal sign.
    They may be whole all the same: a person says which.
    """
    seen: set[int] = set()
    for value in amounts:
        if isinstance(value, bool) or value is None or value == "":
            continue
        text = str(value).strip()
        if not (isinstance(value, int | str) and text.isascii() and text.isdigit()):
            return False
        seen.add(int(text[:20]))
    seen.discard(0)
    return len(seen) >= DISTINCT and max(seen) >= LEAST
