"""The way from an empty shop to its first mail, each step told from what is really there."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from flask import g

from angelon.core.specs.gateway import Gateway
from angelon.db.log import events, sends
from angelon.db.setup import mappings
from angelon.web.formats import moment
from angelon.web.services import live, messages, routes, session, store_id


@dataclass(frozen=True, slots=True)
class Step:
    """One step: what it is, whether it is done, what to do, and where."""

    name: str
    done: bool
    told: str
    """What is there, or what is missing."""
    action: str
    href: str


ALL_DONE_FOR = dt.timedelta(days=1)
"""How long the steps are still shown, all done, after the first send went out."""


def steps() -> list[Step]:
    """Every step; none a day after the first send went out, so that nobody needs leading any more."""
    first = sends.first_settled(session(), store_id())
    if first is not None and g.now - first[1] > ALL_DONE_FOR:
        return []
    setup = live().setup
    source = next(iter(live().sources.values()), None)
    at = f"/sources/{source.key}" if source is not None else "/sources"
    ids = list(live().source_ids.values())
    came = first is not None or (bool(ids) and bool(events.latest_of_each(session(), ids)))
    named = first is not None or (source is not None and bool(source.event_names))
    mapped = first is not None or (source is not None and {"number", "email"} <= source.reading.keys())
    drafted = not mapped and source is not None and source.key in mappings.drafts(session(), store_id())
    ready = next((gateway for gateway in setup.gateways.values() if _set_up(gateway)), None)
    begun = next((gateway for gateway in setup.gateways.values() if gateway.host), None)
    written, published = [] if first else messages(), bool(first or setup.messages)
    made = [] if first else routes()
    on = first is not None or any(row.on for row in made)
    about = next((key for key, message in setup.messages.items() if message.tells_of), "")
    return [
        Step(
            "Connect",
            source is not None,
            source.name if source else "Give the store an address to deliver its events to.",
            "Connect a source",
            "/sources",
        ),
        Step(
            "Receive",
            came,
            "Deliveries come in." if came else "Watch for the first delivery, or paste one as a sample.",
            "Watch for it",
            f"{at}/capture" if source else "/sources",
        ),
        Step(
            "Event names",
            named,
            "Its events have names."
            if named
            else "Choose the field that says what happened, and say what its values mean.",
            "Set event names",
            f"{at}/event-names" if source else "/sources",
        ),
        Step(
            "Map",
            mapped,
            "Number and email are mapped."
            if mapped
            else "The mapping is a draft: publish it, and it counts."
            if drafted
            else "Say which field is the order’s number, which the email.",
            "Publish it" if drafted else "Map its fields",
            f"{at}/read" if source else "/sources",
        ),
        Step(
            "Mail server",
            first is not None or ready is not None,
            ready.name
            if ready
            else "Have a code sent to the address that mails come from, and type it in."
            if begun
            else "Say through which server mails go, and have a code sent through it.",
            "Verify the address" if begun else "Set up a gateway",
            f"/gateways/{begun.key}#verify" if begun else "/gateways",
        ),
        Step(
            "Write",
            published,
            "A message is published."
            if published
            else "Publish what you have written."
            if written
            else "Begin with a starter text, such as “Order received”.",
            "Open it" if written else "Write a message",
            f"/messages/{written[0].key}" if written else "/messages",
        ),
        Step(
            "Switch on",
            on,
            "A route is on: the next order that comes in is written to."
            if on
            else "Say when which message goes out; rehearse it on what came in; switch it on.",
            "Open the route" if made else "Switch it on" if about else "Make a route",
            f"/routes/{made[0].key}" if made else f"/messages/{about}" if about else "/routes",
        ),
        Step(
            "First message",
            first is not None,
            f"It went out {moment(first[1])}." if first else "It goes out when the next order comes in.",
            "See it" if first else "Watch for the order",
            f"/sends/{first[0]}" if first else f"{at}/capture" if source else "/sources",
        ),
    ]


def _set_up(gateway: Gateway) -> bool:
    """Whether a gateway can send: a mail server's once a code was read at its sender's address."""
    return gateway.channel != "email" or (gateway.sender is not None and gateway.sender.verified)
