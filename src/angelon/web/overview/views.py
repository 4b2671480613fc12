"""The overview: the line, what needs a hand, sends and orders by day."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, g, render_template, request

from angelon.core import event_types
from angelon.core.specs import Route
from angelon.db import events, gateway_health, overview, setup, shapes
from angelon.db.tables import OrderRow, RouteRow
from angelon.web.formats import moment
from angelon.web.sends.views import names
from angelon.web.services import live, services, session, store
from angelon.web.sources.bench import drifting

pages = Blueprint("overview", __name__, template_folder="templates")

SPANS = {"today": ("Today", 1), "week": ("7 days", 7), "month": ("30 days", 30)}
X0, STEP = 110, 122


@dataclass(frozen=True)
class Stop:
    """One stop of the line: where it is drawn, how many orders passed, and who speaks there by channel."""

    type: str
    label: str
    x: int
    count: int
    height: float
    live: dict[str, list[str]]
    draft: dict[str, list[str]]


@dataclass(frozen=True)
class Need:
    """One thing that needs a hand, with the one action that mends it."""

    state: str
    what: str
    where: str
    action: str
    href: str


def the_line(counts: dict[str, int], routes: list[tuple[RouteRow, Route]]) -> list[Stop]:
    most = max([counts.get(t, 0) for t, _ in event_types.LINE] + [1])
    stops = []
    for number, (type_, label) in enumerate(event_types.LINE):
        speaking: dict[str, list[str]] = {}
        waiting: dict[str, list[str]] = {}
        for row, route in routes:
            if type_ in route.when:
                (speaking if row.on else waiting).setdefault(route.channel, []).append(row.key)
        stops.append(
            Stop(
                type_,
                label,
                X0 + number * STEP,
                counts.get(type_, 0),
                max(2.0, 38 * counts.get(type_, 0) / most),
                speaking,
                waiting,
            )
        )
    return stops


def gap_of(stops: list[Stop]) -> tuple[Stop, Stop, int] | None:
    """The longest run of stops that orders pass and nobody speaks at; with the number of orders that pass its end."""
    runs: list[list[Stop]] = []
    for stop in stops:
        silent = stop.count > 0 and not any(stop.live.values())
        if silent and runs and runs[-1] and runs[-1][-1].x + STEP == stop.x:
            runs[-1].append(stop)
        elif silent:
            runs.append([stop])
    longest = max(runs, key=len, default=None)
    return (longest[0], longest[-1], longest[-1].count) if longest else None


@pages.get("/")
def index() -> Any:
    span = request.args.get("span", "month")
    days = SPANS.get(span, SPANS["month"])[1]
    since = g.now - dt.timedelta(days=days)
    store_id = store().id or 0
    counts = overview.events_by_type(session(), list(live().source_ids.values()), since)
    routes = [
        (row, Route.model_validate(setup.current_spec(session(), row)))
        for row in session().exec(setup.select(RouteRow).where(RouteRow.store_id == store_id))
    ]
    stops = the_line(counts, routes)
    sends, trouble, orders = overview.by_day(session(), store_id, g.now - dt.timedelta(days=31), g.zone)
    return render_template(
        "overview/index.html",
        stops=stops,
        gap=gap_of(stops),
        sidings=[
            (label, counts.get(t, 0), X0 + round(after * STEP) + 10, t) for t, label, after in event_types.SIDINGS
        ],
        needs=needs(store_id),
        days=_days(sends, trouble, orders),
        span=span,
        spans=SPANS,
        orders_in_span=counts.get("order.created", 0),
        names=names(),
    )


def needs(store_id: int) -> list[Need]:
    found = _engine_needs(store_id)
    numbers = {
        o.id: o.number
        for o in session().exec(
            setup.select(OrderRow).where(
                setup.col(OrderRow.id).in_([s.order_id for s in overview.attention(session(), store_id, g.now)])
            )
        )
    }
    for send in overview.attention(session(), store_id, g.now):
        word = "Held" if send.state == "held" else "Gave up"
        found.append(
            Need(
                send.state,
                f"{word}: {numbers.get(send.order_id, 'a send')}",
                send.reason,
                "See the send",
                f"/sends/{send.id}",
            )
        )
    from angelon.core.planning.readiness import problems_of

    for active in live().setup.routes:
        problems = [problem for problem in problems_of(active.route, live().setup) if problem.severity == "error"]
        if problems:
            found.append(
                Need(
                    "held",
                    f"Route {active.route.name}",
                    problems[0].what,
                    "Open the route",
                    f"/routes/{active.route.key}",
                )
            )
    for key, source in live().setup.sources.items():
        drifts = drifting(source, shapes.of_source(session(), live().source_ids[key]))
        if drifts:
            first = min(drifts.values(), key=lambda d: d.since)
            paths = list(dict.fromkeys(d.path for d in drifts.values()))
            found.append(
                Need(
                    "retrying",
                    f"Drift: {source.name}",
                    f"{', '.join(paths[:3])}: {first.said}",
                    "Map it again",
                    f"/sources/{key}/read?open={next(iter(drifts))}",
                )
            )
    speaking = {active.route.send for active in live().setup.routes}
    all_routes = [
        setup.current_spec(session(), row).get("send")
        for row in session().exec(setup.select(RouteRow).where(RouteRow.store_id == store_id))
    ]
    for key, message in live().setup.messages.items():
        if key not in speaking and key not in all_routes:
            found.append(
                Need(
                    "scheduled",
                    f"{message.name} is in no route",
                    "It is published, and nothing sends it.",
                    "Make a route",
                    "/routes",
                )
            )
    return found[:8]


def _engine_needs(store_id: int) -> list[Need]:
    """What stands still: a set-up that can't be read, gateways that are unreachable, events that could not be
    planned.
    """
    found = []
    unreadable = services().setups.unreadable().get(store_id)
    if unreadable:
        found.append(
            Need(
                "failed",
                "The set-up can’t be read",
                f"What was read last still holds. {unreadable}",
                "See the log",
                "/readyz",
            )
        )
    unwell = gateway_health.load(session().connection())
    for key, id_ in live().gateway_ids.items():
        health = unwell.get(id_)
        if health is not None and health.opened_at is not None and key in live().setup.gateways:
            found.append(
                Need(
                    "failed",
                    f"{live().setup.gateways[key].name} is unreachable",
                    f"since {moment(health.opened_at)}: {health.reason}",
                    "Open the gateway",
                    f"/gateways/{key}",
                )
            )
    number = events.problems_count(session(), list(live().source_ids.values()), g.now - dt.timedelta(days=14))
    if number:
        first = events.with_problems(session(), list(live().source_ids.values()), 1)[0]
        found.append(
            Need(
                "problem",
                "1 event was not planned" if number == 1 else f"{number} events were not planned",
                first.problem,
                "See and plan again",
                "/events",
            )
        )
    return found


def _days(
    sends: dict[dt.date, int], trouble: dict[dt.date, int], orders: dict[dt.date, int]
) -> list[tuple[str, int, int, int]]:
    """The last thirty days of the shop: (day, sends, those that needed more than one try, orders)."""
    today = g.now.astimezone(g.zone).date()
    days = [today - dt.timedelta(days=ago) for ago in range(29, -1, -1)]
    return [(f"{day.day} {day:%b}", sends.get(day, 0), trouble.get(day, 0), orders.get(day, 0)) for day in days]
