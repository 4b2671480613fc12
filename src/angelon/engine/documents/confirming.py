"""Asks whoever knows whether a business's tax number is in use, and keeps what was answered as proof."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from urllib.parse import quote

import orjson

from angelon.core.documents.rates import UNION
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number, prefix_of
from angelon.core.specs.documents import Documents
from angelon.gateways.fetching import CantFetch, fetch

SECONDS = 8.0
FRESH, MOST = dt.timedelta(minutes=1), 200
"""How long an answer stands for the same question, which a page and what is made from it ask one after the other."""
_SAID: dict[str, tuple[dt.datetime, tuple[bool | None, str]]] = {}


def confirm(
    settings: Documents, home: str, country: str, number: str, private: Collection[str], now: dt.datetime
) -> tuple[bool | None, str]:
    """(whether a number is in use, what was answered): None where that is not asked, or could not be. Never raises."""
    wanted = settings.reverse_charge and settings.check_business and settings.check_url
    if not (wanted and number and country != home and {home, country} <= UNION):
        return None, ""
    try:
        plain = checked_number(country, number)
    except BadTaxNumber:
        return None, ""
    prefix = prefix_of(country)
    url = settings.check_url.replace("{country}", quote(prefix, safe="")).replace(
        "{number}", quote(plain.removeprefix(prefix), safe="")
    )
    known = _SAID.get(url)
    if known is not None and dt.timedelta() <= now - known[0] < FRESH:
        return known[1]
    answer = _asked(url, plain, private, now)
    if answer[0] is not None:  # where nobody could say, it is asked again
        if len(_SAID) >= MOST:
            _SAID.clear()
        _SAID[url] = now, answer
    return answer


def _asked(url: str, number: str, private: Collection[str], now: dt.datetime) -> tuple[bool | None, str]:
    try:
        answer = orjson.loads(fetch(url, private, 100_000, SECONDS, {"Accept": "application/json"}))
    except (CantFetch, orjson.JSONDecodeError) as error:
        return None, f"Could not be asked: {error}"
    valid = answer.get("valid") if isinstance(answer, dict) else None
    if not isinstance(valid, bool):
        return None, "The answer says nothing of “valid”."
    said = answer.get("name")
    who = f", held by {said[:100]}" if isinstance(said, str) and said.strip() else ""
    reference = answer.get("reference")
    mark = f", reference {reference[:60]}" if isinstance(reference, str) and reference else ""
    told = "in use" if valid else "not in use"
    return valid, f"{number} was answered to be {told}{who}{mark}, on {now.day} {now:%B %Y at %H:%M} UTC."
