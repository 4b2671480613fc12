"""A route, or a message without one, sent by a person for chosen orders: previewed first, then executed at a pace that
lets others through, paused, stopped; with what came of each order.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sqlmodel import Session, col, select

from angelon.core.payload.body import NotReadable
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Facts
from angelon.core.planning.plan import Decision, decide, work_out
from angelon.core.planning.readiness import problems_of
from angelon.core.planning.turns import MANY
from angelon.core.problems import Invalid
from angelon.core.sending.due import EventFacts
from angelon.core.specs import Message
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.core.values import Value, pack
from angelon.db.log import events, history, orders, sends
from angelon.db.log import inquiries as look_ups
from angelon.db.records import NewSend
from angelon.db.rows import EventRecord
from angelon.db.setup import specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import EventRow, OrderRow, RunRow, SendRow
from angelon.engine.arrivals.event_reader import Payloads, event_of
from angelon.engine.installation import Installation
from angelon.engine.orders.marking import mark
from angelon.engine.orders.parcels import know
from angelon.engine.unit import MACHINE, Actor, Work, unit

CHUNK = 250
"""Orders that are looked at together."""


AT_ONCE, PACE = 20, dt.timedelta(seconds=0.1)
"""So many sends of a run are due at once, each that follows this much later: what an order of now is told goes between.
"""
PAUSED = "The run is paused."


@dataclass(frozen=True)
class Wish:
    """What a person wants to have sent."""

    route: Route
    answers: Mapping[str, Value] = field(default_factory=dict)
    """What was typed for all orders, by variable."""
    of_order: Mapping[int, Mapping[str, Value]] = field(default_factory=dict)
    """What a file says of single orders, by their ids: it goes before what was typed for all."""
    again: frozenset[int] = frozenset()
    """Orders that are sent for although they have been before."""
    cc: str = ""
    reply_to: str = ""
    """Addresses of whoever sends it, for emails."""

    def given(self, order_id: int | None) -> dict[str, Value]:
        return {**self.answers, **self.of_order.get(order_id or 0, {})}


@dataclass(frozen=True)
class OrderPreview:
    """One order of a run: its event, what would come of it, and when the route sent for it before (None: never)."""

    order: OrderRow
    event: EventRecord | None
    decision: Decision | None
    sent_at: dt.datetime | None
    problem: str = ""


class SetupChanged(RuntimeError):
    """Somebody changed the set-up between the decision and its storing."""


def preview(
    session: Session,
    live: LiveSetup,
    wish: Wish,
    chosen: Sequence[OrderRow],
    now: dt.datetime,
) -> list[OrderPreview]:
    """What would come of orders, in a bounded number of queries for every `CHUNK` of them. `now` is aware."""
    found: list[OrderPreview] = []
    for start in range(0, len(chosen), CHUNK):
        found += _chunk(session, live, wish, chosen[start : start + CHUNK], now)
    return found


def _chunk(
    session: Session,
    live: LiveSetup,
    wish: Wish,
    chosen: Sequence[OrderRow],
    now: dt.datetime,
) -> Iterator[OrderPreview]:
    connection, route = session.connection(), wish.route
    ids = [order.id or 0 for order in chosen]
    sent_at = sends.last_of_route(connection, live.route_ids.get(route.key), ids)
    picked = {id_: _event_for(route, found) for id_, found in events.of_orders(connection, ids).items()}
    about = [(event, wish.given(id_)) for id_, event in picked.items() if event is not None]
    read, problems = _read(session, live, about)
    leave = {id_: frozenset({route.key}) for id_ in ids if id_ in wish.again}
    occurrences = {
        str(id_): history.Occurrence(event.source_id, event.parent_id or event.id, read[event.id].reading)
        for id_, event in picked.items()
        if event is not None and event.id in read
    }
    facts = history.of_many(connection, live, [route], occurrences, {str(id_): routes for id_, routes in leave.items()})
    for order in chosen:
        event = picked.get(order.id or 0)
        before = sent_at.get(order.id or 0)
        if event is None:
            problem = "No event of this order is kept, so its values can’t be evaluated."
            yield OrderPreview(order, None, None, before, problem)
        elif event.id not in read:
            yield OrderPreview(order, event, None, before, problems[event.id])
        else:
            decision = _decision(live, route, read[event.id], facts[str(order.id)], now)
            yield OrderPreview(order, event, decision, before)


def _decision(live: LiveSetup, route: Route, one: EventFacts, facts: Facts, now: dt.datetime) -> Decision:
    active = ActiveRoute(route, ALWAYS)
    return decide(one.event, one.reading, one.variables, active, live.setup, facts, now, manual=True)


def _event_for(route: Route, found: Sequence[EventRecord]) -> EventRecord | None:
    """Which of an order's events, newest first, a run takes: one that the route waits for, else a delivered one."""
    return next((event for event in found if event.type in route.when), None) or next(
        (event for event in found if event.parent_id is None), None
    )


def _read(
    session: Session, live: LiveSetup, about: Sequence[tuple[EventRecord, Mapping[str, Value]]]
) -> tuple[dict[str, EventFacts], dict[str, str]]:
    """Events as they are read now, each with what was given for it, by id; and why others can't be."""
    picked = [event for event, _ in about]
    read: dict[str, EventFacts] = {}
    problems: dict[str, str] = {}
    there = [event for event in picked if live.source_key(event.source_id) in live.setup.sources]
    payloads = Payloads()
    payloads.load(session.connection(), live, there)
    asking = live.asking
    roots = {event.parent_id or event.id for event in there if event.source_id in asking}
    answered = look_ups.values(session.connection(), roots)
    for event, given in about:
        source = live.setup.sources.get(live.source_key(event.source_id))
        if source is None:
            problems[event.id] = "Its source is gone."
            continue
        try:
            payload = payloads.of(event, answered.get(event.parent_id or event.id))
        except NotReadable as error:
            problems[event.id] = str(error.problem)
            continue
        reading, variables = work_out(source, live.setup, payload, given)
        read[event.id] = EventFacts(event_of(event, source, payload), reading, variables)
    of_order = [(event, event.order_id, read[event.id].reading) for event in picked if event.id in read]
    know(session.connection(), live, of_order)
    return read, problems


OVERLAP = dt.timedelta(seconds=5)
"""By how much what is taken to be new reaches back: clocks of two processes may differ by so much."""


def execute(
    installation: Installation,
    live: LiveSetup,
    wish: Wish,
    order_ids: Collection[int],
    key: str,
    actor: Actor = MACHINE,
) -> tuple[int | None, bool]:
    """Sends what is wished for orders, once for each `key`; gives (the run's id, whether it was started now), no id
    where nothing would be sent.

    Decisions hold as of the transaction that stores them: what was sent for an order, or came of it, while they were
    worked out is decided upon again in it. Raises SetupChanged.
    """
    now = installation.clock.now()
    with installation.database.reading() as session:
        chosen = preview(session, live, wish, orders.by_ids(session, live.store_id, order_ids), now)
    with unit(installation, live.store_id, actor) as work:
        known = work.session.exec(select(RunRow.id).where(RunRow.store_id == live.store_id, RunRow.key == key)).first()
        if known is not None:
            return known, False
        if specs.versions(work.session).get(live.store_id) != live.version:
            raise SetupChanged
        moved = _moved_since(work.session, [one.order.id or 0 for one in chosen], now - OVERLAP)
        if moved:
            rows = orders.by_ids(work.session, live.store_id, moved)
            fresh = {one.order.id: one for one in preview(work.session, live, wish, rows, work.now)}
            chosen = [fresh.get(one.order.id, one) for one in chosen]
        if not any(send.state is not State.SKIPPED for one in chosen if one.decision for send in one.decision.sends):
            return None, False
        return store(work, live, wish, chosen, key).id, True


def _moved_since(session: Session, order_ids: list[int], at: dt.datetime) -> list[int]:
    """The orders that something was made for, or came of, since a moment."""
    moved: set[int] = set()
    for start in range(0, len(order_ids), 500):
        part = order_ids[start : start + 500]
        made = select(SendRow.order_id).where(col(SendRow.order_id).in_(part), SendRow.created_at >= at)
        came = select(EventRow.order_id).where(col(EventRow.order_id).in_(part), EventRow.received_at >= at)
        moved |= {id_ for statement in (made, came) for id_ in session.exec(statement) if id_ is not None}
    return [id_ for id_ in order_ids if id_ in moved]


def store(work: Work, live: LiveSetup, wish: Wish, chosen: Sequence[OrderPreview], key: str | None = None) -> RunRow:
    """Stores a run and its sends. What would be skipped, or for which a condition is not met, makes no send."""
    route = wish.route
    run = RunRow(
        store_id=live.store_id,
        route_id=live.route_ids[route.key],
        started_at=work.now,
        answers={name: pack(value) for name, value in wish.answers.items()},
        results=[],
        key=key,
        by=work.actor.name,
    )
    work.session.add(run)
    work.session.flush()
    message = _own(live, wish)
    results: list[dict[str, Any]] = []
    made: list[NewSend] = []
    for one in chosen:
        new = _sends(work, live, one, run.id, message, len(made))
        made += new
        contact_id = one.order.contact_id
        if new and route.marks and contact_id is not None:
            mark(work.connection, live, contact_id, route.marks, route.name, work.now)
        results.append(_result(one, [send.id for send in new], wish.of_order.get(one.order.id or 0)))
    work.sends.add(made)
    run.results = results
    work.session.flush()
    work.record("run manually", "route", route.key, None, {"orders": len(chosen), "sends": len(made), "run": run.id})
    return run


def _own(live: LiveSetup, wish: Wish) -> Mapping[str, Any] | None:
    """The message with whoever sends it in its envelope; None where it stays as it is."""
    message = live.setup.messages.get(wish.route.send)
    if message is None or wish.route.channel != "email" or not (wish.cc or wish.reply_to):
        return None
    envelope = message.envelope
    cc = ", ".join(one for one in (envelope.cc, wish.cc) if one)
    changed = envelope.model_copy(update={"cc": cc, "reply_to": wish.reply_to or envelope.reply_to})
    return message.model_copy(update={"envelope": changed}).plain()


def _sends(
    work: Work,
    live: LiveSetup,
    one: OrderPreview,
    run_id: int | None,
    message: Mapping[str, Any] | None,
    before: int,
) -> list[NewSend]:
    """One order's sends, of which so many come `before` them in the run."""
    if one.decision is None or one.event is None:
        return []
    made: list[NewSend] = []
    for send in one.decision.sends:
        if send.state is State.SKIPPED:
            continue
        later = max(0, before + len(made) - AT_ONCE + 1) * PACE
        id_ = work.clock.new_id("sd", work.now)
        about = (one.event.id, one.order.id, work.now)
        new = NewSend.planned(live, send, id_, *about, run_id=run_id, gives_way=before >= MANY)
        made.append(replace(new, due_at=new.due_at + later, draft=message if new.channel == "email" else None))
    return made


def by_hand(message: Message, channel: str, gateway: str, sender: str = "") -> Route:
    """The route by which a message is sent that no event triggers."""
    key = f"by-hand-{message.key}-{channel}"[:60].rstrip("-")
    return Route(
        key=key, name=f"{message.name}, manual"[:100], by_hand=True, send=message.key, channel=channel,
        gateway=gateway, sender=sender, guards={"even_if_notified": True},
    )  # fmt: skip


def keep_route(work: Work, route: Route) -> None:
    """Has a route by hand live as it is wished, where it is not yet. Raises Invalid with what keeps it from that."""
    live = work.live.setup
    if any(active.route == route for active in live.routes):
        return
    stops = [problem for problem in problems_of(route, live) if problem.severity == "error"]
    if stops:
        raise Invalid(stops)
    row = work.specs.save_draft(route)
    row.gone_at = None
    work.specs.publish("route", row)
    work.specs.switch(row, True)


def pause(work: Work, run_id: int) -> int:
    """Holds what a run has not sent yet; says how many sends."""
    moved = work.sends.move(
        sends.of_run_in(work.session, run_id, (State.SCHEDULED, State.RETRYING)), State.HELD, PAUSED
    )
    work.record("run paused", "run", str(run_id), None, {"sends": len(moved)})
    return len(moved)


def go_on(work: Work, run_id: int) -> int:
    """Sends what a paused run holds; says how many sends."""
    moved = work.sends.move(sends.of_run_in(work.session, run_id, (State.HELD,), PAUSED), State.SCHEDULED)
    work.record("run continued", "run", str(run_id), None, {"sends": len(moved)})
    return len(moved)


def stop(work: Work, run_id: int) -> int:
    """Cancels what a run has not sent yet; says how many sends."""
    open_ = (State.SCHEDULED, State.RETRYING, State.HELD)
    moved = work.sends.move(sends.of_run_in(work.session, run_id, open_), State.CANCELLED, "The run was stopped.")
    work.record("run stopped", "run", str(run_id), None, {"sends": len(moved)})
    return len(moved)


def _result(one: OrderPreview, ids: list[str], given: Mapping[str, Value] | None) -> dict[str, Any]:
    """What is kept of an order of a run."""
    outcome, why = ("problem", one.problem) if one.decision is None else (one.decision.outcome, one.decision.reason)
    made = {"order": one.order.id, "number": one.order.number, "sends": ids, "outcome": outcome, "why": why}
    return made | ({"given": {name: pack(value) for name, value in given.items()}} if given else {})
