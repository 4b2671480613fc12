"""Documents as pages show them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from flask import Response

from angelon.core.countries import country_name
from angelon.core.documents.document import KINDS, Document
from angelon.core.documents.figures import digits_of
from angelon.core.documents.making import Ordered
from angelon.core.documents.rules import Buyer, HeldBack
from angelon.core.specs.base import read_spec
from angelon.core.values import Money, show_money
from angelon.engine.documents.drawing import page, stylesheet
from angelon.engine.operations.documents import Request

SCHEMES = {
    "domestic": "at home",
    "registered": "registered there",
    "one_stop": "one-stop scheme",
    "threshold": "below the threshold",
    "reverse_charge": "reverse charge",
    "export": "export",
    "small": "exempt as small",
}
PAPER = (
    "default-src 'none'; style-src 'unsafe-inline'; img-src data:; base-uri 'none'; form-action 'none'; "
    "frame-ancestors 'self'"
)
"""Of a document that is shown within a page: nothing runs in it, and nothing is fetched."""


def paper(document: Document, look: dict[str, Any]) -> Response:
    """The document itself, as a page within a page."""
    css = stylesheet(look) + "\nbody { margin: 9mm; background: #fff }\n"
    answer = Response(page(document, look, css), mimetype="text/html")
    answer.headers["Content-Security-Policy"] = PAPER
    return answer


def amount(units: int, currency: str, locale: str) -> str:
    return show_money(Money(Decimal(units).scaleb(-digits_of(currency)), currency), locale)


def day(text: str) -> dt.date:
    return dt.date.fromisoformat(text)


def kind(name: str) -> str:
    return KINDS.get(name, name)


def otherwise(order: Ordered, request: Request, home: str) -> list[tuple[str, Request]]:
    """The same order for other buyers: what each is called, and for whom it is asked."""
    buyer = request.buyer(order)
    union = "FR" if home != "FR" else "NL"
    outside = "NO" if home != "NO" else "CH"
    cases = [
        ("to a private buyer at home", {"country": home, "tax_number": ""}),
        (f"to a private buyer in {country_name(union)}", {"country": union, "tax_number": ""}),
        (f"to a business in {country_name(union)}", {"country": union, "tax_number": _EXAMPLES[union]}),
        (f"to a buyer in {country_name(outside)}", {"country": outside, "tax_number": ""}),
    ]
    known, now = {"confirmed": True, "proof": ""}, (buyer.country, bool(buyer.tax_number))
    others = [(said, what) for said, what in cases if (what["country"], bool(what["tax_number"])) != now]
    return [(said, request.model_copy(update=what | known)) for said, what in others]


_EXAMPLES = {"FR": "FR40303265045", "NL": "NL123456789B13"}
"""Numbers in the right form, as the library's own examples have them."""


def asked_for(form: Mapping[str, str]) -> Request:
    """For whom a document is, as a form says; a field that it does not have is as the order has it. Raises Invalid."""
    plain: dict[str, Any] = {
        name: form[name].strip()[:200] for name in ("name", "company", "postcode", "city", "tax_number") if name in form
    }
    if "lines" in form:
        plain["lines"] = [line.strip()[:200] for line in form["lines"].splitlines() if line.strip()][:6]
    if "country" in form:
        plain["country"] = form["country"].strip().upper()[:2]
    return read_spec(Request, plain)


def in_short(document: Document | HeldBack) -> tuple[str, str]:
    """(state, in a few words) of what a document comes to."""
    if isinstance(document, HeldBack):
        return "held", document.what
    figures, locale = document.figures, "en"
    taxes = ", ".join(f"{part.percent.normalize():f} %" for part in figures.sums) or "0 %"
    net = amount(figures.net, figures.currency, locale)
    return "yes", f"{taxes}, {net} net. {document.treatment.reason}"


def typed(buyer: Buyer) -> dict[str, str]:
    """A buyer as the fields of a form."""
    return {
        "name": buyer.name, "company": buyer.company, "lines": "\n".join(buyer.lines), "postcode": buyer.postcode,
        "city": buyer.city, "country": buyer.country, "tax_number": buyer.tax_number,
    }  # fmt: skip
