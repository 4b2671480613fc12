"""From an order, as it was read, to a document, with the reason of each figure. Pure: the same for the workbench, the
customer's page, a message's attachment and a document by hand.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

from babel.numbers import get_territory_currencies

from angelon.core.countries import country_name
from angelon.core.documents.crediting import figures_of
from angelon.core.documents.document import Document, Kind, Party, second_of
from angelon.core.documents.figures import Figures, Part, Row, Sale, Sold, digits_of, work_out
from angelon.core.documents.rules import Buyer, HeldBack, Treatment, treat
from angelon.core.questions import said_in
from angelon.core.values import Money, Value, number_of, show

TAX_GROUP = "tax_group"
"""The part of a line by which it names its kind of goods: mapped, or looked up in a table of the shop's own."""


@dataclass(frozen=True, slots=True)
class Ordered:
    """An order as it was read: its parts by name, as values."""

    number: str
    day: dt.date
    """When it was placed, by the shop's clock."""
    parts: Mapping[str, Value]
    paid: bool = True
    language: str = ""

    def text(self, part: str) -> str:
        value = self.parts.get(part)
        return "" if value is None else show(value).strip()


def sale_of(order: Ordered, currency: str) -> Sale:
    """An order as it is billed. `currency` is the shop's, where the order names none. Raises HeldBack."""
    total = order.parts.get("total")
    if not isinstance(total, Money):
        raise HeldBack("What was to be paid for the order is not known.", "Map the order’s total.")
    lines = []
    for number, line in enumerate(order.parts.get("lines") or [], 1):
        part = line if isinstance(line, dict) else {"name": line}
        name = show(part.get("name")).strip() or f"item {number}"
        price, quantity = part.get("price"), number_of(part.get("quantity"))
        if not isinstance(price, Money):
            raise HeldBack(f"The line “{name[:60]}” has no price.", "Map the price of the order’s lines.")
        if price.currency != total.currency:
            raise HeldBack(
                f"The line “{name[:60]}” is in {price.currency}, and the total in {total.currency}.",
                "Map the order’s currency.",
            )
        sku = show(part.get("sku")).strip()
        group = show(part.get(TAX_GROUP)).strip()
        lines.append(Sold(name, sku, Decimal(quantity if quantity is not None else 1), price.amount, group))
    amounts = {name: _amount(order, name, total.currency) for name in ("discount", "postage", "gift_card")}
    tax = order.parts.get("tax")
    return Sale(
        tuple(lines), total.currency or currency, total.amount, **amounts,
        tax=tax.amount if isinstance(tax, Money) else None,
    )  # fmt: skip


def _amount(order: Ordered, part: str, currency: str) -> Decimal:
    value = order.parts.get(part)
    if not isinstance(value, Money):
        return Decimal(0)
    if value.currency != currency:
        raise HeldBack(f"The {part.replace('_', ' ')} is in {value.currency}, and the total in {currency}.",
                       "Map the order’s currency.")  # fmt: skip
    return abs(value.amount)


def buyer_of(order: Ordered) -> Buyer:
    """The buyer as the order itself names them: what is written under it, line by line, is the address."""
    written = [line.strip() for line in order.text("address").splitlines() if line.strip()]
    name = order.text("name")
    lines = [line for line in written if line.casefold() != name.casefold()]
    country = order.text("country").upper()
    if lines and _names(lines[-1], country):
        lines = lines[:-1]
    return Buyer(
        name, tuple(lines[:5]), "", "", country if len(country) == 2 else "", order.text("tax_number"),
        order.text("company"),
    )  # fmt: skip


def _names(line: str, country: str) -> bool:
    return line.casefold() in (country.casefold(), country_name(country).casefold())


def invoice(
    documents: Any,
    store: Any,
    order: Ordered,
    buyer: Buyer,
    day: dt.date,
    kind: Kind = "invoice",
    number: str = "",
) -> Document:
    """The document of an order for a buyer, made on a day. `documents` and `store` are specs. Raises HeldBack."""
    home = documents.home or store.country
    if kind == "delivery":
        return _delivery_note(documents, store, order, buyer, day)
    if not (buyer.company or buyer.name):
        raise HeldBack("The buyer’s name is not known.", "Map the customer’s name, or type it.")
    treatment = treat(documents, home, buyer, order.day)
    sale = sale_of(order, store.currency)
    figures = work_out(documents, treatment, sale, order.day)
    language = order.language or store.locale
    texts = documents.texts
    made = Document(
        kind=kind,
        number=number,
        day=day,
        supplied=order.day,
        order=order.number,
        language=language,
        seller=_seller(documents, store, home, treatment),
        buyer=_party(buyer, treatment),
        ship_to=buyer.country,
        figures=figures,
        treatment=treatment,
        paid=order.paid,
        second=second_of(documents, figures, _currency(treatment.country), order.day) if treatment.taxed else None,
        above=said_in(texts.above, language, store.locale),
        under=said_in(texts.under, language, store.locale),
        bank="" if order.paid else documents.seller.bank,
        questions=documents.questions,
        proof=buyer.proof if treatment.scheme == "reverse_charge" else "",
    )
    return replace(made, reasons=tuple(_reasons(documents, made)))


def _delivery_note(documents: Any, store: Any, order: Ordered, buyer: Buyer, day: dt.date) -> Document:
    """What was sent, without prices, and so without any question of tax."""
    home, language = documents.home or store.country, order.language or store.locale
    rows = []
    for number, line in enumerate(order.parts.get("lines") or [], 1):
        part = line if isinstance(line, dict) else {"name": line}
        quantity = number_of(part.get("quantity"))
        name = show(part.get("name")).strip() or f"item {number}"
        pieces = Decimal(quantity if quantity is not None else 1)
        rows.append(Row("line", name, (Part(Decimal(0), "O", 0, 0),), show(part.get("sku")).strip(), pieces))
    if not rows:
        raise HeldBack("The order has no lines.", "Map the order’s lines with name and quantity.")
    nothing = Treatment("domestic", home, "A delivery note names no prices.")
    figures = Figures(tuple(rows), store.currency, digits_of(store.currency), "gross")
    party = Party(buyer.company or buyer.name, buyer.lines, buyer.postcode, buyer.city, buyer.country)
    return Document("delivery", "", day, order.day, order.number, language,
                    _seller(documents, store, home, nothing), party, buyer.country, figures, nothing,
                    questions=documents.questions)  # fmt: skip


def credit_note(was: Document, parts: Sequence[Part], day: dt.date, number: str = "", why: str = "") -> Document:
    """What takes an invoice back, or a part of it: `parts` are by its items (`crediting`)."""
    figures = figures_of(was.figures, parts)
    second = was.second
    if second is not None:
        share = round(Decimal(second.tax) * figures.tax / was.figures.tax) if was.figures.tax else 0
        second = replace(second, tax=int(share))
    reasons = (("Corrects", was.number, why or "As somebody of the shop has said."),)
    return replace(was, kind="credit", number=number, day=day, figures=figures, second=second, paid=True,
                   corrects=(was.number, was.day), above="", bank="", reasons=reasons)  # fmt: skip


def _seller(documents: Any, store: Any, home: str, treatment: Treatment) -> Party:
    seller = documents.seller
    return Party(seller.name or store.name, tuple(seller.lines), seller.postcode, seller.city, home, treatment.number)


def _party(buyer: Buyer, treatment: Treatment) -> Party:
    name, lines = (buyer.company, (buyer.name, *buyer.lines)) if buyer.company else (buyer.name, buyer.lines)
    number = treatment.buyer_number or buyer.tax_number
    return Party(name, tuple(one for one in lines if one), buyer.postcode, buyer.city, buyer.country, number)


def _currency(country: str) -> str:
    found = get_territory_currencies(country)
    return str(found[0]) if found else ""


def _reasons(documents: Any, made: Document) -> list[tuple[str, str, str]]:
    """(what, figure, why), as the shop reads them."""
    figures, treatment = made.figures, made.treatment
    found = [("Country of tax", country_name(treatment.country), treatment.reason)]
    seen: dict[tuple[str, str, str], None] = {}
    for row in figures.rows:
        rates = sorted({part.percent for part in row.parts}, reverse=True)
        said = f"{rates[0].normalize():f} %" if len(rates) == 1 else "mixed"
        label = row.name if row.kind == "line" else row.kind.capitalize()
        seen[label, said, row.why or "No tax is named."] = None
    found += list(seen)[:60]
    how = "per line" if documents.rounding == "line" else "per rate, once"
    inside = "in" if figures.prices == "gross" else "on top of"
    found.append(("Rounding", how, f"Prices have the tax {inside} them; the sum is what was paid, to the last unit."))
    if figures.gift_card:
        found.append(("Gift card", _amount_said(figures, figures.gift_card), "A way of paying: it changes no tax."))
    if made.second is not None:
        one = made.second
        said = f"{Decimal(one.tax).scaleb(-one.digits):f} {one.currency}"
        found.append(("Tax in another currency", said, f"At {one.rate.normalize():f}, stated for {one.day:%-d %B %Y}."))
    found += [("Notice", "", note) for note in figures.notes]
    if made.proof:
        found.append(("Tax number", made.buyer.tax_number, made.proof))
    return found


def _amount_said(figures: Figures, amount: int) -> str:
    return f"{Decimal(amount).scaleb(-figures.digits):f} {figures.currency}"
