"""What each gateway will have to send in the next days: by rehearsing the routes over the events of the last ones."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from sqlalchemy import Connection

from angelon.core.messages.channels import part_for_reader
from angelon.core.planning.forecast import AHEAD, ForecastDays, look_ahead
from angelon.core.planning.plan import PlannedSend
from angelon.core.problems import Invalid
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.core.templates import CantRender
from angelon.db.log import events, sends
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import StoredRoute
from angelon.engine.past.rehearsals import Span, rehearse

MOST_EVENTS = 50_000
"""Of a busier shop fewer days are rehearsed."""


@dataclass
class Load:
    """What a gateway was given by the routes, a shop's day at a time."""

    sends: dict[dt.date, float] = field(default_factory=lambda: defaultdict(float))
    cost: dict[dt.date, float] = field(default_factory=lambda: defaultdict(float))
    """In the store's currency."""


@dataclass(frozen=True)
class Forecast:
    """By gateway, for the routes that are live and for all of them with their drafts."""

    since: dt.date
    """The first complete day that counts."""
    days: int
    """Complete days."""
    live: dict[str, tuple[ForecastDays, ForecastDays]]
    """Sends, and their cost."""
    drafts: dict[str, tuple[ForecastDays, ForecastDays]]


def forecast(
    connection: Connection, live: LiveSetup, rows: Sequence[StoredRoute], now: dt.datetime, zone: dt.tzinfo
) -> Iterator[tuple[int, int, Forecast | None]]:
    """Rehearses each route for itself, so that what the others really sent counts for it; gives (done, of how many,
    None) as it goes, and the forecast last. A day is the shop's. Handlers' routes count like others. Fallbacks count as
    often as they were used in these days, where the route still has them.
    """
    today = now.astimezone(zone).date()
    sources, span = list(live.source_ids.values()), Span(AHEAD, MOST_EVENTS * 2)
    began, count = events.first_and_count(connection, sources, now - dt.timedelta(days=AHEAD))
    if count > MOST_EVENTS:
        span = Span(max(2, AHEAD * MOST_EVENTS // count), MOST_EVENTS * 2)
        began = now - dt.timedelta(days=span.days)
    since = (began or now).astimezone(zone).date() + dt.timedelta(days=1)
    loads: dict[str, dict[str, Load]] = {"live": defaultdict(Load), "drafts": defaultdict(Load)}
    for number, row in enumerate(rows):
        versions = _versions(row)
        if not versions:
            continue
        for done, of, came in rehearse(connection, live, versions, span, now):
            for one in came:
                day = one.received_at.astimezone(zone).date()
                for name, decision in one.decisions.items():
                    for kind in _counts_for(name, versions):
                        _add(loads[kind], live, day, decision.sends)
            yield number * 1000 + done * 1000 // max(of, 1), len(rows) * 1000, None
    _add_fallbacks(loads, connection, live, rows, began or now, zone)
    made = {
        kind: {
            gateway: (
                look_ahead(load.sends, since, today, known=1.0),
                look_ahead(load.cost, since, today, known=_unit(live, gateway)),
            )
            for gateway, load in found.items()
        }
        for kind, found in loads.items()
    }
    days = max((today - since).days, 0)
    yield len(rows) * 1000, len(rows) * 1000, Forecast(since, days, made["live"], made["drafts"])


def _versions(row: StoredRoute) -> dict[str, Route]:
    """What a route says now, where it is on; and what it would say once its draft is live."""
    found = {}
    if row.on and row.live is not None:
        found["live"] = row.live
    draft = row.spec
    if "live" not in found or draft != found["live"]:
        found["drafts"] = draft
    return found


def _counts_for(name: str, versions: dict[str, Route]) -> tuple[str, ...]:
    """A route without a draft is the same in both."""
    return ("live", "drafts") if name == "live" and "drafts" not in versions else (name,)


def _add(loads: dict[str, Load], live: LiveSetup, day: dt.date, planned: Sequence[PlannedSend]) -> None:
    for send in planned:
        if send.state is State.SCHEDULED:
            load = loads[send.gateway]
            load.sends[day] += 1
            load.cost[day] += float(_cost(send, live))


def _add_fallbacks(
    loads: dict[str, dict[str, Load]],
    connection: Connection,
    live: LiveSetup,
    rows: Sequence[StoredRoute],
    since: dt.datetime,
    zone: dt.tzinfo,
) -> None:
    """What really took the place of another send: no rehearsal can know which gateway will fail."""
    uses: dict[tuple[str, str], set[str]] = defaultdict(set)
    for row in rows:
        versions = _versions(row)
        for name, route in versions.items():
            for option in route.fallback.options:
                uses[route.key, option.gateway].update(_counts_for(name, versions))
    for one in sends.fallbacks_since(connection, live.store_id, since):
        gateway = live.gateway_key(one.gateway_id)
        for kind in uses[live.route_key(one.route_id), gateway]:
            load, day = loads[kind][gateway], one.created_at.astimezone(zone).date()
            load.sends[day] += 1
            load.cost[day] += float(one.cost or 0)


def _cost(send: PlannedSend, live: LiveSetup) -> Decimal:
    """By the pieces of the text as it would be; one where it can't be made."""
    gateway, message = live.setup.gateways.get(send.gateway), live.setup.messages.get(send.message)
    if gateway is None or message is None or not (gateway.price or gateway.attachment_price):
        return Decimal(0)
    try:
        pieces = (
            part_for_reader(message, send.channel, send.locale, send.format_locale, live.setup.store)
            .render(send.values)
            .pieces
        )
    except (CantRender, Invalid):
        pieces = 1
    return gateway.cost(pieces, len(message.attachments) if send.channel == "email" else 0)


def _unit(live: LiveSetup, gateway: str) -> float:
    found = live.setup.gateways.get(gateway)
    return float(found.price or 0) if found is not None else 0.0
