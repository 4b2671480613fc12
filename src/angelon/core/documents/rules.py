"""Whose tax a sale is under, and by which rule: the first of these that fits, with its reason. Pure.

The rules follow the directive of the European Union on value-added tax (2006/112/EC: articles 31 to 35, 59c, 138, 146,
282 to 292, 369a and following) as plainly as a shop of goods needs them. What they leave out is said in the guide:
services, goods that are sent from several countries, excise goods, margin schemes, regions with rates of their own.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal

from angelon.core.countries import country_name
from angelon.core.documents.rates import UNION, rate_on
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number

Scheme = Literal["small", "domestic", "registered", "reverse_charge", "one_stop", "threshold", "export"]
CATEGORIES: dict[str, tuple[str, str]] = {
    "small": ("E", ""),
    "reverse_charge": ("K", "VATEX-EU-IC"),
    "export": ("G", "VATEX-EU-G"),
}
"""Category of tax (UNTDID 5305) and code of exemption (VATEX) of the schemes that name no tax."""


class HeldBack(ValueError):
    """Why there is no document, as a sentence, and what to do about it."""

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.hint = what, hint


@dataclass(frozen=True, slots=True)
class Buyer:
    """Who a document is for. `confirmed` is whether somebody who knows has said that the tax number is in use; None
    where nobody was asked.
    """

    name: str = ""
    lines: tuple[str, ...] = ()
    postcode: str = ""
    city: str = ""
    country: str = ""
    """ISO 3166-1, two letters."""
    tax_number: str = ""
    company: str = ""
    confirmed: bool | None = None
    proof: str = ""
    """What was answered when the number was asked about, and when."""


@dataclass(frozen=True, slots=True)
class Treatment:
    """Whose tax a sale is under. `number` is the shop's own that is printed; `buyer_number` the buyer's, in its plain
    form.
    """

    scheme: Scheme
    country: str
    reason: str
    number: str = ""
    buyer_number: str = ""

    @property
    def taxed(self) -> bool:
        return self.scheme not in CATEGORIES

    @property
    def exemption(self) -> str:
        return CATEGORIES.get(self.scheme, ("", ""))[1]

    def category(self, percent: Any) -> str:
        """The category of tax (UNTDID 5305) of something at a rate."""
        return CATEGORIES[self.scheme][0] if not self.taxed else "S" if percent else "Z"


def treat(documents: Any, home: str, buyer: Buyer, day: dt.date) -> Treatment:
    """Whose tax a sale of goods is under that are sent to a buyer on a day. `documents` is a `Documents` spec, `home`
    where goods are sent from. Raises HeldBack.
    """
    if not home:
        raise HeldBack("It is not said from which country goods are sent.", "Say so in the settings of invoices.")
    if not buyer.country:
        raise HeldBack("The buyer’s country is not known.", "Map the order’s country, or type the buyer’s address.")
    here, there = country_name(home), country_name(buyer.country)
    at_home, theirs = _registration(documents, home, day), _registration(documents, buyer.country, day)
    who = "business" if buyer.tax_number else "private buyer"
    if documents.small_seller and buyer.country == home:
        return _small(documents, home, at_home)
    if buyer.country == home:
        if at_home is None:
            raise HeldBack(
                f"Goods are sent within {here}, where the shop has no registration on {day:%-d %B %Y}.",
                "Add the registration, or say that the shop is exempt as a small business.",
            )
        why = f"A {who} in {there}, where goods are sent from; the shop is registered there {_since(at_home)}."
        return Treatment("domestic", home, why, at_home.number, _own(buyer))
    within = home in UNION and buyer.country in UNION
    if within and buyer.tax_number:
        return _between_businesses(documents, buyer, at_home, theirs, day)
    if theirs is not None:
        why = f"A {who} in {there}; the shop is registered there {_since(theirs)}."
        return Treatment("registered", buyer.country, why, theirs.number, _own(buyer))
    if within:
        return _to_private(documents, home, buyer, at_home)
    if documents.export:
        if at_home is None:
            hint = "Add the registration of the country where goods are sent from."
            raise HeldBack("To bill exports without tax, the shop needs a tax number of its own.", hint)
        why = f"Goods leave {here} for {there}, outside the union: without tax, as the shop has chosen."
        return Treatment("export", home, why, at_home.number, _own(buyer))
    raise HeldBack(
        f"The shop has no registration in {there}, and no rule for buyers outside the union was chosen.",
        "Add a registration there, or choose that exports are billed without tax.",
    )


def _between_businesses(documents: Any, buyer: Buyer, at_home: Any, theirs: Any, day: dt.date) -> Treatment:
    there = country_name(buyer.country)
    try:
        number = checked_number(buyer.country, buyer.tax_number)
    except BadTaxNumber as error:
        hint = "Correct the number, or leave it out for a private buyer."
        raise HeldBack(f"“{buyer.tax_number[:40]}” {error}.", hint) from None
    if theirs is not None:
        why = f"A business in {there}, where the shop is registered {_since(theirs)}: taxed there, not by the buyer."
        return Treatment("registered", buyer.country, why, theirs.number, number)
    if not documents.reverse_charge:
        hint = "Choose in the settings of invoices that they are billed without tax, or add a registration there."
        raise HeldBack(f"No rule for businesses in {there} was chosen.", hint)
    if at_home is None:
        hint = "Add the registration of the country where goods are sent from."
        raise HeldBack("To bill a business elsewhere without tax, the shop needs a tax number of its own.", hint)
    if documents.check_business and buyer.confirmed is None:
        hint = "Ask again, or leave the number out. Settings of invoices say who is asked."
        raise HeldBack(f"Whether the tax number {number} is in use could not be asked.", hint)
    if documents.check_business and not buyer.confirmed:
        hint = "Correct the number, or leave it out for a private buyer."
        raise HeldBack(f"The tax number {number} is not in use, as was answered.", hint)
    how = f"the number {number} was confirmed" if buyer.confirmed else f"the number {number} has the right form"
    why = f"A business in {there}, and {how}: without tax, which the buyer owes there (reverse charge)."
    return Treatment("reverse_charge", buyer.country, why, at_home.number, number)


def _to_private(documents: Any, home: str, buyer: Buyer, at_home: Any) -> Treatment:
    here, there = country_name(home), country_name(buyer.country)
    if documents.one_stop:
        if at_home is None:
            hint = "Add the registration of the country where goods are sent from."
            raise HeldBack("For the one-stop scheme the shop needs a tax number at home.", hint)
        why = f"A private buyer in {there}: that country’s rates, declared through the one-stop scheme."
        return Treatment("one_stop", buyer.country, why, at_home.number)
    if documents.below_threshold:
        if documents.small_seller:
            return _small(documents, home, at_home)
        if at_home is None:
            hint = "Add the registration of the country where goods are sent from."
            raise HeldBack(f"Sales to {there} are taxed in {here}, where the shop has no registration.", hint)
        why = f"A private buyer in {there}; sales elsewhere in the union are below the threshold: taxed in {here}."
        return Treatment("threshold", home, why, at_home.number)
    raise HeldBack(
        f"The shop has no registration in {there}, and no rule for private buyers elsewhere in the union was chosen.",
        "Add a registration there, or choose the one-stop scheme or the threshold in the settings of invoices.",
    )


def _small(documents: Any, home: str, at_home: Any) -> Treatment:
    number = at_home.number if at_home is not None else documents.seller.tax_id
    if not number:
        hint = "Type the number that your tax office knows you by into the settings of invoices."
        raise HeldBack("An invoice of an exempt shop names its tax number, and there is none.", hint)
    return Treatment("small", home, f"The shop is exempt as a small business in {country_name(home)}.", number)


def rate_of(documents: Any, treatment: Treatment, sku: str, day: dt.date, named: str = "") -> tuple[Decimal, str, str]:
    """(percentage, category, why) of goods by their sku, or by the kind that their line names; without either, by the
    standard rate. Raises HeldBack.
    """
    if not treatment.taxed:
        return Decimal(0), treatment.category(0), ""
    group = documents.group_of(sku, named) if sku or named else None
    kind = group.by_country.get(treatment.country, group.kind) if group is not None else "standard"
    name = country_name(treatment.country)
    rate = rate_on(documents.rates, treatment.country, kind, day)
    if rate is None:
        said = f"No {kind.replace('_', ' ')} rate of {name} is known on {day:%-d %B %Y}."
        raise HeldBack(said, "Add the rate in the settings of invoices.")
    whose = ", stated by the shop" if rate.own else ""
    why = f"{kind.replace('_', ' ').capitalize()} rate of {name} since {rate.since.year}{whose}."
    if group is not None:
        how = "as the order says" if named and group is documents.group_of("", named) else "by the sku"
        why = f"{group.name}, {how}: {why[0].lower()}{why[1:]}"
    return rate.percent, treatment.category(rate.percent), why


def _registration(documents: Any, country: str, day: dt.date) -> Any:
    return next((one for one in documents.registrations if one.country == country and one.holds_on(day)), None)


def _since(registration: Any) -> str:
    return f"since {registration.since.year}" if registration.since.year > 1970 else "as said"


def _own(buyer: Buyer) -> str:
    """The buyer's number where nothing depends on it: as it is written where its form is not known."""
    try:
        return checked_number(buyer.country, buyer.tax_number) if buyer.tax_number else ""
    except BadTaxNumber:
        return buyer.tax_number.strip()[:40]
