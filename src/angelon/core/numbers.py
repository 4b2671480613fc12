"""Numbers that are written as text: which sign parts the decimals, and what can't be told.

"1.234,50" and "1,234.50" say themselves which is which. "12,500" does not: it is twelve and a half in one format,
twelve thousand five hundred in another. Whoever reads such a text has to know the format, or ask.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal, InvalidOperation
from typing import Any, Literal

Sign = Literal["", ".", ","]
"""The decimal sign of a format; empty where it is not known."""
LONGEST = 64
"""Characters of a text that is looked at as a number."""
MOST_NODES = 2000
"""Values of a payload that are looked at for its number format."""

_SPACES = "\u0020\u00a0\u202f\u2009'\u2019\u066c"
"""What parts groups of digits and can be nothing else."""
_PLAIN = str.maketrans({**dict.fromkeys(_SPACES, "'"), "\u2212": "-", "\u066b": ",", "\uff0e": ".", "\uff0c": ","})
_SIMPLE = re.compile(r"-?(?:0|[1-9][0-9]{0,14})(?:\.[0-9]{1,2})?")
_AMBIGUOUS = re.compile(r"[-+]?[1-9]\d{0,2}[.,]\d{3}")
_UNGROUPED = re.compile(r"[-+]?\d+(?:[.,]\d*)?(?:[eE][-+]?\d{1,3})?|[-+]?[.,]\d+")
_GROUPS = re.compile(r"[-+]?\d{1,3}(?:([.,'])\d{2,3})(?:\1\d{2,3})*")
"""Groups of three; of two before the last in South Asia."""


def simple(text: str) -> Decimal | None:
    """The number of a text that is one in the plainest way (`119.00`), as most are; None for all others."""
    return Decimal(text) if _SIMPLE.fullmatch(text) else None


def ambiguous(text: str) -> bool:
    """Whether a text is a number in two ways: one sign with three digits behind it, and one to three before."""
    return len(text) <= LONGEST and _AMBIGUOUS.fullmatch(_tidy(text)) is not None


def read_number(text: str, decimal: str = "") -> Decimal | None:
    """The number that a text says. None where it says none, or could say two and `decimal`, the format's decimal sign,
    is not given.

    A text that has one reading only is read that way whatever the format.
    """
    if len(text) > LONGEST:
        return None
    tidy = _tidy(text)
    if _AMBIGUOUS.fullmatch(tidy):
        if not decimal:
            return None
        return _decimal(tidy.replace(",", ".") if decimal in tidy else re.sub("[.,]", "", tidy))
    if _UNGROUPED.fullmatch(tidy):
        return _decimal(tidy.replace(",", "."))
    whole, sign, rest = tidy, "", ""
    last = max(tidy.rfind("."), tidy.rfind(","))
    if last >= 0 and (tidy.count(tidy[last]) == 1) and tidy[last + 1 :].isdigit():
        other = tidy[:last]
        if any(mark in other for mark in ".,'"):
            whole, sign, rest = other, ".", tidy[last + 1 :]
    groups = _GROUPS.fullmatch(whole)
    if groups is None or not re.search(r"\d{3}$", whole):
        return None
    return _decimal(re.sub("[.,']", "", whole) + sign + rest)


def decimal_sign(text: str) -> Sign:
    """The decimal sign that a text shows to be its format's; empty where it shows none."""
    if len(text) > LONGEST:
        return ""
    tidy = _tidy(text)
    if _AMBIGUOUS.fullmatch(tidy) or not any(mark in tidy for mark in ".,"):
        return ""
    last = max(tidy.rfind("."), tidy.rfind(","))
    if read_number(text) is None:
        return ""
    if tidy.count(tidy[last]) == 1:
        return "," if tidy[last] == "," else "."
    return "." if tidy[last] == "," else ","  # a sign that stands twice parts groups


def observed_sign(payload: Any) -> Sign:
    """The decimal sign of a payload's numbers in text; empty where none shows it, or they differ."""
    found = {sign for text in _texts(payload) if (sign := decimal_sign(text))}
    return found.pop() if len(found) == 1 else ""


def _tidy(text: str) -> str:
    return text.strip(" \t\r\n\u00a0\u202f").translate(_PLAIN)


def _decimal(text: str) -> Decimal | None:
    try:
        return Decimal(text)
    except InvalidOperation:
        return None


def _texts(payload: Any) -> Iterator[str]:
    stack = [payload]
    left = MOST_NODES
    while stack and left:
        value = stack.pop()
        left -= 1
        if isinstance(value, str):
            if value[:1].isdigit() or value[:1] in "-+.,":
                yield value
        elif isinstance(value, dict):
            stack.extend(value.values())
        elif isinstance(value, list):
            stack.extend(value)
