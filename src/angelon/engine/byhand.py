"""A route run by hand on chosen orders: shown first, then done, with what came of each order."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlmodel import Session, col, select

from angelon.core.payload.body import NotReadable
from angelon.core.planning.given import ALWAYS, ActiveRoute
from angelon.core.planning.plan import Decision, decide
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.core.values import Value
from angelon.db import facts, setup
from angelon.db import sends as queries
from angelon.db.database import Database
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow, OrderRow, RunRow, SendRow
from angelon.engine.clock import Clock
from angelon.engine.event_reader import read_event
from angelon.engine.planner import send_row


@dataclass(frozen=True)
class Chosen:
    """One order of a run: its event, what would come of it, and when the route spoke for it before (None: never)."""

    order: OrderRow
    event: EventRow | None
    decision: Decision | None
    spoke_at: dt.datetime | None
    problem: str = ""


def look(
    session: Session,
    live: LiveSetup,
    route: Route,
    orders: Collection[OrderRow],
    again: Collection[int],
    answers: Mapping[str, Value],
    now: dt.datetime,
) -> list[Chosen]:
    """What a route would make of orders. Orders in `again` are spoken for although they have been before."""
    return [_one(session, live, route, order, order.id in again, answers, now) for order in orders]


def _one(
    session: Session,
    live: LiveSetup,
    route: Route,
    order: OrderRow,
    again: bool,
    answers: Mapping[str, Value],
    now: dt.datetime,
) -> Chosen:
    events = list(
        session.exec(
            select(EventRow)
            .where(EventRow.order_id == order.id)
            .order_by(col(EventRow.received_at).desc(), col(EventRow.id).desc())
            .limit(50)
        )
    )
    event = next((event for event in events if event.type in route.when), None) or next(
        (event for event in events if event.parent_id is None), None
    )
    spoke = session.exec(
        select(SendRow.created_at)
        .where(
            SendRow.order_id == order.id,
            SendRow.route_id == live.route_ids.get(route.key),
            col(SendRow.state).not_in([State.SKIPPED, State.CANCELLED]),
        )
        .order_by(col(SendRow.created_at).desc())
    ).first()
    if event is None:
        return Chosen(order, None, None, spoke, "No event of this order is kept, so its values can’t be worked out.")
    source = live.setup.sources.get(live.source_key(event.source_id))
    if source is None:
        return Chosen(order, event, None, spoke, "Its source is gone.")
    try:
        found = read_event(session, live, event, answers)
    except NotReadable as error:
        return Chosen(order, event, None, spoke, str(error))
    leave = frozenset({route.key}) if again else frozenset[str]()
    known = facts.of_one(
        session.connection(), live, [route], event.source_id, found.reading, event.parent_id or event.id, leave
    )
    return Chosen(
        order,
        event,
        decide(
            found.event,
            found.reading,
            found.variables,
            ActiveRoute(route, ALWAYS),
            live.setup,
            known,
            now,
            by_hand=True,
        ),
        spoke,
    )


class SetupChanged(RuntimeError):
    """Somebody changed the set-up between the decision and its storing."""


OVERLAP = dt.timedelta(seconds=5)
"""By how much what is taken to be new reaches back: clocks of two processes may differ by so much."""


def run_once(
    database: Database,
    live: LiveSetup,
    route: Route,
    order_ids: Collection[int],
    again: Collection[int],
    answers: Mapping[str, Value],
    clock: Clock,
    key: str,
) -> tuple[int | None, bool]:
    """Runs a route on orders, once for each `key`; gives (the run's id, whether it was started now), no id where
    nothing would be sent.

    Decisions hold as of the transaction that stores them: what was told to an order, or came of it, while they were
    worked out is decided upon again in it. Raises SetupChanged.
    """
    looked_at = clock.now() - OVERLAP
    with database.reading() as session:
        chosen = look(session, live, route, _orders(session, live, order_ids), again, answers, clock.now())
    with database.writing() as session:
        known = session.exec(select(RunRow.id).where(RunRow.store_id == live.store_id, RunRow.key == key)).first()
        if known is not None:
            return known, False
        if setup.versions(session).get(live.store_id) != live.version:
            raise SetupChanged
        moved = _moved_since(session, [one.order.id or 0 for one in chosen], looked_at)
        if moved:
            fresh = {
                one.order.id: one
                for one in look(session, live, route, _orders(session, live, moved), again, answers, clock.now())
            }
            chosen = [fresh.get(one.order.id, one) for one in chosen]
        if not any(send.state is not State.SKIPPED for one in chosen if one.decision for send in one.decision.sends):
            return None, False
        return carry_out(session.connection(), session, live, route, chosen, answers, clock, key).id, True


def _orders(session: Session, live: LiveSetup, ids: Collection[int]) -> list[OrderRow]:
    found = {}
    wanted = list(dict.fromkeys(ids))
    for start in range(0, len(wanted), 500):
        rows = session.exec(
            select(OrderRow).where(
                col(OrderRow.id).in_(wanted[start : start + 500]), OrderRow.store_id == live.store_id
            )
        )
        found.update({row.id: row for row in rows})
    return [found[id_] for id_ in wanted if id_ in found]


def _moved_since(session: Session, order_ids: list[int], at: dt.datetime) -> list[int]:
    """The orders that something was made for, or came of, since a moment."""
    moved: set[int] = set()
    for start in range(0, len(order_ids), 500):
        part = order_ids[start : start + 500]
        moved |= {
            id_
            for id_ in session.exec(
                select(SendRow.order_id).where(col(SendRow.order_id).in_(part), SendRow.created_at >= at)
            )
            if id_ is not None
        }
        moved |= {
            id_
            for id_ in session.exec(
                select(EventRow.order_id).where(col(EventRow.order_id).in_(part), EventRow.received_at >= at)
            )
            if id_ is not None
        }
    return [id_ for id_ in order_ids if id_ in moved]


def carry_out(
    connection: Connection,
    session: Session,
    live: LiveSetup,
    route: Route,
    chosen: list[Chosen],
    answers: Mapping[str, Value],
    clock: Clock,
    key: str | None = None,
) -> RunRow:
    """Stores a run and its sends, in the caller's transaction. What would be skipped or is a no makes no send."""
    now = clock.now()
    run = RunRow(
        store_id=live.store_id,
        route_id=live.route_ids[route.key],
        started_at=now,
        answers=dict(answers),
        results=[],
        key=key,
    )
    session.add(run)
    session.flush()
    results: list[dict[str, Any]] = []
    rows: list[dict[str, Any]] = []
    for one in chosen:
        result: dict[str, Any] = {
            "order": one.order.id,
            "number": one.order.number,
            "sends": [],
            "outcome": "problem",
            "why": one.problem,
        }
        if one.decision is not None and one.event is not None:
            result |= {"outcome": one.decision.outcome, "why": one.decision.reason}
            for send in one.decision.sends:
                if send.state is State.SKIPPED:
                    continue
                row = send_row(live, send, clock.new_id("sd", now), one.event.id, one.order.id, now, run_id=run.id)
                result["sends"].append(row["id"])
                rows.append(row)
        results.append(result)
    queries.add(connection, rows)
    run.results = results
    session.flush()
    return run
