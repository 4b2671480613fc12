"""The fuzz of `tests/fuzz.py`, short: `make proof` runs it for longer."""

import re

from tests import made
from tests.fuzz import Fuzz

PAGES = [
    "/",
    "/orders",
    "/orders/1",
    "/sends",
    "/sources",
    "/sources/shop/connect",
    "/sources/shop/capture",
    "/sources/shop/read",
    "/sources/shop/read?open=recipes.items",
    "/sources/shop/ask",
    "/sources/shop/compare",
    "/messages",
    "/messages/received",
    "/messages/received?channel=sms&locale=en",
    "/messages/received/revisions",
    "/letterhead",
    "/senders",
    "/settings",
    "/settings/team",
    "/settings/rules",
    "/files",
    "/routes",
    "/routes/received",
    "/gateways",
    "/handlers",
    "/settings/tokens",
    "/api",
    "/gateways/mailroom",
    "/gateways/sms",
    "/rehearsals",
    "/rehearsals/received",
    "/checks",
    "/segments",
    "/suppressions",
    "/runs/new",
    "/sources/shop/fetch",
    "/sources/shop/files",
    "/sources/shop/mail",
    "/tables",
    "/standins/stall",
    "/standins",
    "/standins/handset",
    "/standins/chat",
    "/events",
]


def filled(bench, client):
    """A store with orders, sends, a provider, a segment, a check."""
    from angelon.core.specs import Gateway
    from angelon.db.tables import GatewayRow

    bench.change(Gateway.model_validate(made.provider("sms", 9)), GatewayRow)
    for number in range(6):
        bench.deliver(
            made.body(
                id=number, reference=f"BK-{number}", buyer={"name": "Jo" if number else "", "email": "jo@example.org"}
            )
        )
    bench.deliver(b'{"id": 7, "total": 1e300}')
    bench.plan()
    client.post("/segments", data={"name": "Regulars"})
    client.post(
        "/checks/keep",
        data={
            "route": "received",
            "event": bench.rows("SELECT id FROM event WHERE type = 'order.created' ORDER BY id LIMIT 1 OFFSET 1")[0][0],
        },
    )


def fuzz(bench, client, seed):
    made_fuzz = Fuzz(client.application, client, seed)
    made_fuzz.know(
        send_id=[row[0] for row in bench.rows("SELECT id FROM send")],
        event_id=[row[0] for row in bench.rows("SELECT id FROM event")],
        order_id=["1"],
        run_id=["1"],
        file_id=["1"],
    )
    return made_fuzz


NAMES = [
    "when",
    "sources",
    "send",
    "channel",
    "gateway",
    "only_if",
    "to",
    "once",
    "once_days",
    "priority",
    "name",
    "timing.amount",
    "timing.unit",
    "timing.at",
    "timing.anchor",
    "timing.before",
    "timing.windowed",
    "timing.window.weekdays",
    "timing.window.start",
    "timing.window.end",
    "timing.not_before",
    "timing.not_after",
    "timing.zone",
    "timing.late",
    "guards.caps",
    "guards.after_route",
    "fallback.within_minutes",
    "fallback.tell",
    "fallback.send",
    "fallback.gateway",
    "asks.there",
    "asks.variable",
    "asks.text",
    "group",
]
"""Fields of a route's sentence."""


def spoil(made_fuzz, changes):
    """Drafts of a message, and parts of a route and of the bench, spoilt."""
    spec = made.message().model_dump(mode="json") | {
        "sms": {"en": {"text": "Hi {{ customer_name }}"}},
        "chat": {"en": {"body": "Hi {{ customer_name }}", "samples": {"customer_name": "Jo"}}},
    }
    made_fuzz.drafts("/messages/received/draft", spec, "/messages/received", changes)
    made_fuzz.fragments("/routes/received", NAMES, changes)
    made_fuzz.fragments(
        "/sources/shop/read",
        [
            "act",
            "field",
            "path",
            "step",
            "p.text",
            "p.days",
            "name",
            "type",
            "table",
            "rows",
            "recipe",
            "default",
            "number",
            "name_of_steps",
        ],
        changes,
    )
    made_fuzz.fragments("/segments/regulars", ["only_if", "name"], changes)


def test_no_address_and_no_form_ends_in_an_error_of_ours(bench, client, fuzz_seed, request):
    filled(bench, client)
    made_fuzz = fuzz(bench, client, fuzz_seed)
    long = 10 if request.config.getoption("--fuzz-seeds") else 1
    spoil(made_fuzz, 12 * long)
    made_fuzz.forms(PAGES, long)
    made_fuzz.open_again(PAGES)
    made_fuzz.addresses(2 * long)
    made_fuzz.open_again(PAGES)
    assert made_fuzz.outcome.requests > 300
    print(f"fuzz {made_fuzz.outcome.requests} requests")
    assert made_fuzz.outcome.faults == [], "\n".join(
        re.sub(r"(.)\1{40,}", r"\1…", fault) for fault in made_fuzz.outcome.faults
    )
