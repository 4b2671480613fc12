"""What a value looks like, from 0 (it can't be that) to 1, whatever it is called."""

from __future__ import annotations

import re
from decimal import Decimal
from functools import lru_cache
from typing import Any

from babel import Locale
from babel.numbers import list_currencies

from angelon.core.addresses import BadPhone, read_phone
from angelon.core.recipes.coerce import amount_of, day
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.values import number_of


def text_of(value: Any) -> str:
    if isinstance(value, str):
        return value.strip()
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else ""


def email(value: Any) -> float:
    return 1.0 if isinstance(value, str) and re.fullmatch(r"[^@\s<>]+@[^@\s<>]+\.[^@\s<>.]{2,}", value.strip()) else 0.0


def phone(value: Any, country: str = "") -> float:
    """`country` is where the number would be dialled (ISO 3166-1), where that is known."""
    text = text_of(value)
    if (
        not re.fullmatch(r"[+0-9(][\d\s()./-]{5,24}", text)
        or not 7 <= sum(c.isdigit() for c in text) <= 16
        or re.fullmatch(r"\d+\.\d+|\d{4}-\d{2}-\d{2}.*|\d{1,2}[./]\d{1,2}[./]\d{4}.*", text)
    ):
        return 0.0
    written = text.startswith(("+", "00"))
    if not written and not country and not text.startswith(("0", "(")):
        return 0.3 if not isinstance(value, int) else 0.0
    try:
        read_phone(text, None if written else country or "DE")
    except BadPhone:
        return 0.3
    return 1.0 if written else 0.75


@lru_cache(maxsize=1)
def _countries() -> frozenset[str]:
    return frozenset(code for code in map(str, Locale.parse("en").territories) if len(code) == 2 and code.isalpha())


@lru_cache(maxsize=1)
def _languages() -> frozenset[str]:
    return frozenset(code for code in map(str, Locale.parse("en").languages) if len(code) == 2)


@lru_cache(maxsize=1)
def _currencies() -> frozenset[str]:
    return frozenset(list_currencies())


def currency(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip().upper() in _currencies() else 0.0


def country(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip() in _countries() else 0.0


def language(value: Any) -> float:
    text = value.strip() if isinstance(value, str) else ""
    return 1.0 if re.fullmatch(r"[a-z]{2}([-_][A-Za-z]{2})?", text) and text[:2] in _languages() else 0.0


def money(value: Any) -> float:
    number = _amount(value)
    if number is None or number < 0:
        return 0.0
    return 1.0 if isinstance(value, float) or re.search(r"[.,]\d{2}(\D{0,4})$", str(value)) else 0.7


def reduction(value: Any) -> float:
    """An amount that is taken off, with or without its minus sign."""
    number = _amount(value)
    return (
        money(str(value).replace("-", "").replace("\u2212", "")) if number is not None and number < 0 else money(value)
    )


def _amount(value: Any) -> Decimal | None:
    """An amount, in a text with its currency too."""
    if isinstance(value, bool) or (number := number_of(value, ".")) is not None:
        return None if isinstance(value, bool) else number
    if not isinstance(value, str):
        return None
    try:
        return amount_of(value, "", Context(decimal="."))[0]
    except StepFailed:
        return None


def date(value: Any) -> float:
    text = text_of(value)
    if re.fullmatch(r"(\d{1,2}[./]\d{1,2}[./]\d{4}|\d{4}/\d{2}/\d{2})([ T]\d{1,2}:\d{2}(:\d{2})?)?", text):
        return 0.95
    try:
        day(value, Context())
    except StepFailed:
        return 0.0
    return 0.7 if isinstance(value, int | float) or text.isdigit() else 1.0


def person(value: Any) -> float:
    text = text_of(value)
    if (
        not text
        or len(text) > 60
        or any(c.isdigit() for c in text)
        or "@" in text
        or not any(c.isalpha() for c in text)
        or re.search(r"[_/:;{}<>=]", text)
    ):
        return 0.0
    if len(text) <= 3 and text.isupper():
        return 0.1
    return 1.0 if len(text.split()) in (2, 3, 4) and text[0].isupper() else 0.6


def status(value: Any) -> float:
    return (
        1.0
        if isinstance(value, str) and re.fullmatch(r"[^\W\d_][\w \-.]{2,39}", value.strip()) and not email(value)
        else 0.0
    )


def number(value: Any) -> float:
    """A number that people read, such as `BK-7` or `#2044`."""
    text = text_of(value)
    if not text or len(text) > 40 or " " in text or "@" in text or not any(c.isdigit() for c in text):
        return 0.0
    if re.fullmatch(r"[A-Za-z#]{1,6}[-_/#]?[\w\-/]*\d[\w\-/]*", text) and not re.fullmatch(r"[0-9a-f-]{32,}", text):
        return 1.0
    return 0.7 if text.isdigit() and len(text) <= 10 else 0.3


def tracking(value: Any) -> float:
    """A parcel's number, which is often written in groups."""
    return number(text_of(value).replace(" ", ""))


def identifier(value: Any) -> float:
    text = text_of(value)
    if not text or len(text) > 64 or " " in text or "@" in text or not any(c.isdigit() for c in text):
        return 0.0
    return 1.0 if text.isdigit() or re.fullmatch(r"[0-9a-fA-F-]{16,}", text) else 0.8


def words_of_text(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip() and any(c.isalpha() for c in value) else 0.0


def quantity(value: Any) -> float:
    found = number_of(value, ".")
    return 1.0 if found is not None and 0 < found < 10000 and found == found.to_integral_value() else 0.0


def link(value: Any) -> float:
    return 1.0 if isinstance(value, str) and value.strip().startswith(("http://", "https://")) else 0.0


def date_format(text: str) -> str:
    """How a date that is not ISO 8601 is written, day before month."""
    match = re.fullmatch(r"\d{1,2}([./])\d{1,2}[./]\d{4}(?:([ T])\d{1,2}:\d{2}(:\d{2})?)?", text)
    if match:
        return f"%d{match[1]}%m{match[1]}%Y" + (f"{match[2]}%H:%M" if match[2] else "") + (":%S" if match[3] else "")
    match = re.fullmatch(r"\d{4}/\d{2}/\d{2}(?:([ T])\d{1,2}:\d{2}(:\d{2})?)?", text)
    if match:
        return "%Y/%m/%d" + (f"{match[1]}%H:%M" if match[1] else "") + (":%S" if match[2] else "")
    return ""
