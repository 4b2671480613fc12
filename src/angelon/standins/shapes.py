"""An order as each of the three made-up sources writes it: another shape, other names, another way of saying what
happened.
"""

from __future__ import annotations

import datetime as dt
import json
from dataclasses import dataclass
from decimal import Decimal
from typing import Any
from urllib.parse import urlencode

from angelon.standins.catalogue import PRODUCTS, Customer

POSTAGE = Decimal("6.50")


@dataclass(frozen=True)
class Delivery:
    """A webhook ready to be signed and posted."""

    event: str
    headers: dict[str, str]
    body: bytes


PAYMENTS = {"card": "paid", "on_delivery": "due"}
"""How an order is paid, and how its payment stands once it is placed."""


@dataclass(frozen=True)
class ShopOrder:
    """An order at a counter. `lines` are (sku, quantity)."""

    serial: int
    reference: str
    customer: Customer
    lines: tuple[tuple[str, int], ...]
    placed_at: dt.datetime
    gift_note: str = ""
    parcel: tuple[str, str, str] | None = None
    """Carrier, number, expected day."""
    pays: str = "card"
    """`card` or `on_delivery`."""

    def priced(self) -> list[tuple[Any, int, Decimal]]:
        products = {p.sku: p for p in PRODUCTS}
        return [(products[sku], quantity, Decimal(products[sku].price)) for sku, quantity in self.lines]

    @property
    def goods(self) -> Decimal:
        return sum((price * quantity for _, quantity, price in self.priced()), Decimal(0))

    @property
    def total(self) -> Decimal:
        return self.goods + POSTAGE


def webshop(order: ShopOrder, state: str, changed_at: dt.datetime, first: bool, delivery_id: str) -> Delivery:
    """The web shop's shape: JSON, amounts as text, its event's name in a header."""
    c = order.customer
    body: dict[str, Any] = {
        "id": 90071990000 + order.serial,
        "reference": order.reference,
        "placed_at": order.placed_at.isoformat(timespec="seconds"),
    }
    if not first:
        body["changed_at"] = changed_at.isoformat(timespec="seconds")
    body |= {
        "state": state,
        "currency": "EUR",
        "language": c.language,
        "amounts": {
            "goods": f"{order.goods:.2f}",
            "postage": f"{POSTAGE:.2f}",
            "discount": "0.00",
            "tax": f"{order.total * Decimal('0.187'):.2f}",
            "total": f"{order.total:.2f}",
        },
        "buyer": {
            "id": c.id,
            "given_name": c.given,
            "family_name": c.family,
            "email": c.email,
            "phone": c.phone,
            "returning": c.id % 2 == 0,
        },
        "ship_to": {
            "name": c.name,
            "line1": c.line1,
            "line2": None,
            "city": c.city,
            "postcode": c.postcode,
            "country": c.country,
            "phone": c.phone,
        },
        "lines": [
            {"sku": p.sku, "title": p.title, "quantity": q, "unit_price": f"{price:.2f}", "options": dict(p.options)}
            for p, q, price in order.priced()
        ],
        "extras": ([{"key": "gift_note", "value": order.gift_note}] if order.gift_note else [])
        + [
            {
                "key": "chat_contact",
                "value": json.dumps(
                    {"account": c.email.partition("@")[0].replace(".", "-"), "opted_in": c.id % 3 != 0},
                    separators=(",", ":"),
                ),
            }
        ],
        "payment": {"method": order.pays, "status": PAYMENTS[order.pays] if state != "payment_failed" else "failed"},
    }
    if order.parcel and not first:
        carrier, number, expected = order.parcel
        body["parcels"] = [
            {
                "carrier": carrier,
                "number": number or None,
                "shipped_on": changed_at.date().isoformat(),
                "expected_on": expected,
                "lines": [sku for sku, _ in order.lines],
            }
        ]
    event = "order.placed" if first else "order.changed"
    headers = {"Content-Type": "application/json", "Store-Event": event, "Store-Delivery": delivery_id}
    return Delivery(event, headers, json.dumps(body, ensure_ascii=False).encode())


def fairground(order: ShopOrder, stage: str, notice: str, with_phone: bool = True) -> Delivery:
    """The marketplace's shape: a form, numbered fields, decimal commas, its own statuses."""
    c = order.customer
    fields: list[tuple[str, str]] = [
        ("notice", notice),
        ("sale_no", order.reference),
        ("buyer_name", c.name),
        ("buyer_mail", c.email),
    ]
    if with_phone:
        fields.append(("buyer_tel", c.phone.replace("+", "00").replace(" ", "")))
    fields += [
        ("ship_country", c.country),
        ("ship_city", c.city),
        ("currency", "EUR"),
        ("grand_total", f"{order.total:.2f}".replace(".", ",")),
        ("cod", "0"),
        ("item_count", str(len(order.lines))),
    ]
    for number, (product, quantity, _) in enumerate(order.priced(), 1):
        fields += [
            (f"item_{number}_name", product.title),
            (f"item_{number}_code", product.sku),
            (f"item_{number}_qty", str(quantity)),
        ]
    fields += [("sold_at", order.placed_at.strftime("%d.%m.%Y %H:%M")), ("stage", stage)]
    return Delivery(notice, {"Content-Type": "application/x-www-form-urlencoded"}, urlencode(fields).encode())


def workbench(order: ShopOrder, was: str, now: str, at: dt.datetime, event_id: str) -> Delivery:
    """The workshop's own shape: a CloudEvent in structured mode, contacts in a list."""
    c = order.customer
    body = {
        "specversion": "1.0",
        "id": event_id,
        "source": "/workbench",
        "type": "example.workbench.order.status",
        "subject": order.reference,
        "time": at.astimezone(dt.UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
        "datacontenttype": "application/json",
        "data": {
            "order": {"no": order.reference, "status": {"was": was, "now": now}},
            "customer": {
                "display": c.name,
                "contacts": [{"kind": "mobile", "value": c.phone}, {"kind": "email", "value": c.email}],
            },
            "pieces": [
                {"what": p.title, "price": {"amount": float(price), "unit": "EUR"}} for p, _, price in order.priced()
            ],
            "collect_by": (at.date() + dt.timedelta(days=14)).isoformat(),
        },
    }
    return Delivery(
        "example.workbench.order.status",
        {"Content-Type": "application/cloudevents+json"},
        json.dumps(body, ensure_ascii=False).encode(),
    )
