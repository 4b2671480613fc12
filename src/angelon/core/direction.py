"""Which way a language is written, and values that are written the other way (UAX #9, the bidirectional algorithm)."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from angelon.core.values import locale_of

FIRST_STRONG, END = "\u2068", "\u2069"
"""FIRST STRONG ISOLATE and POP DIRECTIONAL ISOLATE: what they enclose is laid out by itself, in its own direction."""
_RTL_SIGNS = re.compile("[\u0590-\u08ff\u200f\ufb1d-\ufdff\ufe70-\ufefc\U00010800-\U00010fff\U0001e800-\U0001efff]")
_PLAIN = re.compile(r"\s*[\d٠-٩۰-۹]*\s*")


@lru_cache(maxsize=256)
def right_to_left(tag: str) -> bool:
    """Whether a language is written from right to left."""
    return locale_of(tag).text_direction == "rtl"


def isolated(text: str, tag: str) -> str:
    """A value as it goes into a text of this language: isolated where parts of it run the other way, so that it neither
    takes its neighbours along nor is torn apart.
    """
    if right_to_left(tag):
        other = not _PLAIN.fullmatch(text) and (
            not _RTL_SIGNS.search(text) or any(unicodedata.bidirectional(sign) == "L" for sign in text)
        )
    else:
        other = not text.isascii() and _RTL_SIGNS.search(text) is not None
    return f"{FIRST_STRONG}{text}{END}" if other else text
