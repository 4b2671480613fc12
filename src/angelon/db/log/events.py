"""Events: stored on arrival, taken up for planning, read back for pages."""

from __future__ import annotations

import datetime as dt
import enum
import itertools
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Select,
    Text,
    and_,
    bindparam,
    exists,
    insert,
    literal,
    literal_column,
    or_,
    text,
    type_coerce,
    union_all,
    update,
)
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, func, select

from angelon.core.deliveries import BY_STATE
from angelon.core.planning.lanes import LANES
from angelon.db import locks
from angelon.db.bulk import Bulk
from angelon.db.lists import not_by_index, older_than
from angelon.db.log import bodies
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.rows import DeliveryRecord, EventOfCustomer, EventRecord, row_of, rows_of
from angelon.db.tables import (
    AWAITING,
    BLOCKED,
    IN_LANE,
    KNOWN_BY_BODY,
    PINNED,
    PROBLEM,
    TO_DECIDE,
    TO_PLAN,
    ContactRow,
    DeliveryRow,
    EventRow,
    Instant,
    OrderRow,
    RefusedRow,
    SendRow,
    table_of,
)

EVENT = table_of(EventRow)
FOLLOWING = EVENT.alias("following")
"""The events that follow from others, where both are meant."""
DELIVERY = table_of(DeliveryRow)
REFUSED = table_of(RefusedRow)
KEPT_REFUSED = 100
LEADING = 200
"""Events of a customer that are rehearsed before the one in hand."""
PLANNED = ("planned_at", "order_id", "decisions", "problem", "was", "now", "waits_for", "facts")
"""What planning stores of an event."""
_MARK_PLANNED = Bulk(
    update(EVENT)
    .where(EVENT.c.id == bindparam("b_id"))
    .values({name: bindparam(name) for name in PLANNED} | {"decide_at": None})
)
_INSERT_EVENTS = Bulk(insert(EVENT))
_INSERT_DELIVERIES = Bulk(insert(DELIVERY))
_INSERT_NEW_EVENTS = {
    name: Bulk(dialect.insert(EVENT).on_conflict_do_nothing(index_elements=["source_id", "delivery_key"]))
    for name, dialect in (("sqlite", sqlite), ("postgresql", postgresql))
}


class Rows(enum.Enum):
    """How rows are read that others may have in hand, where several may write."""

    ALL = "as they are"
    HELD = "none of them changes until the transaction ends"
    FREE = "but for those that another holds"


class Part(enum.Enum):
    """Which of the events that wait are meant, by their lanes."""

    ALL = "all"
    LANE = "those of one lane"
    UNSORTED = "those that have none yet"


def _unplanned(rows: Rows, without: bool, part: Part) -> Any:
    statement = core_select(EVENT).where(text(IN_LANE if part is Part.LANE else TO_PLAN))
    return _limited(statement.order_by(EVENT.c.received_at, EVENT.c.id), rows, without, part)


def _undecided(rows: Rows, without: bool, part: Part) -> Any:
    """Those that come first are those that came first: what happened earlier is decided before."""
    statement = core_select(EVENT).where(text(TO_DECIDE), EVENT.c.decide_at <= bindparam("b_now"))
    return _limited(statement.order_by(EVENT.c.received_at, EVENT.c.id), rows, without, part)


def _limited(statement: Any, rows: Rows, without: bool, part: Part) -> Any:
    statement = statement.limit(bindparam("b_limit"))
    if part is not Part.ALL:
        statement = statement.where(
            EVENT.c.lane == bindparam("b_lane") if part is Part.LANE else EVENT.c.lane.is_(None)
        )
    if without:
        statement = statement.where(EVENT.c.source_id.not_in(bindparam("b_without", expanding=True)))
    return statement if rows is Rows.ALL else statement.with_for_update(skip_locked=rows is Rows.FREE)


# These run for every few events, so they are built once.
_WHICH = list(itertools.product(Rows, (False, True), Part))
_UNPLANNED = {which: _unplanned(*which) for which in _WHICH}
_UNDECIDED = {which: _undecided(*which) for which in _WHICH}
_SIZES = core_select(DELIVERY.c.id, func.length(DELIVERY.c.body)).where(
    DELIVERY.c.id.in_(bindparam("b_ids", expanding=True))
)
_DELIVERIES = core_select(DELIVERY.c.id, DELIVERY.c.body, DELIVERY.c.content_type, DELIVERY.c.headers).where(
    DELIVERY.c.id.in_(bindparam("b_ids", expanding=True))
)
_BY_IDS = core_select(EVENT).where(EVENT.c.id.in_(bindparam("b_ids", expanding=True)))


def add(connection: Connection, deliveries: Sequence[NewDelivery]) -> dict[str, str]:
    """Stores deliveries with their events that are new; gives for each event's proposed id the one under which it
    stands.

    An event with an id of its own is known by it; those of a delivery with a window by its body's hash within that.
    """
    known: dict[str, str] = {}
    by_body = _known_by_body(connection, [delivery for delivery in deliveries if delivery.window])
    fresh: list[NewEvent] = []
    carriers: dict[str, NewDelivery] = {}
    for delivery in deliveries:
        for event in delivery.events:
            if delivery.window and event.delivery_key.startswith(BY_BODY):
                key = (delivery.source_id, delivery.body_hash, event.item)
                earlier = next(
                    (id_ for id_, at in by_body.get(key, []) if delivery.received_at - at <= delivery.window), None
                )
                if earlier:
                    known[event.id] = earlier
                    continue
                by_body.setdefault(key, []).append((event.id, delivery.received_at))
            fresh.append(event)
            carriers[delivery.id] = delivery
    if fresh:
        bodies.keep(connection, [delivery.body for delivery in carriers.values()], fresh[0].received_at)
        _INSERT_DELIVERIES.run(connection, [delivery.row() for delivery in carriers.values()])
        new = _INSERT_NEW_EVENTS[connection.dialect.name].run(connection, [event.row() for event in fresh])
        ids = [event.id for event in fresh]
        stored = set(ids) if new == len(ids) else by_ids(connection, ids).keys()
        known.update((id_, id_) for id_ in stored)
        repeats = [event for event in fresh if event.id not in stored]
        if repeats:
            known.update(_standing(connection, repeats))
            used = {event.delivery_id for event in fresh if event.id in stored}
            connection.execute(DELIVERY.delete().where(DELIVERY.c.id.in_(carriers.keys() - used)))
    return known


def of_delivery(delivery: ColumnElement[str]) -> ColumnElement[bool]:
    """Whether an event came in the delivery of that id; what follows from those that came is not meant."""
    own = EVENT.c.id == literal("ev", Text).concat(func.substr(delivery, literal_column("3")))
    other = func.substr(EVENT.c.id, literal_column("3")) != func.substr(EVENT.c.delivery_id, literal_column("3"))
    return own | and_(EVENT.c.delivery_id == delivery, EVENT.c.parent_id.is_(None), other)  # as the index says it


BY_BODY = "h:"
"""How the key of an event begins that its store gave no id."""


def _known_by_body(
    connection: Connection, deliveries: Sequence[NewDelivery]
) -> dict[tuple[int, str, int], list[tuple[str, dt.datetime]]]:
    """The events of earlier deliveries with the same bodies, by source, hash and place in the delivery."""
    found: dict[tuple[int, str, int], list[tuple[str, dt.datetime]]] = {}
    if not deliveries:
        return found
    for source_id in sorted({delivery.source_id for delivery in deliveries}):
        locks.hold(connection, locks.of_bodies(source_id))
    oldest = min(delivery.received_at - delivery.window for delivery in deliveries if delivery.window)
    rows = connection.execute(
        core_select(EVENT.c.id, EVENT.c.source_id, DELIVERY.c.body_hash, EVENT.c.item, DELIVERY.c.received_at)
        .select_from(EVENT.join(DELIVERY, of_delivery(DELIVERY.c.id)))
        .where(
            text(KNOWN_BY_BODY),
            DELIVERY.c.source_id.in_({d.source_id for d in deliveries}),
            DELIVERY.c.body_hash.in_({d.body_hash for d in deliveries}),
            DELIVERY.c.received_at >= oldest,
        )
    )
    for id_, source_id, digest, item, at in rows:
        found.setdefault((source_id, digest, item), []).append((id_, at))
    return found


def _standing(connection: Connection, repeats: Sequence[NewEvent]) -> dict[str, str]:
    """For each event that was stored before, under which id."""
    rows = connection.execute(
        core_select(EVENT.c.source_id, EVENT.c.delivery_key, EVENT.c.id).where(
            EVENT.c.source_id.in_({event.source_id for event in repeats}),
            EVENT.c.delivery_key.in_({event.delivery_key for event in repeats}),
        )  # rather than pairs, for which SQLite reads a whole source's index
    )
    standing = {(source_id, key): id_ for source_id, key, id_ in rows}
    return {event.id: standing[(event.source_id, event.delivery_key)] for event in repeats}


def derive(connection: Connection, events: Sequence[NewEvent]) -> None:
    """Stores events that follow from others."""
    if events:
        _INSERT_EVENTS.run(connection, [event.row() for event in events])


def derive_once(connection: Connection, *derived: NewEvent) -> None:
    """Stores events that follow from others, those whose keys are not known."""
    _INSERT_NEW_EVENTS[connection.dialect.name].run(connection, [event.row() for event in derived])


def add_sample(connection: Connection, delivery: NewDelivery) -> None:
    """Keeps a payload that was not delivered."""
    _INSERT_DELIVERIES.run(connection, [delivery.row()])
    derive(connection, delivery.events)


def refuse(connection: Connection, refused: Sequence[dict[str, Any]]) -> None:
    """Keeps refused deliveries, the newest KEPT_REFUSED of each source."""
    connection.execute(insert(REFUSED), list(refused))
    for source_id in {r["source_id"] for r in refused}:
        edge = connection.execute(
            core_select(REFUSED.c.id)
            .where(REFUSED.c.source_id == source_id)
            .order_by(REFUSED.c.id.desc())
            .offset(KEPT_REFUSED)
            .limit(1)
        ).scalar()
        if edge is not None:
            connection.execute(REFUSED.delete().where(REFUSED.c.source_id == source_id, REFUSED.c.id <= edge))


def unplanned(
    connection: Connection,
    now: dt.datetime,
    limit: int,
    without: Collection[int] = (),
    rows: Rows = Rows.HELD,
    part: Part = Part.ALL,
    lane: int = 0,
) -> list[EventRecord]:
    """Events that wait to be planned, and those whose decisions an answer has come for, oldest first; those of the
    sources in `without` are passed over. On SQLite, where one writes at a time, there is nothing to hold.
    """
    which = rows if connection.dialect.name == "postgresql" else Rows.ALL, bool(without), part
    given: dict[str, Any] = {"b_limit": limit} | ({"b_without": list(without)} if without else {})
    given |= {"b_lane": lane} if part is Part.LANE else {}
    decided = rows_of(EventRecord, connection.execute(_UNDECIDED[which], given | {"b_now": now}))
    found = {row.id: row for row in decided}
    if len(found) < limit:
        more = rows_of(EventRecord, connection.execute(_UNPLANNED[which], given | {"b_limit": limit - len(found)}))
        found |= {row.id: row for row in more if row.id not in found}
    return sorted(found.values(), key=lambda row: (row.received_at, row.id))


_LANES = text(
    "SELECT lane FROM generate_series(0, :last) AS lane WHERE "  # noqa: S608 - our own words
    f"EXISTS (SELECT 1 FROM event WHERE {IN_LANE} AND event.lane = lane.lane) OR "
    f"EXISTS (SELECT 1 FROM event WHERE {TO_DECIDE} AND decide_at <= :now AND event.lane = lane.lane)"
).bindparams(bindparam("now", type_=EVENT.c.decide_at.type))
_SORT = text(
    "UPDATE event SET lane = given.lane FROM unnest(CAST(:ids AS text[]), CAST(:lanes AS int[])) AS given(id, lane) "
    "WHERE event.id = given.id"
)


def lanes_waiting(connection: Connection, now: dt.datetime) -> list[int]:
    """The lanes in which events wait, on PostgreSQL."""
    return list(connection.execute(_LANES, {"last": LANES - 1, "now": now}).scalars())


def sort(connection: Connection, lanes: Mapping[str, int]) -> None:
    """Puts events, by their ids, into their lanes, on PostgreSQL."""
    connection.execute(_SORT, {"ids": list(lanes), "lanes": list(lanes.values())})


_AFTER = (
    core_select(EVENT)
    .where(
        text(TO_PLAN),
        EVENT.c.received_at >= bindparam("b_at"),
        or_(EVENT.c.received_at > bindparam("b_at"), EVENT.c.id > bindparam("b_id")),
        EVENT.c.received_at < bindparam("b_before"),
    )
    .order_by(EVENT.c.received_at, EVENT.c.id)
    .limit(bindparam("b_limit"))
)


_STILL = _BY_IDS.where(text(TO_PLAN)).order_by(EVENT.c.received_at, EVENT.c.id)
_STILL_HELD = _STILL.with_for_update()
_FOLLOWERS = (
    core_select(EVENT)
    .where(EVENT.c.parent_id.in_(bindparam("b_ids", expanding=True)), text(TO_PLAN))
    .order_by(EVENT.c.received_at, EVENT.c.id)
    .limit(bindparam("b_limit"))
)


def waiting_after(
    connection: Connection, place: tuple[dt.datetime, str] | None, before: dt.datetime, limit: int
) -> list[EventRecord]:
    """Events that wait to be planned, oldest first, from behind a place (when it came, and its id) on, that came before
    a moment.
    """
    at, id_ = place or (dt.datetime(1970, 1, 1, tzinfo=dt.UTC), "")
    return rows_of(
        EventRecord, connection.execute(_AFTER, {"b_at": at, "b_id": id_, "b_before": before, "b_limit": limit})
    )


def still_waiting(connection: Connection, ids: Collection[str], held: bool = False) -> list[EventRecord]:
    """Those of these events that wait to be planned, oldest first; `held` keeps others from them until the transaction
    ends.
    """
    return (
        rows_of(EventRecord, connection.execute(_STILL_HELD if held else _STILL, {"b_ids": list(ids)})) if ids else []
    )


def followers(connection: Connection, roots: Collection[str], limit: int) -> list[EventRecord]:
    """Events that wait to be planned and follow from these, oldest first."""
    return (
        rows_of(EventRecord, connection.execute(_FOLLOWERS, {"b_ids": list(roots), "b_limit": limit})) if roots else []
    )


def waiting_by_source(connection: Connection, most: int) -> list[tuple[int, int, dt.datetime]]:
    """(source, how many, since when) of the oldest events that wait to be planned, the source of the oldest first."""
    waiting = core_select(EVENT.c.source_id, EVENT.c.received_at).where(text(TO_PLAN))
    first = waiting.order_by(EVENT.c.received_at).limit(most).subquery()
    since = func.min(first.c.received_at).label("since")
    counted = core_select(first.c.source_id, func.count(), since).group_by(first.c.source_id).order_by(since)
    return [(int(source_id), int(number), at) for source_id, number, at in connection.execute(counted)]


def _awaiting(of_customers: bool) -> Select[Any]:
    order = table_of(OrderRow)
    columns = (EVENT.c.id, EVENT.c.order_id, EVENT.c.received_at, EVENT.c.parent_id, EVENT.c.decisions)
    orders: Any = bindparam("b_orders", expanding=True)
    mine = EVENT.c.order_id.in_(orders)
    if of_customers:  # their orders first: a condition of either table in one would read all events
        other = order.alias("theirs")
        either = other.c.id.in_(orders) | other.c.contact_id.in_(bindparam("b_contacts", expanding=True))
        mine = EVENT.c.order_id.in_(core_select(other.c.id).where(either))
    found = core_select(*columns, order.c.contact_id).join(order, order.c.id == EVENT.c.order_id)
    return found.where(text(AWAITING), mine).order_by(EVENT.c.received_at, EVENT.c.id)


_AWAITING = {of_customers: _awaiting(of_customers) for of_customers in (False, True)}


def awaiting(
    connection: Connection, order_ids: Collection[int], contact_ids: Collection[int] = ()
) -> list[EventOfCustomer]:
    """Events of these orders, or of these customers' orders, with decisions that wait for an answer, oldest first:
    (id, order_id, received_at, parent_id, decisions, contact_id).
    """
    given = {"b_orders": list(order_ids)} | ({"b_contacts": list(contact_ids)} if contact_ids else {})
    return rows_of(EventOfCustomer, connection.execute(_AWAITING[bool(contact_ids)], given))


_BLOCKED = (
    core_select(EVENT.c.id, EVENT.c.source_id, EVENT.c.received_at, EVENT.c.waits_for)
    .where(text(BLOCKED), not_by_index(EVENT.c.source_id).in_(bindparam("b_sources", expanding=True)))
    .order_by(EVENT.c.received_at, EVENT.c.id)
)


def blocked(connection: Connection, source_ids: Collection[int]) -> list[EventRecord]:
    """Events of these sources that are not processed before an answer says which order they are about, and those behind
    them, oldest first: (id, source_id, received_at, waits_for).
    """
    given = {"b_sources": list(source_ids)}
    return rows_of(EventRecord, connection.execute(_BLOCKED, given)) if source_ids else []


def release(connection: Connection, event_ids: Collection[str]) -> None:
    """Lets events be planned that stood behind another."""
    if event_ids:
        waiting = (EVENT.c.id.in_(list(event_ids)), EVENT.c.planned_at.is_(None))
        connection.execute(update(EVENT).where(*waiting).values(waits_for=""))


def look_again(connection: Connection, event_ids: Collection[str], now: dt.datetime) -> None:
    """Has events that wait looked at again at a moment."""
    if event_ids:
        connection.execute(update(EVENT).where(EVENT.c.id.in_(list(event_ids))).values(decide_at=now))


def give_meaning(connection: Connection, source_id: int, name: str, type_: str) -> int:
    """Gives the kept events of a name that meant nothing so far a type; gives how many. What is planned stays so."""
    done = connection.execute(
        update(EVENT)
        .where(EVENT.c.source_id == source_id, EVENT.c.name == name, EVENT.c.type == "", EVENT.c.parent_id.is_(None))
        .values(type=type_)
    )
    return int(done.rowcount)


def deliveries(connection: Connection, ids: Collection[str]) -> dict[str, DeliveryRecord]:
    """Deliveries by id: `body`, `content_type` and `headers`."""
    if not ids:
        return {}
    rows = bodies.read(connection, lambda: connection.execute(_DELIVERIES, {"b_ids": list(ids)}).all())
    return {row.id: row for row in rows_of(DeliveryRecord, rows)}


def by_ids(connection: Connection, ids: Collection[str]) -> dict[str, EventRecord]:
    """Events by id."""
    rows = rows_of(EventRecord, connection.execute(_BY_IDS, {"b_ids": list(ids)})) if ids else []
    return {row.id: row for row in rows}


MOST_OF_ORDER = 50
"""Events of one order that are looked at, the newest of them."""


def of_orders(connection: Connection, order_ids: Collection[int]) -> dict[int, list[EventRecord]]:
    """The newest events of orders, newest first, in one query."""
    if not order_ids:
        return {}
    newest_first = (EVENT.c.received_at.desc(), EVENT.c.id.desc())
    place = func.row_number().over(partition_by=EVENT.c.order_id, order_by=newest_first).label("place")
    ranked = core_select(EVENT.c.id, place).where(EVENT.c.order_id.in_(list(order_ids))).subquery()
    statement = core_select(EVENT).join(ranked, ranked.c.id == EVENT.c.id).where(ranked.c.place <= MOST_OF_ORDER)
    found: dict[int, list[EventRecord]] = {}
    for row in rows_of(EventRecord, connection.execute(statement.order_by(EVENT.c.order_id, *newest_first))):
        found.setdefault(row.order_id or 0, []).append(row)
    return found


def orders_with(connection: Connection, order_ids: Collection[int], types: Collection[str]) -> set[int]:
    """Those of these orders to which something of these types has happened."""
    where = (EVENT.c.order_id.in_(list(order_ids)), EVENT.c.type.in_(list(types)))
    return set(connection.execute(core_select(EVENT.c.order_id).where(*where).distinct()).scalars())


_NEWEST = (
    core_select(EVENT)
    .where(EVENT.c.order_id == bindparam("b_order"))
    .order_by(EVENT.c.received_at.desc(), EVENT.c.id.desc())
    .limit(1)
)


def newest_of(connection: Connection, order_id: int) -> EventRecord | None:
    """An order's newest event; None where none is kept."""
    return row_of(EventRecord, connection.execute(_NEWEST, {"b_order": order_id}))


def answers_to(session: Session, send: SendRow) -> list[EventRow]:
    """What a customer has answered to a send, or to the question that it asks, oldest first."""
    if not send.event_id:
        return []
    event = session.get(EventRow, send.event_id)
    if event is None:
        return []
    statement = select(EventRow).where(
        EventRow.parent_id == (event.parent_id or event.id),
        not_by_index(col(EventRow.type)) == "answer.received",
        or_(*(col(EventRow.delivery_key).startswith(f"{id_}>") for id_ in (send.id, send.question_id) if id_)),
    )
    return list(session.exec(statement.order_by(col(EventRow.received_at))))


def delivery_of(session: Session, event: EventRecord) -> DeliveryRow:
    """The delivery that an event reads."""
    found = bodies.read(session.connection(), lambda: session.get(DeliveryRow, event.delivery_id))
    if found is None:
        raise LookupError(f"the delivery of event {event.id} is no longer kept")
    return found


def plan_again(connection: Connection, event_id: str) -> bool:
    """Lets an event that could not be planned be planned once more; what was decided stays. Says whether there
    was one.
    """
    done = connection.execute(
        update(EVENT)
        .where(EVENT.c.id == event_id, EVENT.c.problem != "", EVENT.c.planned_at.is_not(None))
        .values(planned_at=None, problem="", waits_for="", decide_at=None, lane=None)
    )
    return done.rowcount == 1


def plan_all_again(connection: Connection, source_ids: Sequence[int]) -> int:
    """The same for every event of these sources that could not be planned; says how many."""
    done = connection.execute(
        update(EVENT)
        .where(text(PROBLEM), not_by_index(EVENT.c.source_id).in_(list(source_ids)), EVENT.c.planned_at.is_not(None))
        .values(planned_at=None, problem="", waits_for="", decide_at=None, lane=None)
    )
    return done.rowcount


def with_problems(
    session: Session, source_ids: Sequence[int], limit: int = 50, before: tuple[dt.datetime, str] | None = None
) -> list[EventRow]:
    """Events that could not be planned, the newest first, from one on (`before`: when it came, and its id)."""
    statement = select(EventRow).where(text(PROBLEM), not_by_index(EVENT.c.source_id).in_(source_ids))
    if before is not None:
        statement = statement.where(older_than(col(EventRow.received_at), col(EventRow.id), before))
    return list(
        session.exec(statement.order_by(col(EventRow.received_at).desc(), col(EventRow.id).desc()).limit(limit))
    )


def problems_count(session: Session, source_ids: Sequence[int], since: dt.datetime) -> int:
    """How many events since a moment could not be planned."""
    return session.exec(
        select(func.count())
        .select_from(EventRow)
        .where(text(PROBLEM), not_by_index(EVENT.c.source_id).in_(source_ids), EventRow.received_at >= since)
    ).one()


def by_hour(session: Session, source_id: int, since: dt.datetime) -> dict[int, int]:
    """How many events of a source came in each hour since a moment, by the hour's number since 1970 (UTC); those that
    follow from others count, too. Read from an index alone.
    """
    hour = type_coerce(type_coerce(EVENT.c.received_at, BigInteger).op("/")(3_600_000_000), BigInteger).label("hour")
    counted = core_select(hour, func.count()).where(EVENT.c.source_id == source_id, EVENT.c.received_at >= since)
    return {int(number): count for number, count in session.connection().execute(counted.group_by("hour"))}


def newest_sizes(session: Session, source_id: int, newest: int = 50) -> list[int]:
    """Bytes of the newest deliveries to a source that are still kept."""
    ids = (
        core_select(EVENT.c.delivery_id)
        .where(EVENT.c.source_id == source_id, EVENT.c.parent_id.is_(None), EVENT.c.delivery_id != "")
        .order_by(EVENT.c.received_at.desc())
        .limit(newest)
    )
    found = core_select(func.length(DELIVERY.c.body)).where(DELIVERY.c.id.in_(ids), DELIVERY.c.body != b"")
    return list(session.connection().execute(found).scalars())


def orders_of(session: Session, order_ids: Collection[int]) -> dict[int, OrderRow]:
    """Orders by id."""
    return (
        {row.id or 0: row for row in session.exec(select(OrderRow).where(col(OrderRow.id).in_(list(order_ids))))}
        if order_ids
        else {}
    )


def in_span(
    connection: Connection, source_ids: Sequence[int], types: Sequence[str], since: dt.datetime | None, newest: int
) -> list[str]:
    """The ids of the newest events of these sources and types since a moment, oldest first."""
    statement = core_select(EVENT.c.id).where(EVENT.c.source_id.in_(source_ids), EVENT.c.type.in_(types))
    if since is not None:
        statement = statement.where(EVENT.c.received_at >= since)
    return list(
        connection.execute(
            statement.order_by(EVENT.c.received_at.desc(), EVENT.c.parent_id.is_(None), EVENT.c.id.desc()).limit(newest)
        ).scalars()
    )[::-1]


def first_and_count(
    connection: Connection, source_ids: Sequence[int], since: dt.datetime
) -> tuple[dt.datetime | None, int]:
    """When the first event of these sources since a moment came, and how many have come."""
    found = core_select(func.min(EVENT.c.received_at), func.count())
    row = connection.execute(found.where(EVENT.c.source_id.in_(source_ids), EVENT.c.received_at >= since)).one()
    return row[0], row[1]


def leading_to(
    connection: Connection, event: Any, order_ids: Sequence[int], source_ids: Sequence[int], types: Sequence[str]
) -> list[str]:
    """The ids of these orders' events up to one of them, oldest first, as they are planned; the newest LEADING."""
    statement = (
        core_select(EVENT.c.id)
        .where(
            EVENT.c.order_id.in_(order_ids),
            not_by_index(EVENT.c.source_id).in_(source_ids),
            not_by_index(EVENT.c.type).in_(types),
            EVENT.c.received_at <= event.received_at,
        )
        .order_by(EVENT.c.received_at.desc(), EVENT.c.parent_id.is_(None), EVENT.c.id.desc())
        .limit(LEADING)
    )
    ids = list(connection.execute(statement).scalars())[::-1]
    return ids[: ids.index(event.id) + 1] if event.id in ids else [event.id]


def count_others(
    connection: Connection, source_ids: Sequence[int], types: Sequence[str], since: dt.datetime | None
) -> int:
    """How many events of these sources since a moment are of other types."""
    statement = (
        core_select(func.count())
        .select_from(EVENT)
        .where(EVENT.c.source_id.in_(source_ids), EVENT.c.type.not_in(types))
    )
    if since is not None:
        statement = statement.where(EVENT.c.received_at >= since)
    return int(connection.execute(statement).scalar() or 0)


def in_order(connection: Connection, ids: Sequence[str]) -> list[EventRecord]:
    """Events, oldest first; what follows from a delivery comes after it, as it is planned."""
    statement = core_select(EVENT).where(EVENT.c.id.in_(list(ids)))
    return rows_of(
        EventRecord,
        connection.execute(statement.order_by(EVENT.c.received_at, EVENT.c.parent_id.is_not(None), EVENT.c.id)),
    )


def mark_planned(connection: Connection, planned: Sequence[dict[str, Any]]) -> None:
    """Stores what planning made of each event; `b_id` names the event."""
    if planned:
        _MARK_PLANNED.run(connection, planned)


def recent(session: Session, source_id: int, limit: int = 20, type: str | None = None) -> list[EventRow]:
    """A source's events, newest first; derived ones left out."""
    statement = select(EventRow).where(EventRow.source_id == source_id, col(EventRow.parent_id).is_(None))
    if type is not None:
        statement = statement.where(EventRow.type == type)
    return list(
        session.exec(statement.order_by(col(EventRow.received_at).desc(), col(EventRow.id).desc()).limit(limit))
    )


def meaning_nothing(session: Session, source_id: int, limit: int) -> list[EventRow]:
    """A source's newest events that mean nothing yet."""
    statement = select(EventRow).where(
        EventRow.source_id == source_id,
        EventRow.type == "",
        col(EventRow.parent_id).is_(None),
        EventRow.delivery_id != "",
    )
    return list(session.exec(statement.order_by(col(EventRow.received_at).desc()).limit(limit)))


@dataclass(frozen=True, slots=True)
class Newest:
    """One of the newest events: as much of it as a choice among them needs."""

    received_at: dt.datetime
    id: str
    source_id: int
    type: str
    delivered: bool
    """Whether it came in a delivery, rather than following from another event."""


def newest_of_each(
    session: Session,
    source_ids: Sequence[int],
    types: Sequence[str],
    delivered: bool,
    limit: int,
    readable: bool = False,
) -> list[Newest]:
    """The newest events of each of these types, and (where `delivered` says so) those that were delivered to each of
    these sources; newest first, in one query. With `readable`, those whose delivery is kept: what was erased or is kept
    no longer says nothing.

    One walk down an index for each source and each type, so that it costs the same however many events there are.
    """
    columns = (EVENT.c.received_at, EVENT.c.id, EVENT.c.source_id, EVENT.c.type, EVENT.c.parent_id)
    newest_first = (EVENT.c.received_at.desc(), EVENT.c.id.desc())
    walks = []
    kept = exists().where(DELIVERY.c.id == EVENT.c.delivery_id, func.length(DELIVERY.c.body) > 0)
    if delivered:
        of_source = core_select(*columns).where(EVENT.c.parent_id.is_(None), *([kept] if readable else []))
        walks += [of_source.where(EVENT.c.source_id == source_id) for source_id in source_ids]
    among = EVENT.c.source_id.in_(list(source_ids))
    only = [kept] if readable else []
    walks += [core_select(*columns).where(EVENT.c.type == type_, among, *only) for type_ in types]
    if not walks or not source_ids:
        return []
    limited = [core_select(walk.order_by(*newest_first).limit(limit).subquery()) for walk in walks]
    found = {}
    for at, id_, source_id, type_, parent_id in session.connection().execute(union_all(*limited)):
        found[id_] = Newest(Instant.moment(at), id_, source_id, type_, parent_id is None)
    return sorted(found.values(), key=lambda one: (one.received_at, one.id), reverse=True)


def latest_of_each(session: Session, source_ids: Sequence[int]) -> dict[int, EventRow]:
    """The newest delivery of each source, in two queries."""
    newest = newest_of_each(session, source_ids, (), True, 1)
    return {row.source_id: row for row in rows_by_ids(session, [one.id for one in newest]).values()}


def rows_by_ids(session: Session, ids: Collection[str]) -> dict[str, EventRow]:
    """Events by id, as rows."""
    rows = session.exec(select(EventRow).where(col(EventRow.id).in_(list(ids)))) if ids else ()
    return {row.id: row for row in rows}


@dataclass(frozen=True)
class OfOrder:
    """An event with what people know its order by."""

    id: str
    source_id: int
    type: str
    name: str
    received_at: dt.datetime
    number: str
    customer: str


def found_of_orders(
    session: Session, order_ids: Sequence[int], source_ids: Sequence[int], types: Collection[str], limit: int
) -> list[OfOrder]:
    """The newest events of these orders, sources and types (of any type where none is given)."""
    where = [EVENT.c.order_id.in_(list(order_ids))]
    if types:
        where.append(not_by_index(EVENT.c.type).in_(sorted(types)))
    return _with_orders(session, where, source_ids, limit)


def newest_of_types(session: Session, source_ids: Sequence[int], types: Collection[str], limit: int) -> list[OfOrder]:
    """The newest events of these types, with their orders."""
    ids = [one.id for one in newest_of_each(session, source_ids, sorted(types), False, limit)][:limit]
    return _with_orders(session, [EVENT.c.id.in_(ids)], source_ids, limit)


def _with_orders(
    session: Session, where: Sequence[ColumnElement[bool]], source_ids: Sequence[int], limit: int
) -> list[OfOrder]:
    columns: Any = (EVENT.c.id, EVENT.c.source_id, EVENT.c.type, EVENT.c.name, EVENT.c.received_at)
    statement = (
        core_select(*columns, col(OrderRow.number), col(ContactRow.name))
        .select_from(EVENT)
        .outerjoin(OrderRow, col(OrderRow.id) == EVENT.c.order_id)
        .outerjoin(ContactRow, col(ContactRow.id) == col(OrderRow.contact_id))
        .where(*where, not_by_index(EVENT.c.source_id).in_(list(source_ids)))
        .order_by(EVENT.c.received_at.desc(), EVENT.c.id.desc())
        .limit(limit)
    )
    rows: Any = session.connection().execute(statement)
    return [
        OfOrder(id_, source, type_, name, at, no or "", who or "") for id_, source, type_, name, at, no, who in rows
    ]


def pinned_and_newest(session: Session, source_id: int, limit: int) -> list[EventRow]:
    """A source's deliveries: those pinned, then the newest."""
    rows: list[EventRow] = []
    mine = select(EventRow).where(EventRow.source_id == source_id, col(EventRow.parent_id).is_(None))
    newest_first = (col(EventRow.received_at).desc(), col(EventRow.id).desc())
    for where in (text(PINNED), col(EventRow.pinned).is_(False)):
        left = limit - len(rows)
        rows += session.exec(mine.where(where).order_by(*newest_first).limit(left)) if left > 0 else ()
    return rows


def since(
    session: Session, source_id: int, after: dt.datetime, limit: int = 20
) -> tuple[list[EventRow], list[RefusedRow]]:
    """What has come in and what was refused after a moment, oldest first."""
    events = session.exec(
        select(EventRow)
        .where(EventRow.source_id == source_id, EventRow.received_at > after, col(EventRow.parent_id).is_(None))
        .order_by(col(EventRow.received_at))
        .limit(limit)
    )
    refused = session.exec(
        select(RefusedRow)
        .where(RefusedRow.source_id == source_id, RefusedRow.at > after)
        .order_by(col(RefusedRow.at))
        .limit(limit)
    )
    return list(events), list(refused)


def refused(session: Session, source_id: int, limit: int = 20) -> list[RefusedRow]:
    return list(
        session.exec(
            select(RefusedRow).where(RefusedRow.source_id == source_id).order_by(col(RefusedRow.id).desc()).limit(limit)
        )
    )


def delivery_counts(session: Session, source_ids: Collection[int], after: dt.datetime) -> dict[int, int]:
    """How many deliveries each source has had since a moment."""
    statement = (
        core_select(EVENT.c.source_id, func.count())
        .where(EVENT.c.source_id.in_(list(source_ids)), EVENT.c.received_at > after, EVENT.c.parent_id.is_(None))
        .group_by(EVENT.c.source_id)
    )
    return {int(id_): int(number) for id_, number in (session.connection().execute(statement) if source_ids else ())}


def refused_counts(session: Session, source_ids: Collection[int], after: dt.datetime) -> dict[int, int]:
    """How many deliveries of each source were refused since a moment."""
    statement = (
        core_select(REFUSED.c.source_id, func.count())
        .where(REFUSED.c.source_id.in_(list(source_ids)), REFUSED.c.at > after)
        .group_by(REFUSED.c.source_id)
    )
    return {int(id_): int(number) for id_, number in (session.connection().execute(statement) if source_ids else ())}


ARRIVALS = 50
"""Deliveries of a source by which its usual pauses are known."""


def last_arrivals(session: Session, source_ids: Sequence[int]) -> dict[int, list[dt.datetime]]:
    """When each source's last deliveries came in, newest first; one walk down an index each, in one query."""
    columns = (EVENT.c.source_id, EVENT.c.received_at)
    walks = [
        core_select(*columns)
        .where(EVENT.c.source_id == source_id, EVENT.c.parent_id.is_(None))
        .order_by(EVENT.c.received_at.desc())
        .limit(ARRIVALS)
        .subquery()
        for source_id in source_ids
    ]
    found: dict[int, list[dt.datetime]] = {}
    if walks:
        rows = session.connection().execute(union_all(*(core_select(walk) for walk in walks)))
        for source_id, at in rows:
            found.setdefault(source_id, []).append(Instant.moment(at))
    return {source_id: sorted(times, reverse=True) for source_id, times in found.items()}


def silence(arrivals: Sequence[dt.datetime], now: dt.datetime) -> dt.timedelta | None:
    """How long a source has been silent, where that is more than three times its longest pause between these arrivals
    (newest first); else None.
    """
    if len(arrivals) < 10:
        return None
    longest = max(a - b for a, b in itertools.pairwise(arrivals))
    quiet = now - arrivals[0]
    return quiet if quiet > 3 * max(longest, dt.timedelta(minutes=10)) else None


NAMELESS = 10_000
"""The newest events without a type that are looked at for names that should have one."""


def unnamed(session: Session, source_id: int) -> list[tuple[str, int]]:
    """Event names that mean nothing yet and should, with how many of the newest events have them, the most frequent
    first.
    """
    count = func.count()
    mine = core_select(EVENT.c.name).where(EVENT.c.source_id == source_id, EVENT.c.type == "")
    newest = mine.where(EVENT.c.name.not_in(BY_STATE)).order_by(EVENT.c.received_at.desc()).limit(NAMELESS).subquery()
    rows = session.connection().execute(
        core_select(newest.c.name, count).group_by(newest.c.name).order_by(count.desc()).limit(20)
    )
    return [(name, number) for name, number in rows]


def waiting(connection: Connection, source_ids: Collection[int], most: int) -> int:
    """How many events of these sources are not processed yet; no more than `most` are counted."""
    found = core_select(EVENT.c.id).where(text(TO_PLAN), EVENT.c.source_id.in_(source_ids)).limit(most).subquery()
    return int(connection.execute(core_select(func.count()).select_from(found)).scalar_one())


def backlog(session: Session, now: dt.datetime) -> dt.timedelta | None:
    """How long the oldest event that could be planned has waited for it; None where none waits."""
    oldest = session.exec(select(func.min(EventRow.received_at)).where(text(TO_PLAN))).one()
    return None if oldest is None else now - oldest


def sizes(connection: Connection, ids: Collection[str]) -> dict[str, int]:
    """How many bytes the bodies of these deliveries have."""
    return {id_: int(number) for id_, number in (connection.execute(_SIZES, {"b_ids": list(ids)}) if ids else ())}
