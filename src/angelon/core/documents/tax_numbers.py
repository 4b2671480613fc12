"""Tax numbers of businesses: their form by country (python-stdnum). Whether one is in use, a tax office knows."""

from __future__ import annotations

import re

from stdnum import get_cc_module
from stdnum.exceptions import ValidationError

from angelon.core.documents.rates import UNION

_PREFIX = {"GR": "EL"}
"""Where the prefix of a tax number is another one than the country's two letters."""
_MODULES = {"CH": ("ch", "vat"), "GB": ("gb", "vat"), "NO": ("no", "mva")}
LONGEST = 40


class BadTaxNumber(ValueError):
    """Why a tax number can't be one of its country, as the rest of a sentence that begins with it."""


def prefix_of(country: str) -> str:
    return _PREFIX.get(country, country)


def country_of(number: str) -> str:
    """The country that a number names by its first two letters; empty where it names none."""
    start = re.sub(r"[\W_]", "", number)[:2].upper()
    return {"EL": "GR"}.get(start, start) if start.isalpha() and len(start) == 2 else ""


def checked_number(country: str, number: str) -> str:
    """A tax number of a country in its plain form, with its prefix where it has one: `DE136695976`. Raises
    BadTaxNumber.
    """
    text = re.sub(r"[\s.\-/]", "", number).upper()
    if not text:
        raise BadTaxNumber("is empty")
    if len(text) > LONGEST:
        raise BadTaxNumber("is too long for a tax number")
    prefix = prefix_of(country)
    other = country_of(text)
    if country in UNION and other in UNION and other != country:
        raise BadTaxNumber(f"is a number of {other}, and the address is in {country}")
    if country in UNION and not text.startswith(prefix):
        text = prefix + text
    module = get_cc_module(*(_MODULES.get(country, (country.lower(), "vat"))))
    if module is None:
        return text  # nobody here knows what they look like there
    try:
        plain = str(module.validate(text))
    except ValidationError:
        raise BadTaxNumber(f"does not have the form of a tax number of {country}") from None
    return plain if country not in UNION or plain.startswith(prefix) else prefix + plain
