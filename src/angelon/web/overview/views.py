"""The overview: the line, what needs a hand, sends and orders by day."""

from __future__ import annotations

import datetime as dt
import itertools
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, g, render_template, request, url_for

from angelon.core import event_types
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.planning.readiness import problems_of
from angelon.core.reading import drifting
from angelon.core.specs import Message
from angelon.db.derived import counts, overview, shapes, status_words
from angelon.db.log import documents, events, fetches, imports, inquiries, questions, sends
from angelon.db.setup import shop_tables, specs
from angelon.db.setup.specs import StoredRoute
from angelon.db.upkeep import nights
from angelon.engine.followers.alerts import name_of
from angelon.web.formats import capital, moment
from angelon.web.frame import frame
from angelon.web.gateways.states import gateway_states, health_and_use
from angelon.web.overview import figures, grid
from angelon.web.overview.steps import steps
from angelon.web.services import live, names, routes, services, session, store_id

pages = Blueprint("overview", __name__, template_folder="templates")

SPANS = {"today": ("Today", 1), "week": ("7 days", 7), "month": ("30 days", 30)}
X0, STEP = 110, 122
MOST_WAITING = 20_000
"""Events that wait which are counted."""
MANY, MOST_CAUSES = 100, 8


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
    twice: frozenset[str] = frozenset()
    """The channels by which two live routes tell the same news."""
    elsewhere: str = ""
    """What customers hear of it from others."""

    @property
    def doubled(self) -> bool:
        """Whether others say what a live route says, too."""
        return bool(self.elsewhere) and any(channel != "call" for channel, keys in self.live.items() if keys)


@dataclass(frozen=True)
class Need:
    """One thing that needs a hand, with the one action that mends it."""

    state: str
    what: str
    where: str
    action: str
    href: str


def the_line(
    passed: dict[str, int],
    stored: list[StoredRoute],
    messages: Mapping[str, Message],
    elsewhere: Mapping[str, str] | None = None,
) -> list[Stop]:
    most = max([passed.get(t, 0) for t, _ in event_types.LINE] + [1])
    stops = []
    for number, (type_, label) in enumerate(event_types.LINE):
        speaking: dict[str, list[str]] = {}
        waiting: dict[str, list[str]] = {}
        for row in stored:
            if type_ in row.spec.when:
                (speaking if row.on else waiting).setdefault(row.spec.channel, []).append(row.key)
        stops.append(
            Stop(
                type_,
                label,
                X0 + number * STEP,
                passed.get(type_, 0),
                max(2.0, 38 * passed.get(type_, 0) / most),
                speaking,
                waiting,
                frozenset(channel for channel, keys in speaking.items() if _same_news(keys, stored, messages)),
                (elsewhere or {}).get(type_, ""),
            )
        )
    return stops


def _same_news(keys: list[str], stored: list[StoredRoute], messages: Mapping[str, Message]) -> bool:
    """Whether two of these routes send the same message, or messages that tell of the same."""
    sent = [row.spec.send for row in stored if row.key in keys]
    return any(
        one == other or (one in messages and other in messages and messages[one].same_news(messages[other]))
        for one, other in itertools.combinations(sent, 2)
    )


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
    passed = counts.orders_by_type(
        session().connection(), list(live().source_ids.values()), g.today - dt.timedelta(days=days - 1)
    )
    stops = the_line(
        passed,
        [row for row in routes() if not row.spec.handler],
        live().setup.messages,
        live().setup.store.said_elsewhere,
    )
    first = g.today - dt.timedelta(days=29)
    counted = counts.days(session().connection(), store_id(), first, g.today)
    in_span = counted[-days:]
    began = dt.datetime.combine(in_span[0].day, dt.time(), g.zone).astimezone(dt.UTC)
    return render_template(
        "overview/index.html",
        gateways=figures.gateways(),
        handed_over=figures.handed_over(began),
        outcomes=figures.outcomes(in_span),
        cost=sum(day.cost for day in in_span),
        due=overview.due_next(session(), list(live().gateway_ids.values())),
        messages={id_: key for key, id_ in live().message_ids.items()},
        gateway_states=gateway_states(),
        gateway_keys={id_: key for key, id_ in live().gateway_ids.items()},
        steps=steps(),
        lanes=[
            (channel, capital(label), 150 + 40 * number)
            for number, (channel, label) in enumerate(CHANNEL_LABELS.items())
            if channel != "call" or any("call" in {**stop.live, **stop.draft} for stop in stops)
        ],
        stops=stops,
        gap=gap_of(stops),
        sidings=[
            (label, passed.get(t, 0), X0 + round(after * STEP) + 10, t) for t, label, after in event_types.SIDINGS
        ],
        needs=needs(),
        parcels=figures.parcels_under_way(),
        days=_days(counted),
        span=span,
        spans=SPANS,
        orders_in_span=passed.get("order.created", 0),
        names=names(),
    )


@pages.get("/grid")
def grid_page() -> Any:
    return grid.page()


@pages.post("/grid/others")
def save_said() -> Any:
    return grid.save_said()


@pages.post("/grid")
def save_grid() -> Any:
    return grid.save()


def needs() -> list[Need]:
    found = [*_engine_needs(), *_backlog(), *_stuck()]
    for active in live().setup.routes:
        problems = [one for one in problems_of(active.route, live().setup) if one.severity == "error"]
        if problems:
            what, key = problems[0].what, active.route.key
            found.append(Need("held", f"Route {active.route.name}", what, "Open the route", f"/routes/{key}"))
    for kind, key, why in specs.unreadable(session(), store_id()):
        found.append(Need("failed", f"The {kind} {key} can’t be read", why, "Open it", f"/{kind}s/{key}"))
    found += [*_not_come(), *_papers(), *_tables(), *_asked_in_vain(), *_parcels(), *_short()]
    return [*found, *_nameless(), *_new_statuses(), *_drifts(), *_unused()][:8]


def _backlog() -> list[Need]:
    """Whose events wait to be processed, where they wait for more than a moment."""
    if frame().pulse.state != "retrying":
        return []
    names_, found = {id_: key for key, id_ in live().source_ids.items()}, []
    rate, before = sends.planned_rate(session(), g.now), 0
    for source_id, number, since in events.waiting_by_source(session().connection(), MOST_WAITING):
        source = live().sources.get(names_.get(source_id, ""))
        if source is None or g.now - since < dt.timedelta(seconds=30):
            continue
        many = f"{number:,} or more events wait" if number == MOST_WAITING else f"{number:,} events wait"
        what = "1 event waits" if number == 1 else many
        before += number
        word = "not before" if before >= MOST_WAITING else "by"
        over = (
            f"Processed {word} {moment(g.now + dt.timedelta(seconds=before / rate))}, if it goes on so. "
            if rate
            else ""
        )
        why = f"The oldest came {moment(since)}. {over}Other sources’ events, and those of urgent routes, go first."
        found.append(Need("retrying", f"{source.name}: {what}", why, "Open the source", f"/sources/{source.key}"))
    return found


def _stuck() -> list[Need]:
    """What is held or has failed in the last 14 days, by its cause; one alone by its order."""
    stuck = overview.attention(session(), store_id(), g.now, MOST_CAUSES)
    alone = {send.reason: send for send in reversed(stuck)}
    orders = events.orders_of(session(), {send.order_id for send in stuck if send.order_id is not None})
    found = []
    for cause in sends.causes(session(), store_id(), g.now - dt.timedelta(days=14))[:MOST_CAUSES]:
        word = "Held" if cause.state == "held" else "Failed"
        send = alone.get(cause.exact[0])
        if cause.number == 1 and send is not None:
            number = orders[send.order_id].number if send.order_id in orders else "a send"
            found.append(Need(cause.state, f"{word}: {number}", send.reason, "See the send", f"/sends/{send.id}"))
        else:
            href = url_for("sends.index", state=cause.state, cause=cause.reason, span="all")
            sends_ = "1 send" if cause.number == 1 else f"{cause.number:,} sends"
            found.append(Need(cause.state, f"{word}: {sends_}", cause.reason, "See them", href))
    return found


def _papers() -> list[Need]:
    """Orders whose invoice could not be made."""
    if not live().setup.store.documents.on:
        return []
    held = documents.held(session().connection(), store_id(), 3)
    if len(held) == 1:
        what = f"Invoice of {held[0].order_number}: not made"
        return [Need("held", what, held[0].why, "Try it", f"/documents/try?order_id={held[0].order_id}")]
    return [Need("held", "Invoices that were not made", held[0].why, "See them", "/documents#held")] if held else []


def _tables() -> list[Need]:
    """Tables of which few rows are left to give out, or that can't be fetched."""
    found = []
    any_ = live().setup.given_out or live().setup.tables
    for row in shop_tables.of_store(session().connection(), store_id()) if any_ else ():
        if row.problem and row.due_at:
            since = f"What it says is of {moment(row.fetched_at)}: " if row.fetched_at else ""
            found.append(
                Need("failed", f"{row.name}: not fetched", f"{since}{row.problem}", "Open it", f"/tables/{row.key}")
            )
        left = shop_tables.left(session().connection(), row, row.low + 1) if row.once else 0
        if row.once and left <= row.low:
            few = "no row is left" if left == 0 else "1 row is left" if left == 1 else f"{left:,} rows are left"
            why = "Sends that find none are held." if left == 0 else f"You are told from {row.low:,} on."
            state = "held" if left else "failed"
            found.append(Need(state, f"{row.name}: {few}", why, "Add some", f"/tables/{row.key}"))
    return found


def _not_come() -> list[Need]:
    """Sources whose orders can't be fetched, and files that were not imported, or not all of their rows."""
    found = []
    fetched = {live().source_ids[key]: one for key, one in live().setup.sources.items() if one.is_fetched}
    for row in fetches.of_sources(session().connection(), fetched).values() if fetched else ():
        if row.problem:
            source = fetched[row.source_id]
            since = f"since {moment(row.through_at)}: " if row.through_at else ""
            what = f"{source.name}: no orders come in"
            found.append(Need("failed", what, f"{since}{row.problem}", "Open it", f"/sources/{source.key}/fetch"))
    keys = {id_: key for key, id_ in live().source_ids.items() if key in live().setup.sources}
    for row in imports.with_trouble(session().connection(), list(keys), g.now - dt.timedelta(days=3)):
        rows_ = "1 row" if row.failed == 1 else f"{row.failed:,} rows"
        what = f"{row.name}: not imported" if row.state == imports.FAILED else f"{row.name}: {rows_} not imported"
        why = row.problem or "Correct them in a file of their own, and upload that."
        found.append(Need("problem", what, why, "See them", f"/sources/{keys[row.source_id]}/files/{row.id}"))
    return found


def _asked_in_vain() -> list[Need]:
    """Questions with a reply that a person has to read, and those without an answer in the last seven days."""
    found = []
    for id_, replies, silent in questions.attention(session().connection(), store_id(), g.now - dt.timedelta(days=7)):
        key = live().message_key(id_)
        name = live().setup.messages[key].name if key in live().setup.messages else key
        href = f"/messages/{key}/question"
        if replies:
            what = "A reply to read" if replies == 1 else f"{replies} replies to read"
            why = f"“{name}”: what came is none of the answers. The question stays open."
            found.append(Need("held", what, why, "See it" if replies == 1 else "See them", f"{href}?outcome=open#list"))
        if silent:
            what, why = f"{silent} without an answer", f"“{name}”, in the last seven days."
            see = "See it" if silent == 1 else "See them"
            found.append(Need("scheduled", what, why, see, f"{href}?outcome=no_answer#list"))
    return found


def _parcels() -> list[Need]:
    """Parcels that are late, lost or were not handed over, and carriers' words that nobody knows."""
    found = []
    troubled, unknown = Counter[str](), Counter[str]()
    for _, _, trouble, words, number in figures.parcels_by_stage():
        troubled[trouble] += number
        unknown[words] += number
    del unknown[""]
    for key, state, what in (
        ("failed", "failed", "could not be handed over"),
        ("lost", "failed", "without an update"),
        ("late", "held", "late"),
    ):
        if number := troubled.get(key, 0):
            name = "1 parcel" if number == 1 else f"{number:,} parcels"
            why = {"late": "The day that was expected is over.", "lost": "No update for days."}.get(key, "")
            found.append(Need(state, f"{name} {what}", why, "See them", f"/parcels?trouble={key}"))
    if unknown:
        said, number = unknown.most_common(1)[0]
        words = f"“{said}”, of {number:,} parcel{'' if number == 1 else 's'}."
        found.append(Need("held", "A carrier’s words are not understood", words, "Say what they mean", "/parcels"))
    return found


def _short() -> list[Need]:
    """Gateways whose credit or quota is used up, or soon will be."""
    found = []
    of_gateway = {id_: key for key, id_ in live().gateway_ids.items()}
    _, used = health_and_use()
    counted = [id_ for id_, use in used.items() if use.balance is not None and id_ in of_gateway]
    week = g.today - dt.timedelta(days=6)
    spent = counts.spent(session().connection(), store_id(), counted, week) if counted else {}
    for gateway_id, use in used.items():
        gateway = live().setup.gateways.get(of_gateway.get(gateway_id, ""))
        if gateway is None:
            continue
        href = f"/gateways/{gateway.key}"
        state = gateway_states()[gateway.key]
        if state.shape == "held" and not gateway.off:
            until = f"until {moment(state.until)}" if state.until else "until there is credit again"
            found.append(Need("held", f"{gateway.name}: {state.word}", f"Sends wait {until}.", "Open it", href))
        elif use.balance is not None and use.balance <= gateway.quota.warn_below * 1_000_000:
            left = f"{use.balance / 1_000_000:.2f} {live().setup.store.currency} left."
            found.append(Need("retrying", f"{gateway.name}: credit runs low", left, "Open it", href))
        elif use.balance is not None and use.balance / 1_000_000 < spent.get(gateway_id, 0.0):
            days = int(use.balance / 1_000_000 / spent[gateway_id] * 7)
            lasts = f"At the pace of the last 7 days it lasts {days or 'less than a'} day{'' if days < 2 else 's'}."
            found.append(Need("retrying", f"{gateway.name}: credit ends soon", lasts, "See the forecast", "/forecast"))
    return found


def _nameless() -> list[Need]:
    """Sources whose deliveries come in, and that do not say what any of them means."""
    nameless = {key: one for key, one in live().setup.sources.items() if not one.event_names and not one.needs_no_names}
    silent = {live().source_ids[key]: one for key, one in nameless.items()}
    came = (
        counts.meaning_nothing(session().connection(), list(silent), g.today - dt.timedelta(days=13)) if silent else {}
    )
    return [
        Need(
            "held",
            f"{silent[id_].name}: no event names",
            f"{number:,} deliveries came in, and nothing says what happened in them: no route can use them.",
            "Set event names",
            f"/sources/{silent[id_].key}/event-names",
        )
        for id_, number in came.items()
    ]


def _new_statuses() -> list[Need]:
    """Words of orders' statuses that were first seen within a day, and that are not mapped to an event."""
    found = []
    keys = {id_: key for key, id_ in live().source_ids.items() if key in live().sources}
    for word in status_words.new(session(), list(keys), g.now):
        source = live().sources[keys[word.source_id]]
        if word.word not in source.meanings(word.part):
            part = word.part.replace("_", " ")
            why = f"{source.name} had no order with it before. It is not mapped to an event, so no route waits for it."
            href = f"/sources/{source.key}/connect#{word.part}"
            found.append(Need("retrying", f"A new {part}: {word.word}", why, "Map it", href))
    return found


def _drifts() -> list[Need]:
    """Sources whose payloads no longer have what a recipe needs."""
    found = []
    known = shapes.of_sources(session(), list(live().source_ids.values()))
    for key, source in live().sources.items():
        drifts = drifting(source, known.get(live().source_ids[key], {}))
        if drifts:
            first = min(drifts.values(), key=lambda drift: drift.since)
            paths = ", ".join(list(dict.fromkeys(drift.path for drift in drifts.values()))[:3])
            href = f"/sources/{key}/read?open={next(iter(drifts))}"
            found.append(Need("retrying", f"Drift: {source.name}", f"{paths}: {first.label}", "Map it again", href))
    return found


def _unused() -> list[Need]:
    """Published messages that no route sends."""
    used = {row.spec.send for row in routes()} | {active.route.send for active in live().setup.routes}
    unused = [one.name for key, one in live().setup.messages.items() if key not in used]
    if not unused:
        return []
    what = f"{unused[0]} is in no route" if len(unused) == 1 else f"{len(unused)} messages are in no route"
    if len(unused) == 1:
        return [Need("scheduled", what, "It is published, and nothing sends it.", "Create a route", "/routes")]
    why = ", ".join(unused[:4]) + (", …" if len(unused) > 4 else "")
    return [Need("scheduled", what, why, "Show them", "/messages?state=unused")]


def _engine_needs() -> list[Need]:
    """What stands still: a set-up that can't be read, gateways that are unreachable, events that could not be
    planned.
    """
    found = []
    unreadable = services().setups.unreadable().get(store_id())
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
    unwell, _ = health_and_use()
    for key, id_ in live().gateway_ids.items():
        health = unwell.get(id_)
        if health is not None and health.opened_at is not None and key in live().setup.gateways:
            found.append(
                Need(
                    "failed",
                    f"{live().setup.gateways[key].name}: {gateway_states()[key].word}",
                    f"since {moment(health.opened_at)}: {health.reason}",
                    "Open the gateway",
                    f"/gateways/{key}",
                )
            )
    for trouble in sends.troubles(session(), g.now):
        what = "Another program has the port, or it may not be used. Free it, or set ANGELON_RETURNS to another."
        found.append(Need("failed", trouble, what, "How it is set up", "/guide/deliver"))
    failing = nights.problems(session().connection(), g.now)
    if why := failing.get(nights.EXPORT):
        found.append(Need("failed", "The nightly export failed", why, "How it is set up", "/guide/commands"))
    if why := failing.get(nights.ARCHIVE):
        found.append(Need("failed", "The archive can’t be written to", why, "How it is set up", "/guide/production"))
    waiting = inquiries.waiting_by_target(session())
    for target, health in inquiries.unhealthy(session().connection()).items():
        name, href = name_of(live(), target)
        if name:
            number = waiting.get(target, (0, None))[0]
            waits = f" {number:,} {'inquiry waits' if number == 1 else 'inquiries wait'} for it." if number else ""
            why = f"since {moment(health.opened_at)}: {health.reason}.{waits} It is retried automatically."
            found.append(Need("failed", f"{name} does not answer", why, "Open it", href))
    number = events.problems_count(session(), list(live().source_ids.values()), g.now - dt.timedelta(days=14))
    if number:
        first = events.with_problems(session(), list(live().source_ids.values()), 1)[0]
        found.append(
            Need(
                "problem",
                "1 event was not processed" if number == 1 else f"{number} events were not processed",
                first.problem,
                "See and process again",
                "/events",
            )
        )
    failed = inquiries.failed(
        session().connection(), list(live().source_ids.values()), g.now - dt.timedelta(days=14), MANY
    )
    if failed:
        count = f"{len(failed)}{' or more' if len(failed) == MANY else ''}"
        what = f"{count} look-up{' was' if len(failed) == 1 else 's were'} not answered"
        found.append(Need("failed", what, failed[0].problem, "See and ask again", "/events"))
    return found


def _days(counted: list[counts.Day]) -> list[tuple[str, int, int, int, float]]:
    """The last thirty days of the shop: (day, sends, those that needed more than one try, orders, cost)."""
    return [(f"{one.day.day} {one.day:%b}", one.sends, one.retried, one.orders, one.cost) for one in counted]
