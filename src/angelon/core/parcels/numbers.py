"""Parcels' numbers: whose one is, by its form and check digit, and the carrier's page about it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import quote

from angelon.core.countries import country_name
from angelon.core.specs.carrier import Carrier, NumberForm

MOST = 60
"""Signs of a number that are kept."""


def normal(number: str) -> str:
    """A number as it is compared: capitals, without what is written between its groups."""
    return re.sub(r"[^0-9A-Z]", "", number.upper())[:MOST]


def check_fits(check: str, number: str) -> bool:
    """Whether a number's check digit follows from its other digits. Numbers as `normal` gives them.

    `s10`: the ninth of the digits of two letters, nine digits, two letters (UPU S10). `mod7`: the last digit is what
    is left when the others, read as one number, are divided by 7. `mod10`: the others, weighted 3 and 1 in turn from
    the right, add up with it to a multiple of 10 (GS1 General Specifications, 7.9). `mod11`: the others, weighted 2 to
    7 in turn from the right, add up with it to a multiple of 11; what would be 10 is written X, or 0.
    """
    if check == "s10":
        digits = number[2:11]
        if not re.fullmatch(r"[A-Z]{2}\d{9}[A-Z]{2}", number):
            return False
        left = 11 - sum(int(d) * w for d, w in zip(digits, (8, 6, 4, 2, 3, 5, 9, 7), strict=False)) % 11
        return int(digits[8]) == {10: 0, 11: 5}.get(left, left)
    signs = re.sub(r"[^0-9X]", "", number)
    body, last = re.sub(r"\D", "", signs[:-1]), signs[-1:]
    if not body or not last:
        return False
    if check == "mod7":
        return last.isdigit() and int(body) % 7 == int(last)
    if check == "mod10":
        weighed = sum(int(d) * (3, 1)[n % 2] for n, d in enumerate(reversed(body)))
        return last.isdigit() and (weighed + int(last)) % 10 == 0
    if check == "mod11":
        weighed = sum(int(d) * (2 + n % 6) for n, d in enumerate(reversed(body)))
        left = -weighed % 11
        return last in ("X", "0") if left == 10 else last == str(left)
    return True


@lru_cache(maxsize=2000)
def _pattern(shape: str) -> re.Pattern[str]:
    signs = {"#": r"\d", "@": "[A-Z]", "*": "[A-Z0-9]"}
    return re.compile("".join(signs.get(sign, sign) for sign in shape) + r"\Z")


def fits(form: NumberForm, number: str) -> bool | None:
    """Whether a number has a form; None where it has all but the check digit."""
    if not _pattern(form.shape).match(number):
        return False
    return True if check_fits(form.check, number) else None


@dataclass(frozen=True, slots=True)
class Guess:
    """Whose a number may be, and why."""

    carrier: Carrier
    why: str
    weight: float
    wrong: bool = False
    """Whether its form fits and its check digit does not: a number with a slip in it, or somebody else's."""


def guesses(carriers: Iterable[Carrier], number: str, country: str = "") -> list[Guess]:
    """Whose a number may be, the likeliest first, by its form, its check digit and the country where it goes."""
    number, found = normal(number), []
    for carrier in carriers:
        if not carrier.on or not number:
            continue
        best: Guess | None = None
        for form in carrier.forms:
            if (fit := fits(form, number)) is False:
                continue
            fixed = sum(sign not in "#@*" for sign in form.shape)
            weight = (3.0 if form.check else 1.0 + min(fixed, 6) / 6) if fit else 0.1
            why = "its form and check digit fit" if form.check else "its form fits"
            one = Guess(carrier, why if fit else "its form fits, and its check digit does not", weight, fit is None)
            best = one if best is None or one.weight > best.weight else best
        if best is None:
            continue
        weight, why = best.weight, best.why
        if country and not carrier.goes_to(country):
            weight, why = weight - 1.5, f"{why}; it does not go to {country_name(country)}"
        elif country and country in carrier.default_for:
            weight, why = weight + 0.5, f"{why}, and it is the first choice for {country_name(country)}"
        found.append(Guess(carrier, why, weight, best.wrong))
    return sorted(found, key=lambda one: (-one.weight, one.carrier.key))


def settled(found: list[Guess]) -> Guess | None:
    """The guess that may be taken without asking: the only one that fits well, or clearly before the next."""
    good = [one for one in found if not one.wrong]
    if not good or good[0].weight < 1:
        return None
    return good[0] if len(good) == 1 or good[0].weight - good[1].weight >= 1 else None


def doubt(found: list[Guess]) -> str:
    """Why nobody can say whose a number is, though its form is some carrier's; empty where it is settled, or no
    carrier's at all.
    """
    if not found or settled(found) is not None:
        return ""
    named = " or ".join(f"{one.carrier.name} ({one.why})" for one in found[:3])
    return f"could be of {named}: name the carrier"


def page_of(carrier: Carrier, number: str, country: str = "", postcode: str = "", language: str = "") -> str:
    """The address of the carrier's own page about a parcel; empty where it has none, or needs what is not known."""
    given = {"number": normal(number), "postcode": postcode, "country": country, "language": language}
    for part, value in given.items():
        if f"{{{part}}}" in carrier.link and not value.strip(". "):
            return ""
    made = carrier.link
    for part, value in given.items():
        made = made.replace(f"{{{part}}}", quote(value.strip(), safe=""))
    return made
