"""The values that variables hold, and how each is shown to a reader in their language.

A value stays typed (an amount with its currency, a day) until the moment it is shown, so that a condition can
compare it and a message can show it in the reader's locale.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Context, Decimal, localcontext
from functools import lru_cache
from typing import Any, TypeAlias

from babel import Locale, UnknownLocaleError
from babel.dates import format_date, format_datetime, format_time
from babel.lists import format_list
from babel.numbers import format_currency, format_decimal, get_currency_precision, get_decimal_symbol

from angelon.core.numbers import read_number, simple


@dataclass(frozen=True, slots=True)
class Money:
    """An amount in a currency. `currency` is an ISO 4217 code."""

    amount: Decimal
    currency: str


@dataclass(frozen=True, slots=True)
class Day:
    """A calendar day or a moment, with how it wants to be shown.

    `value` is a date, or an aware datetime already moved to the zone in which it is to be read. `format` is a CLDR
    style ("short", "medium", "long", "full", "day" for weekday and day without the year) or a CLDR pattern.
    """

    value: dt.date
    format: str = "long"


MAX_DIGITS = 28
"""Digits that a number may have: what decimal arithmetic keeps exactly, and more than any amount needs."""
FIRST_YEAR, LAST_YEAR = 1000, 9000
"""Years between which a date is taken to be meant. Outside them stand "no date" (0001-01-01) and "never" (9999-12-31).
"""
_PRECISE = Context(prec=120, rounding=ROUND_HALF_UP)
_WORDS_FOR_NO = ("a number with more than 28 digits", "a date outside the years 1000 to 9000")

Value: TypeAlias = Any  # None, bool, int, float, Decimal, str, Money, Day, date, datetime, list, dict


@lru_cache(maxsize=256)
def locale_of(tag: str) -> Locale:
    """The CLDR locale of a BCP 47 tag; English where nobody knows it."""
    try:
        return Locale.parse(tag.replace("_", "-"), sep="-")
    except (UnknownLocaleError, ValueError):
        return Locale.parse("en")


@lru_cache(maxsize=256)
def regional(tag: str, country: str) -> str:
    """A language as it is written in a country (`en`, `IE` → `en-IE`), where CLDR knows it so; else the tag as
    it is.
    """
    if "-" in tag or not country:
        return tag
    try:
        Locale.parse(f"{tag}-{country}", sep="-")
    except (UnknownLocaleError, ValueError):
        return tag
    return f"{tag}-{country}"


@lru_cache(maxsize=1024)
def format_locale(text: str, reader: str, country: str) -> str:
    """How numbers and days of a text are written: as its reader's region has them where it is in the reader's language
    (`en`, `en-GB` → `en-GB`), else as the shop's country does. A text of a region of its own is written as there.
    """
    parts = reader.split("-") if reader.partition("-")[0] == text.partition("-")[0] else []
    region = next((part for part in parts[1:] if re.fullmatch("[A-Z]{2}|[0-9]{3}", part)), "")
    made = regional(text, region)
    return made if made != text else regional(text, country)


@lru_cache(maxsize=256)
def _without_year(locale: Locale) -> str:
    """The full date pattern of a locale with the year taken out ("Tuesday 10 November")."""
    pattern = locale.date_formats["full"].pattern
    quoted = r"(?:'[^']*'\s*)*"
    pattern = re.sub(rf"[,.]?\s*{quoted}y+(?:\s*'[^']*')*\s*[,年]?\s*", " ", pattern)
    return pattern.strip(" ,") or "EEEE d MMMM"


def show_day(day: Day, tag: str) -> str:
    """A day or moment as a reader of that locale writes it."""
    moment = day.value
    return _day_shown(day, tag, str(moment.tzinfo) if isinstance(moment, dt.datetime) else "")


@lru_cache(maxsize=4096)
def _day_shown(day: Day, tag: str, zone: str) -> str:
    """`zone` tells one moment by two clocks apart, which are equal to Python."""
    locale = locale_of(tag)
    if day.format == "day":
        return format_date(day.value, _without_year(locale), locale=locale)
    if isinstance(day.value, dt.datetime):
        if day.format not in ("short", "medium", "long", "full"):
            return format_datetime(day.value, day.format, tzinfo=day.value.tzinfo, locale=locale)
        time = format_time(day.value, "short", tzinfo=day.value.tzinfo, locale=locale)
        return (
            str(locale.datetime_formats["medium"])
            .replace("{1}", format_date(day.value, day.format, locale=locale))
            .replace("{0}", time)
        )
    return format_date(day.value, day.format, locale=locale)


@lru_cache(maxsize=4096)
def show_money(money: Money, tag: str) -> str:
    """An amount in the locale's form, rounded half up to the currency's own digits."""
    digits = get_currency_precision(money.currency)
    with localcontext(_PRECISE):
        amount = money.amount.quantize(Decimal(1).scaleb(-digits), rounding=ROUND_HALF_UP)
        return format_currency(amount, money.currency, locale=locale_of(tag))


@lru_cache(maxsize=4096, typed=True)
def _show_number(number: float | Decimal, tag: str) -> str:
    with localcontext(_PRECISE):
        return str(format_decimal(number, locale=locale_of(tag)))


def show(value: Value, tag: str = "en") -> str:
    """Any value as text for a reader of the locale `tag`; an absent one is the empty text. Never raises."""
    try:
        return _shown(value, tag)
    except (
        ArithmeticError,
        ValueError,
        TypeError,
        LookupError,
        AttributeError,
        RecursionError,
    ):  # no value of ours; pages show stored ones, too
        return _plainly(value)


def _plainly(value: Value) -> str:
    """Some text for a value that can't be shown as what it is."""
    try:
        return str(value.amount if isinstance(value, Money) else value)[:200]
    except (ValueError, RecursionError):  # an int of more than 4,300 digits, a list in itself
        return "…"


def _is_short(number: Decimal) -> bool:
    """Whether a number is written in a few plain digits, as most are: it is fit whatever else is asked."""
    text = str(number)
    return len(text) <= 20 and text.lstrip("-").replace(".", "", 1).isdigit()


def _is_plain(text: str) -> bool:
    return text.isascii() and "\x00" not in text


def unfit(value: Value, depth: int = 0) -> str:
    """What there is in a value that no calculation, page or database can take; empty where it is fit."""
    kind = type(value)
    if kind is Money:
        value = value.amount
        kind = type(value)
    if value is None or (kind is str and _is_plain(value)) or (kind is Decimal and _is_short(value)):
        return ""  # as most are
    if isinstance(value, str):
        if "\x00" in value:
            return "a NUL character"
        if not value.isascii() and any("\ud800" <= c <= "\udfff" for c in value):
            return "half a surrogate pair, which is no character"
        return ""
    if isinstance(value, bool):
        return ""
    if isinstance(value, int):
        return "" if abs(value) < 10**MAX_DIGITS else _WORDS_FOR_NO[0]
    if isinstance(value, float):
        return "" if abs(value) < 10.0**MAX_DIGITS else _WORDS_FOR_NO[0]
    if isinstance(value, Decimal):
        exponent = value.as_tuple().exponent  # a letter for what is not finite
        fits = isinstance(exponent, int) and value.adjusted() < MAX_DIGITS and exponent >= -2 * MAX_DIGITS
        return "" if fits else _WORDS_FOR_NO[0]
    if isinstance(value, Day):
        return unfit(value.value)
    if isinstance(value, dt.date):
        return "" if FIRST_YEAR <= value.year <= LAST_YEAR else _WORDS_FOR_NO[1]
    if isinstance(value, dict | list | tuple):
        if depth > 80:
            return "more than 80 levels of nesting"
        inner = [*value.keys(), *value.values()] if isinstance(value, dict) else value
        for item in inner:
            if type(item) is str and _is_plain(item):
                continue
            if found := unfit(item, depth + 1):
                return found
    return ""


def _shown(value: Value, tag: str) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str):
        return value
    if isinstance(value, int):
        return str(value)
    if isinstance(value, Money):
        return show_money(value, tag)
    if isinstance(value, Day):
        return show_day(value, tag)
    if isinstance(value, dt.date):
        return show_day(Day(value), tag)
    if isinstance(value, float | Decimal):
        return _show_number(value, tag)
    if isinstance(value, list | tuple):
        return format_list([show(item, tag) for item in value], locale=locale_of(tag)) if value else ""
    if isinstance(value, dict):
        named = next((value[k] for k in ("name", "title", "sku") if value.get(k)), None)
        return (
            show(named, tag) if named else ", ".join(f"{k} {show(v, tag)}" for k, v in value.items() if v is not None)
        )
    return str(value)


@lru_cache(maxsize=256)
def sign_of_language(tag: str) -> str:
    """The decimal sign of a language (`de`: a comma), by CLDR; a point where it has another."""
    return "," if get_decimal_symbol(locale_of(tag)) in (",", "\u066b") else "."


def number_of(value: Value, decimal: str = "") -> Decimal | None:
    """The number that a value is or says; None where it says none.

    "1.234,50", "1,234.50", "1234.5" and 1234.5 are the same number. "1,250" is two: it is read where the format's
    decimal sign is given, and is None where it is not (`numbers.ambiguous` tells the two apart).
    """
    if isinstance(value, bool) or value is None:
        return None
    if isinstance(value, Money):
        return value.amount
    if isinstance(value, int | Decimal):
        return None if unfit(value) else Decimal(value)
    if isinstance(value, float):
        number = Decimal(repr(value))
    elif isinstance(value, str):
        plain = simple(value)
        if plain is not None:
            return plain
        found = read_number(value, decimal)
        if found is None:
            return None
        number = found
    else:
        return None
    return (
        number
        if number.is_finite()
        and abs(number.adjusted()) < MAX_DIGITS
        and len(number.as_tuple().digits) <= 2 * MAX_DIGITS
        else None
    )


_AS_IT_IS = frozenset({str, bool, type(None)})
_PLAIN = _AS_IT_IS | {int, float}


def pack(value: Value) -> Any:
    """A value as plain JSON, types kept: what is stored with a send."""
    kind = type(value)
    if kind in _AS_IT_IS:
        return value
    if kind is Money:
        return {"$money": [str(value.amount), value.currency]}
    return _pack_list(value) if kind is list else _pack_dict(value) if kind is dict else _pack_other(value)


def _pack_list(value: list[Value] | tuple[Value, ...]) -> list[Any]:
    return [one if type(one) in _AS_IT_IS else pack(one) for one in value]


def _pack_dict(value: dict[str, Value]) -> dict[str, Any]:
    plain = {str(k): v if type(v) in _AS_IT_IS else pack(v) for k, v in value.items()}
    return (
        {"$object": plain} if len(plain) == 1 and next(iter(plain)).startswith("$") else plain
    )  # a payload's own $-key is no type of ours


def _pack_other(value: Value) -> Any:
    if isinstance(value, str | bool):
        return value
    if isinstance(value, Day):
        kind = "$moment" if isinstance(value.value, dt.datetime) else "$day"
        return {kind: [value.value.isoformat(), value.format, _zone_name(value.value)]}
    if isinstance(value, dt.datetime):
        return {"$moment": [value.isoformat(), "long", _zone_name(value)]}
    if isinstance(value, dt.date):
        return {"$day": [value.isoformat(), "long", None]}
    if isinstance(value, Decimal):
        return {"$number": str(value)}
    if isinstance(value, list | tuple):
        return _pack_list(value)
    if isinstance(value, dict):
        return _pack_dict(value)
    if isinstance(value, int) and not -(2**63) <= value < 2**63:
        return {"$number": str(value)} if abs(value) < 10**MAX_DIGITS else value
    return value


def unpack(value: Any) -> Value:
    """The value that `pack` made this JSON from."""
    if isinstance(value, list):
        return [item if type(item) in _PLAIN else unpack(item) for item in value]
    if not isinstance(value, dict):
        return value
    if len(value) == 1:
        (kind, body), *_ = value.items()
        if kind in _UNPACK:
            try:
                return _UNPACK[kind](body)
            except (
                ArithmeticError,
                ValueError,
                TypeError,
                LookupError,
                AttributeError,
            ):  # stored by something else: as it stands
                return value
    return {k: v if type(v) in _PLAIN else unpack(v) for k, v in value.items()}


def _unpack_moment(body: Any) -> Day:
    moment = dt.datetime.fromisoformat(body[0])
    if body[2]:
        from zoneinfo import ZoneInfo

        moment = moment.astimezone(ZoneInfo(body[2]))
    return Day(moment, body[1])


_UNPACK: dict[str, Callable[[Any], Value]] = {
    "$money": lambda body: Money(Decimal(body[0]), body[1]),
    "$day": lambda body: Day(dt.date.fromisoformat(body[0]), body[1]),
    "$moment": _unpack_moment,
    "$number": Decimal,
    "$object": lambda body: {key: unpack(item) for key, item in body.items()},
}


def _zone_name(moment: dt.date) -> str | None:
    return getattr(getattr(moment, "tzinfo", None), "key", None)
