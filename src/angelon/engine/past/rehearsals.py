"""Rehearsals over many events: what routes as they stand would have made of them. Nothing is stored, nothing sent."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy import select as core_select
from sqlmodel import Session

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.payload.body import NotReadable
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Facts, PriorSend
from angelon.core.planning.people import recipient_key
from angelon.core.planning.plan import FALLBACK_USED, Decision, PlannedSend, decide, in_turn, plan_fallback, work_out
from angelon.core.planning.rehearsal_history import RehearsalHistory
from angelon.core.questions import Asked, event_of_outcome
from angelon.core.reading import Reading
from angelon.core.specs import Source
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.db.log import events, history, inquiries, orders
from angelon.db.log.orders import ORDER
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import StoredRoute
from angelon.engine.arrivals.event_reader import Payloads, event_of, read_event
from angelon.engine.orders.parcels import know
from angelon.engine.past.customers_as_of import CustomersAsOf

CHUNK = 250


@dataclass(frozen=True)
class Rehearsed:
    """One event, and what each of the routes rehearsed would have made of it, by the name given to the route."""

    event_id: str
    order_id: int | None
    number: str
    type: str
    received_at: dt.datetime
    decisions: dict[str, Decision]


@dataclass(frozen=True)
class Span:
    """Which events: of the last days, or the newest so many."""

    days: int = 0
    newest: int = 10_000

    def since(self, now: dt.datetime) -> dt.datetime | None:
        return now - dt.timedelta(days=self.days) if self.days else None


def with_source(live: LiveSetup, source: Source) -> LiveSetup:
    """The set-up with a source as it is given, in place of the live one."""
    return replace(live, setup=replace(live.setup, sources={**live.setup.sources, source.key: source}))


def rehearse(
    connection: Connection, live: LiveSetup, routes: Mapping[str, Route], span: Span, now: dt.datetime
) -> Iterator[tuple[int, int, list[Rehearsed]]]:
    """Rehearses routes over a span, oldest event first; gives (done, of how many, what came) a chunk at a time.

    Each route remembers what it itself has said; what it really said counts for nothing, what others said does.
    """
    sources = sorted(
        {live.source_ids[key] for route in routes.values() for key in route.sources if key in live.source_ids}
    )
    types = sorted({type_ for route in routes.values() for type_ in route.when})
    ids = events.in_span(connection, sources, types, span.since(now), span.newest)
    histories = {name: RehearsalHistory() for name in routes}
    leave = frozenset(route.key for route in routes.values())
    asked = history.HistoryNeeds.by(routes.values(), live.setup)
    customers = CustomersAsOf(connection, live, None, asked) if asked.customer or asked.caps else None
    if not ids:
        yield 0, 0, []
    for start in range(0, len(ids), CHUNK):
        rows = events.in_order(connection, ids[start : start + CHUNK])
        yield start + len(rows), len(ids), list(_chunk(connection, live, routes, histories, leave, customers, rows))


def rehearse_one(connection: Connection, live: LiveSetup, route: Route, event: EventRecord) -> Decision | None:
    """What a route makes of one event: what a rehearsal over all that came for its customer before it makes of it, and
    so what the worker would. None where the route does not wait for such an event.
    """
    if event.type not in route.when or live.source_key(event.source_id) not in route.sources:
        return None
    order_ids = orders.of_same_customer(connection, event.order_id) if event.order_id is not None else []
    sources = [live.source_ids[key] for key in route.sources if key in live.source_ids]
    ids = events.leading_to(connection, event, order_ids, sources, route.when) if order_ids else [event.id]
    asked = history.HistoryNeeds.by([route], live.setup)
    customers = CustomersAsOf(connection, live, order_ids, asked) if asked.customer or asked.caps else None
    histories = {"now": RehearsalHistory()}
    found = None
    for one in _chunk(
        connection,
        live,
        {"now": route},
        histories,
        frozenset({route.key}),
        customers,
        events.in_order(connection, ids),
    ):
        if one.event_id == event.id:
            found = one.decisions["now"]
    return found


def rehearse_fallbacks(
    connection: Connection, live: LiveSetup, route: Route, event: EventRecord, planned: Sequence[PlannedSend]
) -> list[list[PlannedSend]]:
    """For each planned send what would follow if it failed, and then if that failed too, as the worker makes it."""
    found: list[list[PlannedSend]] = [[] for _ in planned]
    if not route.fallback.options or not any(send.state is State.SCHEDULED for send in planned):
        return found
    payloads = Payloads()
    payloads.load(connection, live, [event])
    root = event.parent_id or event.id
    payload, reading, variables = _read(live, payloads, event, inquiries.values(connection, {root}).get(root))
    if reading is None:
        return found
    know(connection, live, [(event, event.order_id, reading)])
    known = history.of_one(connection, live, [route], event.source_id, reading, root, frozenset({route.key}))
    facts = as_of(known, event, speaking_before(live.setup.routes, [route]))
    happened = event_of(event, live.setup.sources[live.source_key(event.source_id)], payload)
    for send, chain in zip(planned, found, strict=True):
        recipient = next((one for one in route.to if recipient_key(one) == send.to), None)
        last: PlannedSend | None = send
        while recipient is not None and last is not None and last.state is State.SCHEDULED:
            why = f"{CHANNEL_LABELS[last.channel]} failed. {FALLBACK_USED}"
            last = plan_fallback(
                happened, reading, variables, route, live.setup, facts, last.due_at, recipient, last.step, why
            )
            if last is not None:
                chain.append(last)
    return found


def rehearse_outcome(
    session: Session,
    live: LiveSetup,
    message: str,
    asked_with: str,
    outcome: str,
    routes: Sequence[StoredRoute],
    now: dt.datetime,
) -> list[tuple[StoredRoute, Decision]] | None:
    """What each route that waits for it would make of an outcome of a message's question, as if it came now to the
    order whose event (an id) it was asked with. None where that event is kept no longer, or can't be read.
    """
    row = events.by_ids(session.connection(), [asked_with]).get(asked_with)
    type_ = event_of_outcome(outcome)
    waiting = [(one, one.live or one.spec) for one in routes]
    waiting = [(one, route) for one, route in waiting if type_ in route.when and not route.handler]
    try:
        read = read_event(session, live, row) if row is not None else None
    except NotReadable:
        read = None
    if row is None or read is None:
        return None
    made = [route for _, route in waiting]
    keys = frozenset(route.key for route in made)
    root = row.parent_id or row.id
    known = history.of_one(session.connection(), live, made, row.source_id, read.reading, root, keys)
    others = tuple(one for one in known.questions if one.message != message)
    facts = replace(known, questions=(*others, Asked(message, now, outcome, now)))
    event = replace(read.event, type=type_, was=message, now=outcome, name=outcome, received_at=now)
    return [
        (one, decide(event, read.reading, read.variables, ActiveRoute(route, ALWAYS), live.setup, facts, now))
        for one, route in waiting
    ]


def speaking_before(active: Sequence[ActiveRoute], rehearsed: Sequence[Route]) -> frozenset[str]:
    """The keys of the active routes that have their say before the first of those that are rehearsed."""
    own = {route.key: route for route in rehearsed}
    routes = [one for one in active if one.route.key not in own]
    turn = [one.route.key for one in in_turn([*routes, *(ActiveRoute(route, ALWAYS) for route in own.values())])]
    return frozenset(turn[: min((turn.index(key) for key in own), default=0)])


def _chunk(
    connection: Connection,
    live: LiveSetup,
    routes: Mapping[str, Route],
    histories: dict[str, RehearsalHistory],
    leave: frozenset[str],
    customers: CustomersAsOf | None,
    rows: list[EventRecord],
) -> Iterator[Rehearsed]:
    answered = inquiries.values(connection, {row.parent_id or row.id for row in rows if row.source_id in live.asking})
    payloads = Payloads()
    payloads.load(connection, live, rows)
    read = [(row, *_read(live, payloads, row, answered.get(row.parent_id or row.id))) for row in rows]
    readings = [reading for _, _, reading, _ in read if reading is not None]
    know(connection, live, [(row, row.order_id, reading) for row, _, reading, _ in read if reading is not None])
    order_ids = {row.order_id for row in rows if row.order_id}
    known = history.known(connection, live, list(routes.values()), order_ids, readings)
    seen = (
        {
            row.id: {"status": row.seen or []} | (row.seen_others or {})
            for row in connection.execute(
                core_select(ORDER.c.id, ORDER.c.seen, ORDER.c.seen_others).where(ORDER.c.id.in_(order_ids))
            )
        }
        if order_ids
        else {}
    )
    before = speaking_before(live.setup.routes, list(routes.values()))
    by_handlers = any(route.handler for route in routes.values())
    code = live.setup.asks.digest if live.setup.asks is not None and by_handlers else ""
    asked = inquiries.asked(connection, {row.id for row in rows}, code) if by_handlers else {}
    for row, payload, reading, variables in read:
        if reading is None:
            continue
        source = live.source_key(row.source_id)
        event = event_of(row, live.setup.sources[source], payload, asked=asked.get(row.id))
        at, delivery = row.received_at, row.parent_id or row.id
        statuses = {part: _statuses(entries, at) for part, entries in seen.get(row.order_id, {}).items()}
        base = as_of(
            known.facts(
                source,
                reading.reference,
                delivery,
                row.order_id,
                None,
                statuses.pop("status", ()),
                leave,
                other_statuses=statuses,
            ),
            row,
            before,
        )
        identity = customers.identity(row.order_id) if customers else ""
        if customers:
            base = Facts(
                **{name: getattr(base, name) for name in base.__slots__}
                | {"contact": customers.contact(identity, at, bool(row.parent_id))}
            )
        decisions = {}
        for name, route in routes.items():
            mine = histories[name].facts(base, event, reading.reference, identity, delivery)
            decision = decisions[name] = decide(
                event, reading, variables, ActiveRoute(route, ALWAYS), live.setup, mine, at
            )
            histories[name].note(decision, event, reading.reference, identity, delivery, at)
        yield Rehearsed(row.id, row.order_id, reading.number, row.type, at, decisions)


def _read(
    live: LiveSetup, payloads: Payloads, row: EventRecord, answered: Mapping[str, Any] | None
) -> tuple[Any, Reading | None, Any]:
    source = live.setup.sources[live.source_key(row.source_id)]
    try:
        payload = payloads.of(row, answered)
    except NotReadable:
        return None, None, None
    reading, variables = work_out(source, live.setup, payload)
    return payload, reading, variables


def as_of(known: Facts, row: EventRecord, before: Collection[str]) -> Facts:
    """What had happened when an event (a row of the event table) was planned. What follows from a delivery came after
    it, in the same moment. Of what was sent in the very moment of planning, that of the routes `before` counts.
    """
    at, planned = row.received_at, max(row.planned_at or row.received_at, row.received_at)

    def there(send: PriorSend) -> bool:
        return send.at < planned or send.at == at or (send.at == planned and send.route in before)

    types = tuple(t for t in known.types if t[1] < at or (t[1] == at and (row.parent_id or t[0] == row.type)))
    return Facts(
        known.sent_for_order,
        known.last_sent_to_customer,
        known.statuses,
        known.current,
        known.contact,
        types,
        tuple(s for s in known.prior_sends if there(s)),
        tuple(m for m in known.sent_to_customer if m <= at),
        tuple(s for s in known.same_delivery if there(s)),
        known.suppressed,
        known.other_statuses,
        tuple(answer for answer in known.answers if answer.at <= at),
        known.consents,
        tuple(one.as_of(at) for one in known.questions if one.asked_at <= at),
    )


def _statuses(seen: list[Any], at: dt.datetime) -> tuple[str, ...]:
    return tuple(status for status, since in seen if dt.datetime.fromisoformat(since) <= at)
