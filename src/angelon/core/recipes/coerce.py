"""A value as the type that a step or a variable needs, or the reason why it can't be that."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

import regex
from babel.numbers import get_currency_precision, list_currencies
from email_validator import EmailNotValidError

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.numbers import LONGEST, ambiguous, simple
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.specs.variable import Type
from angelon.core.values import MAX_DIGITS, Day, Money, Value, number_of, show, unfit

_FLAGS = {
    "true": True,
    "yes": True,
    "1": True,
    "on": True,
    "false": False,
    "no": False,
    "0": False,
    "off": False,
    "": False,
}


def named(value: Value) -> str:
    """What a value is, in words: for messages to a person."""
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "yes or no"
    if isinstance(value, list):
        return f"a list of {len(value)}"
    if isinstance(value, dict):
        return "an object"
    if isinstance(value, str):
        return f"the text “{value[:40]}{'…' if len(value) > 40 else ''}”"
    if isinstance(value, Money):
        return "an amount of money"
    if isinstance(value, Day | dt.date):
        return "a date"
    if isinstance(value, int | float | Decimal) and unfit(value):
        return "a number with far too many digits"
    return f"the number {value}"


def text(value: Value, context: Context) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, list | dict):
        raise StepFailed(
            f"It takes text, and this is {named(value)}.",
            "Add pick and join before it." if isinstance(value, list) else "Choose a field inside it.",
        )
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, float | Decimal):
        return str(value)
    return show(value, context.locale)


def number(value: Value, context: Context) -> Decimal:
    found = number_of(value)
    if found is None and isinstance(value, str) and ambiguous(value):
        found = number_of(value, context.decimal_sign())
        if found is None:
            raise StepFailed(*two_readings(value))
    if found is None:
        if unfit(value):
            raise StepFailed(f"It takes a number of at most {MAX_DIGITS} digits, and this is {named(value)}.")
        raise StepFailed(f"It takes a number, and this is {named(value)}.")
    return found


def money(value: Value, context: Context) -> Money:
    if isinstance(value, Money):
        return value
    amount, currency = amount_of(value, context.currency, context)
    if not currency:
        raise StepFailed("No currency is known for this amount.", "Add the step money and say which.")
    return Money(amount, currency)


def two_readings(text: str) -> tuple[str, str]:
    """What is wrong with a text that is a number in two ways, and what to do."""
    tidy = text.strip()[:40]
    return (
        f"“{tidy}” can be read as {show(number_of(text, '.'))} or as {show(number_of(text, ','))}.",
        "Say on the source's page, under Connect, how its numbers are written.",
    )


_SIGNS = {
    **{"€": "EUR", "£": "GBP", "₹": "INR", "₩": "KRW", "₺": "TRY", "₫": "VND", "₪": "ILS", "₴": "UAH", "₱": "PHP"},
    **{"R$": "BRL", "zł": "PLN", "Kč": "CZK", "Ft": "HUF", "лв": "BGN", "₽": "RUB", "A$": "AUD", "C$": "CAD"},
}
"""Signs that stand for one currency. Others, like $ and kr, are taken for the order's."""
_SIGN = r"(?:[A-Z]{1,2})?\p{Sc}|kr|zł|Kč|Ft|лв|lei|Fr"
_WITH_CURRENCY = regex.compile(
    rf"(?:([A-Z]{{3}})|({_SIGN})\.?)?\s*([-+−]?[\d.,'’\s٬٫]*\d)\s*(?:([A-Z]{{3}})|({_SIGN})\.?)?"
)


def amount_of(value: Value, currency: str, context: Context) -> tuple[Decimal, str]:
    """An amount as a number, and its currency: the one that the text itself names, else `currency`.

    Where a text could be read in two ways and nothing shows the format, the currency's own decimals decide: an amount
    of a currency with fewer than three has no three of them (ISO 4217). Raises StepFailed where they don't either.
    """
    if not isinstance(value, str):
        return number(value, context), currency
    plain = simple(value)
    if plain is not None:
        return plain, currency
    found = _WITH_CURRENCY.fullmatch(value.strip()) if len(value) <= LONGEST else None
    text = value
    if found is not None and any(found[group] for group in (1, 2, 4, 5)):
        code, sign = found[1] or found[4], found[2] or found[5]
        if code is None or code in _currencies():
            text, currency = found[3], code or _SIGNS.get(sign, currency)
    if ambiguous(text):
        sign = context.decimal_sign()
        if not sign and currency and get_currency_precision(currency) < 3:
            sign = "." if "," in text else ","
        if not sign:
            raise StepFailed(*two_readings(text))
        read = number_of(text, sign)
        assert read is not None
        return read, currency
    return number(text, context), currency


@lru_cache(maxsize=1)
def _currencies() -> frozenset[str]:
    return frozenset(list_currencies())


_ISO = re.compile(r"\d{4}-?\d{2}-?\d{2}")


def day(value: Value, context: Context) -> Day:
    """A day or moment from ISO 8601 text, or from seconds or milliseconds since 1970 (told apart by size)."""
    if isinstance(value, Day):
        return value
    if isinstance(value, dt.datetime):
        return Day(context.in_zone(value))
    if isinstance(value, dt.date):
        return Day(value)
    if isinstance(value, str) and _ISO.match(value.strip()) and len(value) <= 40:
        tidy = value.strip()
        try:
            if len(tidy) <= 10:
                return Day(dt.date.fromisoformat(tidy))
            return Day(context.in_zone(dt.datetime.fromisoformat(tidy)))
        except (ValueError, OverflowError):
            pass
    if isinstance(value, int | float | Decimal) and not isinstance(value, bool) and not unfit(value):
        return Day(context.in_zone(epoch(float(value))))
    if isinstance(value, str) and re.fullmatch(r"\d{9,10}|\d{12,13}", value.strip()):
        return Day(context.in_zone(epoch(float(value))))
    raise StepFailed(
        f"It takes a date, and this is {named(value)}.", "Add the step parse_date and say how it is written."
    )


def epoch(number: float) -> dt.datetime:
    """A moment from seconds since 1970, or milliseconds where the number is too large for seconds. UTC."""
    seconds = number / 1000 if abs(number) >= 1e11 else number
    if not 1e8 <= abs(seconds) <= 1e10:
        raise StepFailed(f"{number:.0f} is no plausible time in seconds or milliseconds since 1970.")
    return dt.datetime.fromtimestamp(seconds, dt.UTC)


def items(value: Value, context: Context) -> list[Any]:
    if isinstance(value, list):
        return value
    if value is None:
        raise StepFailed(f"It takes a list, and this is {named(value)}.")
    return [value]  # one item, such as the only parcel of an event


def email(value: Value, context: Context) -> str:
    try:
        return check_email(text(value, context).strip(" "))
    except EmailNotValidError as error:
        raise StepFailed(f"This is no email address: {named(value)}. {error}") from None


def phone(value: Value, context: Context) -> str:
    try:
        return phone_text(read_phone(text(value, context), context.country or None))
    except BadPhone as error:
        raise StepFailed(str(error), "Add the step phone and say which region national numbers are of.") from None


def url(value: Value, context: Context) -> str:
    """An absolute http or https address. White space at its ends, as pasting leaves it, is taken off."""
    address = text(value, context).strip()
    try:
        parts = urlsplit(address)
        host = parts.hostname
    except ValueError:
        host, parts = None, None
    if (
        parts is None
        or parts.scheme not in ("http", "https")
        or not host
        or any(c.isspace() or ord(c) < 32 for c in address)
    ):
        raise StepFailed(
            f"This is no web address: {named(value)}.", "It has to start with https:// and hold no spaces."
        )
    return address


def flag(value: Value, context: Context) -> bool:
    if isinstance(value, bool):
        return value
    if isinstance(value, int | float) and value in (0, 1):
        return bool(value)
    if isinstance(value, str) and value.strip().lower() in _FLAGS:
        return _FLAGS[value.strip().lower()]
    raise StepFailed(f"It takes yes or no, and this is {named(value)}.")


def scalar(value: Value, context: Context) -> Value:
    """What a text variable may hold: anything that is shown as one text."""
    if isinstance(value, str):
        return value
    if isinstance(value, Money | Day):
        return value
    return text(value, context)


_AS = {
    Type.TEXT: scalar,
    Type.NUMBER: number,
    Type.MONEY: money,
    Type.DATE: day,
    Type.PHONE: phone,
    Type.EMAIL: email,
    Type.URL: url,
    Type.LIST: items,
    Type.FLAG: flag,
}


def as_type(value: Value, wanted: Type, context: Context) -> Value:
    """The value as a variable's type. Raises StepFailed with the reason."""
    return _AS[wanted](value, context)
