"""Numbers out of addresses and forms: what is none, or is larger than any database holds, is not one."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable

from werkzeug.routing import IntegerConverter, ValidationError

LARGEST = 2**63 - 1


def whole(text: str | None, largest: int = LARGEST) -> int | None:
    """A whole number from 0; None where the text is none. Digits of other scripts are none."""
    text = (text or "").strip()
    if not (text.isascii() and text.isdigit() and len(text) <= 19):
        return None
    number = int(text)
    return number if number <= largest else None


def row_ids(texts: Iterable[str]) -> list[int]:
    """The rows' ids among these texts."""
    return [number for number in map(whole, texts) if number is not None]


class RowId(IntegerConverter):
    """`<int:…>` in an address: an id that the database can hold, else the page is not there."""

    def to_python(self, value: str) -> int:
        number = whole(value)
        if number is None:
            raise ValidationError
        return number


def moment(text: str) -> dt.datetime | None:
    """An aware moment (ISO 8601, RFC 3339) that an address holds; None for what is none."""
    try:
        found = dt.datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None and 1970 < found.year < 9999 else None
