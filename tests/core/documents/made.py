"""Orders and shops for the tests of documents."""

import datetime as dt
from decimal import Decimal

from angelon.core.documents.making import Ordered
from angelon.core.specs.documents import Documents
from angelon.core.specs.store import Store
from angelon.core.values import Money

DAY = dt.date(2026, 11, 29)
NUMBERS = {"DE": "DE136695976", "FR": "FR40303265045", "AT": "ATU13585627", "NL": "NL123456789B13",
           "IE": "IE6433435F", "IT": "IT00743110157", "GB": "GB980780684", "GR": "EL094259216",
           "PL": "PL8567346215", "ES": "ESJ99216582"}  # fmt: skip
"""Numbers in the right form, as the library's own examples have them; nobody's that we know of."""


def shop(**more):
    spec = {
        "home": "DE", "registrations": [{"country": "DE", "number": NUMBERS["DE"], "since": "2020-01-01"}],
        "groups": [{"key": "books", "name": "Books", "skus": ["PAT-*"], "kind": "reduced",
                    "by_country": {"GB": "zero", "IE": "zero"}}],
        "seller": {"name": "Brackwater Kites", "lines": ["Slip 4"], "postcode": "25813", "city": "Husum"},
    }  # fmt: skip
    return Documents.model_validate(spec | more)


def store(**more):
    return Store.model_validate({"key": "kites", "name": "Brackwater Kites", "country": "DE", "locale": "en"} | more)


def money(text, currency="EUR"):
    return Money(Decimal(text), currency)


def order(lines, total, currency="EUR", paid=True, **parts):
    """`lines` are written `2 x 59.50 HER-180`, parted by semicolons."""
    made = []
    for line in filter(None, (one.strip() for one in lines.split(";"))):
        quantity, _, rest = line.partition(" x ")
        price, _, sku = rest.partition(" ")
        made.append(
            {"name": sku or "Thing", "sku": sku, "quantity": Decimal(quantity), "price": money(price, currency)}
        )
    amounts = {name: money(parts.pop(name), currency) for name in ("postage", "discount", "gift_card", "tax")
               if parts.get(name)}  # fmt: skip
    read = {"total": money(total, currency), "lines": made, "name": "Jo Ahlers", "country": "DE",
            "address": "Jo Ahlers\nDeichstraße 12\n25813 Husum", **amounts, **parts}  # fmt: skip
    return Ordered("BK-2208", DAY, read, paid)
