"""Regular expressions that people write, within bounds: of length, and of time. Pure."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import regex

LONGEST = 500
SECONDS = 0.2


class BadPattern(ValueError):
    """What is wrong with an expression, as a sentence."""


@lru_cache(maxsize=256)
def compiled(pattern: str) -> Any:
    """An expression, compiled. Raises BadPattern."""
    if len(pattern) > LONGEST:
        raise BadPattern(f"The regular expression is longer than {LONGEST} characters.")
    try:
        return regex.compile(pattern)
    except regex.error as error:
        where = f"{error.msg} at character {(error.pos or 0) + 1}"
        raise BadPattern(f"“{pattern}” is no regular expression: {where}.") from None


def groups_in(pattern: str, text: str) -> dict[str, str]:
    """What the named groups of an expression find; nothing where it finds nothing. Raises BadPattern where it takes too
    long.
    """
    try:
        found = compiled(pattern).search(text, timeout=SECONDS)
    except TimeoutError:
        raise BadPattern(f"“{pattern[:60]}” took too long on this text: no repeats inside repeats.") from None
    return {name: value for name, value in found.groupdict().items() if value is not None} if found else {}
