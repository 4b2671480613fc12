"""Values that tests share: a small store, its source, and payloads of its orders."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any

from sqlalchemy import Connection, select, text

from angelon.core.planning.inputs import ActiveRoute, Setup
from angelon.core.specs import Bundle, Gateway, Message, Route, Source, Store, Variable
from angelon.db.log import sends

NOON = dt.datetime(2026, 11, 3, 12, 0, tzinfo=dt.UTC)
LONG_AGO = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)


def said(connection: Connection, where: str, values: dict[str, Any]) -> dict[str, sends.Said]:
    """What the sends said that meet a condition, by their ids, oldest first."""
    chosen = select(sends.CONTENT).join(sends.SEND, sends.SEND.c.id == sends.CONTENT.c.send_id)
    rows = connection.execute(chosen.where(text(where)).order_by(sends.SEND.c.id), values).all()
    return sends.said_of(connection, rows)


def order(**changes: Any) -> dict[str, Any]:
    """An order in the web shop's shape."""
    made: dict[str, Any] = {
        "id": 4711,
        "reference": "BK-7",
        "placed_at": "2026-11-03T09:41:07+00:00",
        "state": "paid",
        "currency": "EUR",
        "language": "de",
        "total": "135.50",
        "buyer": {"name": " Jörg ", "email": "joerg@example.org", "phone": "030 23125-014", "country": "DE"},
        "lines": [
            {"sku": "HER-180", "title": "Heron", "quantity": 1, "price": "119.00"},
            {"sku": "LIN-050", "title": "line", "quantity": 2, "price": "5.00"},
        ],
    }
    return made | changes


def body(**changes: Any) -> bytes:
    return json.dumps(order(**changes), ensure_ascii=False).encode()


def store() -> Store:
    return Store(
        key="kites",
        name="Kites",
        currency="EUR",
        locale="en",
        timezone="Europe/Dublin",
        country="IE",
        support_email="hello@example.com",
    )


def source(**changes: Any) -> Source:
    spec: dict[str, Any] = {
        "key": "shop",
        "name": "Shop",
        "signing": {"scheme": "none"},
        "event_name": {"header": "Store-Event"},
        "delivery_id": {"header": "Store-Delivery"},
        "event_names": {"placed": "order.created", "changed": "order.updated"},
        "statuses": {"shipped": "parcel.picked_up"},
        "reading": {
            "reference": "$.id",
            "number": "$.reference",
            "status": "$.state",
            "total": "$.total",
            "currency": "$.currency",
            "placed_at": "$.placed_at",
            "changed_at": "$.changed_at",
            "name": {"path": "$.buyer.name", "steps": ["strip"]},
            "email": "$.buyer.email",
            "country": "$.buyer.country",
            "language": "$.language",
            "lines": "$.lines",
        },
        "line": {"name": "$.title", "sku": "$.sku", "quantity": "$.quantity", "price": "$.price"},
        "recipes": {
            "customer_name": {"path": "$.buyer.name", "steps": ["strip"]},
            "total": "$.total",
            "items": {"path": "$.lines", "steps": [{"each": {"text": "{{ quantity }} × {{ title }}"}}]},
            "expected_on": {"path": "$.placed_at", "steps": [{"add_days": {"days": 7}}, {"date": {"format": "day"}}]},
        },
    }
    return Source.model_validate(spec | changes)


VARIABLES = [
    Variable(name="customer_name"),
    Variable(name="total", type="money"),
    Variable(name="items", type="list"),
    Variable(name="expected_on", type="date"),
    Variable(name="gift_note", required=False),
]


def message(**changes: Any) -> Message:
    blocks = [
        {"kind": "heading", "text": "Hello {{ customer_name }}"},
        {"kind": "text", "text": "You ordered {{ items }} for {{ total }}. It comes on **{{ expected_on }}**."},
        {"kind": "lines"},
    ]
    spec: dict[str, Any] = {
        "key": "received",
        "name": "Received",
        "email": {
            "en": {"subject": "Thank you, {{ customer_name }}", "blocks": blocks},
            "de": {"subject": "Danke, {{ customer_name }}", "blocks": blocks},
        },
    }
    return Message.model_validate(spec | changes)


def gateway(port: int = 2525, **changes: Any) -> Gateway:
    spec: dict[str, Any] = {
        "key": "mailroom",
        "name": "Mailroom",
        "host": "127.0.0.1",
        "port": port,
        "sender": {"address": "orders@kites.example", "name": "Kites", "verified": True},
    }
    return Gateway.model_validate(spec | changes)


def route(**changes: Any) -> Route:
    spec: dict[str, Any] = {
        "key": "received",
        "name": "Received",
        "when": ["order.created"],
        "sources": ["shop"],
        "send": "received",
        "gateway": "mailroom",
    }
    return Route.model_validate(spec | changes)


def setup(**changes: Any) -> Setup:
    spec: dict[str, Any] = {
        "store": store(),
        "sources": {"shop": source()},
        "variables": {v.name: v for v in VARIABLES},
        "messages": {"received": message()},
        "gateways": {"mailroom": gateway()},
        "routes": [ActiveRoute(route(), LONG_AGO)],
    }
    return Setup(**(spec | changes))


def provider(kind: str, port: int) -> dict[str, Any]:
    """A gateway to a stand-in provider, as a spec."""
    key = {"Idempotency-Key": "{{ key }}"}
    at = {"id_at": "$.id", "outcome_at": "$.state", "reason_at": "$.reason"}
    base = f"http://127.0.0.1:{port}"
    made: dict[str, Any] = {
        "key": kind,
        "name": f"The {kind} line",
        "kind": kind,
        "sender_id": "Kites",
        "price": "0.05",
        "auth": {"scheme": "bearer"},
        "timeout_seconds": 5,
        "retry": {"base_seconds": 0.2, "cap_seconds": 0.4},
    }
    if kind == "sms":
        return made | {
            "call": {
                "url": f"{base}/sms/messages",
                "headers": key,
                "body": (
                    '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ text | json }}, '
                    '"segments": {{ segments }}}'
                ),
                **at,
            }
        }
    fields = ", ".join(
        f'"{part}": {{{{ {part} | json }}}}' for part in ("category", "header", "body", "footer", "buttons", "samples")
    )
    review = {
        "submit": {
            "url": f"{base}/chat/texts",
            "body": '{"language": {{ locale | json }}, ' + fields + ', "placeholders": {{ placeholders }}}',
            **at,
        },
        "look": {"method": "GET", "url": f"{base}/chat/texts/{{{{ id | urlencode }}}}", **at},
        "texts": {"call": {"method": "GET", "url": f"{base}/chat/texts"}},
    }
    return made | {
        "review": review,
        "call": {
            "url": f"{base}/chat/messages",
            "headers": key,
            "body": (
                '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ template | json }}, "values": '
                "{{ values | json }}}"
            ),
            **at,
        },
    }


def bundle(live: bool = True) -> Bundle:
    """The small store as one document; its route is switched on where it is `live`."""
    return Bundle(
        store=store(),
        sources=[source()],
        variables=VARIABLES,
        gateways=[gateway()],
        messages=[message()],
        routes=[route()],
        live=["received"] if live else [],
    )
