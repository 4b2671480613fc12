"""What is usual in a country: its language, currency and time zones (CLDR and the IANA database, as they ship)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from babel import Locale, localedata
from babel.numbers import get_territory_currencies

from angelon.core.timing.places import language_of, zones_of


@dataclass(frozen=True, slots=True)
class Country:
    code: str
    """ISO 3166-1, two letters."""
    name: str
    """In English."""
    language: str
    currency: str
    """ISO 4217; empty where it has none of its own."""
    zones: tuple[str, ...]


@lru_cache(maxsize=1)
def countries() -> tuple[Country, ...]:
    """Every country that has a time zone, by name."""
    found = []
    for code, name in Locale.parse("en").territories.items():
        zones = zones_of(code) if len(code) == 2 and code.isalpha() else ()
        if zones:
            money = get_territory_currencies(code)
            found.append(Country(code, str(name), language_of(code) or "en", money[0] if money else "", zones))
    return tuple(sorted(found, key=lambda country: country.name))


def country_name(code: str) -> str:
    """A country's name in English; its code where it is not known."""
    return str(_english().get(code, code))


@lru_cache(maxsize=1)
def _english() -> dict[str, str]:
    return dict(Locale.parse("en").territories)


@lru_cache(maxsize=1)
def languages() -> tuple[tuple[str, str], ...]:
    """Every language of two letters of which it is known how dates and amounts are written, with its English name, by
    name.
    """
    names = Locale.parse("en").languages.items()
    known = ((code, str(name)) for code, name in names if len(code) == 2 and localedata.exists(code))
    return tuple(sorted(known, key=lambda pair: pair[1]))


@lru_cache(maxsize=1)
def currencies() -> tuple[tuple[str, str], ...]:
    """Every currency that a country pays with today (CLDR), by code, with its English name."""
    used = {code for territory in _english() for code in get_territory_currencies(territory) if len(territory) == 2}
    names = Locale.parse("en").currencies
    return tuple(sorted((code, str(names.get(code, code))) for code in used))
