"""Whose clock and whose holidays: a reader's time zone from country and phone number, a country's public holidays."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from importlib.resources import files
from zoneinfo import ZoneInfo

import phonenumbers
from babel.core import get_global
from phonenumbers import timezone as phone_zones


@lru_cache(maxsize=1)
def _zones() -> dict[str, list[str]]:
    """The zones of each country (IANA database, zone.tab)."""
    found: dict[str, list[str]] = {}
    for line in (files("tzdata") / "zoneinfo" / "zone.tab").read_text().splitlines():
        if line and not line.startswith("#"):
            country, _, name = line.split("\t")[:3]
            found.setdefault(country, []).append(name)
    return found


def zones_of(country: str) -> tuple[str, ...]:
    """The time zones of a country (ISO 3166-1); none where it is not known."""
    return tuple(_zones().get(country.upper(), ()))


@lru_cache(maxsize=512)
def _one_clock(names: tuple[str, ...]) -> bool:
    """Whether zones show the same time in every month of some years, as far as the IANA database tells."""
    moments = [
        dt.datetime(year, month, 15, 12, tzinfo=dt.UTC) for year in range(2024, 2040, 3) for month in range(1, 13)
    ]
    return (
        len({tuple(ZoneInfo(name).utcoffset(at.astimezone(ZoneInfo(name))) for at in moments) for name in names}) == 1
    )


@lru_cache(maxsize=4096)
def zone_of(country: str, phone: str, otherwise: str) -> tuple[ZoneInfo, str]:
    """A reader's zone and how it is known. A country with one zone settles it; else the number's region; else the
    store's zone.
    """
    names = _zones().get(country.upper(), [])
    if names and (len(names) == 1 or _one_clock(tuple(names))):
        return ZoneInfo(names[0]), f"the time in {names[0].rpartition('/')[2].replace('_', ' ')}"
    if phone.startswith("+"):
        try:
            by_number = [
                name
                for name in phone_zones.time_zones_for_number(phonenumbers.parse(phone))
                if not names or name in names
            ]
        except phonenumbers.NumberParseException:
            by_number = []
        if len(by_number) == 1:
            return ZoneInfo(
                by_number[0]
            ), f"the time in {by_number[0].rpartition('/')[2].replace('_', ' ')}, by the number"
    if names and otherwise not in names:
        return ZoneInfo(
            names[0]
        ), f"the time in {names[0].rpartition('/')[2].replace('_', ' ')}, one of {len(names)} there"
    return ZoneInfo(otherwise), "the shop’s time"


@lru_cache(maxsize=64)
def _days_off(country: str, year: int) -> frozenset[dt.date]:
    import holidays  # a tenth of a second, for those who need it

    try:
        return frozenset(holidays.country_holidays(country, years=year))
    except NotImplementedError:
        return frozenset()


def is_holiday(country: str, day: dt.date) -> bool:
    """Whether a day is a public holiday in all of a country (ISO 3166-1); False where its holidays are not known."""
    return bool(country) and day in _days_off(country.upper(), day.year)


@lru_cache(maxsize=512)
def language_of(country: str) -> str:
    """The language that most people of a country write (CLDR, likely subtags); empty where it is not known."""
    likely = str(get_global("likely_subtags").get(f"und_{country.upper()}", ""))
    return likely.partition("_")[0]
