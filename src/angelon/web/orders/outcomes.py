"""Why each route spoke or did not speak for an order: for every route, with the part that settled it and the value it
saw.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from angelon.core import event_types
from angelon.core.deliveries import BY_STATE
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.planning.sentence import listed
from angelon.core.specs import Route
from angelon.db.log.sends import ListedSend
from angelon.db.setup.specs import StoredRoute
from angelon.db.tables import EventRow
from angelon.web.formats import moment
from angelon.web.services import live, routes

SHAPES = {
    "sent": "yes",
    "scheduled": "scheduled",
    "held": "held",
    "skipped": "skipped",
    "failed": "failed",
    "condition not met": "no",
    "does not apply": "open",
    "waits for an answer": "scheduled",
    "waits": "open",
    "off": "open",
}
"""The mark of each word."""

_RANK = {"send": 0, "held": 1, "waits": 2, "skipped": 3, "no": 4}


@dataclass(frozen=True)
class RouteOutcome:
    """What one route made of an order."""

    route: str
    name: str
    word: str
    reason: str
    part: str = ""
    saw: str = ""
    send: str = ""
    hint: str = ""
    """Where to go to change it."""


def of_order(source_key: str, happened: list[EventRow], made: list[ListedSend], now: dt.datetime) -> list[RouteOutcome]:
    """A line for every route of the store: those that spoke first, those that could not have last."""
    found = []
    for row in routes():
        route = row.live if row.live is not None else row.spec
        mine = [one for one in made if one.route == row.key]
        found.append(
            _said(row, route, mine, now) or _decided(row, route, happened) or _never(row, route, source_key, happened)
        )
    order = list(SHAPES)
    return sorted(found, key=lambda one: order.index(one.word))


def _said(row: StoredRoute, route: Route, mine: list[ListedSend], now: dt.datetime) -> RouteOutcome | None:
    """What a route said, by its sends; those that were skipped are left to the decision."""
    sends = [one.send for one in mine if one.send.state != "skipped"]
    if not sends:
        return None
    send = min(
        sends,
        key=lambda s: [
            "sending",
            "sent",
            "delivered",
            "read",
            "scheduled",
            "retrying",
            "held",
            "failed",
            "cancelled",
        ].index(s.state),
    )
    how = f"{CHANNEL_LABELS[send.channel]} to {send.recipient or 'nobody'}"
    if send.state in ("scheduled", "retrying"):
        return RouteOutcome(
            row.key,
            route.name,
            "scheduled",
            f"{how}, {moment(send.due_at)}." + (f" {send.reason}" if send.reason else ""),
            send=send.id,
        )
    if send.state in ("held", "failed"):
        return RouteOutcome(row.key, route.name, send.state, send.reason, send=send.id, hint=f"/sends/{send.id}")
    if send.state == "cancelled":
        return RouteOutcome(row.key, route.name, "skipped", send.reason or "Cancelled manually.", send=send.id)
    return RouteOutcome(row.key, route.name, "sent", f"{how}, {moment(send.settled_at or send.due_at)}.", send=send.id)


def _decided(row: StoredRoute, route: Route, happened: list[EventRow]) -> RouteOutcome | None:
    """The decision that says most, of those that were stored when the events were planned."""
    best: tuple[int, dict[str, Any], str] | None = None
    for event in happened:
        for decision in event.decisions or []:
            if decision["route"] == row.key:
                score = _RANK[decision["outcome"]] * 100 - sum(
                    1 for line in decision.get("trace", ()) if line["verdict"] == "yes"
                )
                if best is None or score < best[0]:
                    best = score, decision, event.id
    if best is None:
        return None
    _, decision, event_id = best
    settled = next((line for line in decision.get("trace", ()) if line["verdict"] in ("no", "problem", "waits")), None)
    words = {"send": "sent", "held": "held", "waits": "waits for an answer", "skipped": "skipped"}
    word = words.get(decision["outcome"], "condition not met")
    if settled and settled["part"] == "when" and "before the route was switched on" in settled["why"]:
        word = "does not apply"
    return RouteOutcome(
        row.key,
        route.name,
        word,
        settled["why"] if settled else "It was sent.",
        settled["part"] if settled else "",
        settled["saw"] if settled else "",
        hint=f"/routes/{row.key}?sample={event_id}",
    )


def _never(row: StoredRoute, route: Route, source_key: str, happened: list[EventRow]) -> RouteOutcome:
    """Why a route never had a say: off, switched on later, another source, another name, or nothing yet that it waits
    for.
    """
    waits = listed([event_types.label(type_) for type_ in route.when], "or")
    waits = waits or ("somebody to run it" if route.by_hand else "nothing yet")
    source = live().setup.sources.get(source_key)
    came = [event for event in happened if event.type in route.when]
    if not row.on:
        return RouteOutcome(
            row.key,
            route.name,
            "off",
            "The route is off." if row.live_id else "The route has never been live.",
            hint=f"/routes/{row.key}",
        )
    if source_key not in route.sources:
        return RouteOutcome(
            row.key,
            route.name,
            "does not apply",
            f"It does not listen to {source.name if source else source_key}.",
            "from",
            source.name if source else source_key,
            hint=f"/routes/{row.key}",
        )
    if came and row.since is not None and all(event.received_at < row.since for event in came):
        return RouteOutcome(
            row.key,
            route.name,
            "does not apply",
            f"“{event_types.label(came[-1].type)}” came before it was switched on ({moment(row.since)}).",
            "when",
            moment(came[-1].received_at),
        )
    unnamed = list(dict.fromkeys(event.name for event in happened if not event.type and event.name not in BY_STATE))
    if unnamed and not came:
        return RouteOutcome(
            row.key,
            route.name,
            "does not apply",
            f"It waits for {waits}. A delivery called “{unnamed[0]}” is not mapped to an event yet.",
            "when",
            unnamed[0],
            hint=f"/sources/{source_key}",
        )
    if source is not None and not source.on:
        return RouteOutcome(
            row.key,
            route.name,
            "does not apply",
            f"{source.name} is off: nothing more comes from it.",
            "from",
            source.name,
            hint=f"/sources/{source_key}",
        )
    if came and any(event.planned_at is None for event in came):
        return RouteOutcome(
            row.key,
            route.name,
            "waits",
            "Its event was received and is not processed yet.",
            "when",
            event_types.label(came[-1].type),
        )
    return RouteOutcome(row.key, route.name, "waits", f"No event of this order was what it waits for: {waits}.")
