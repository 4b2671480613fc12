"""Sends: stored by the planner, claimed by workers, settled, listed."""

from __future__ import annotations

import datetime as dt
import zlib
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import structlog
from sqlalchemy import (
    Connection,
    Dialect,
    bindparam,
    false,
    func,
    insert,
    literal,
    literal_column,
    or_,
    text,
    true,
    union_all,
    update,
)
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from angelon.core.planning.turns import Turn
from angelon.core.sending.causes import general
from angelon.core.states import State, sources_by_hand, sources_of
from angelon.core.states import move as move_state
from angelon.db.bulk import Bulk, Converted
from angelon.db.derived import counts, searching
from angelon.db.derived.counts import Tally
from angelon.db.lists import not_by_index, older_than
from angelon.db.log import page_patterns, questions
from angelon.db.log.orders import amount_of
from angelon.db.records import NewAttempt, NewContent, NewSend, Settlement
from angelon.db.rows import SendRecord, rows_of
from angelon.db.tables import (
    SENDING,
    STUCK,
    WAITING,
    ArchivedRow,
    AttemptRow,
    ContentRow,
    EventRow,
    GatewayRow,
    HeartbeatRow,
    Instant,
    MessageRow,
    OrderRow,
    RevisionRow,
    RouteRow,
    RunRow,
    SendRow,
    table_of,
)
from angelon.db.tables.packed import mail_of

RUN = table_of(RunRow)
SEND = table_of(SendRow)
ATTEMPT = table_of(AttemptRow)
CONTENT = table_of(ContentRow)
ARCHIVED = table_of(ArchivedRow)
log = structlog.get_logger()
MESSAGE = table_of(MessageRow)
ROUTE = table_of(RouteRow)
ORDER = table_of(OrderRow)
HEARTBEAT = table_of(HeartbeatRow)

_SETTLE = Bulk(
    update(SEND)
    .where(SEND.c.id == bindparam("b_id"), SEND.c.worker == bindparam("b_worker"), SEND.c.state == State.SENDING)
    .values(
        {
            name: bindparam(name)
            for name in (
                "state",
                "reason",
                "due_at",
                "settled_at",
                "subject",
                "revision_id",
                "tries",
                "reference",
                "cost",
                "fallback_at",
            )
        }
        | {
            "values": func.coalesce(bindparam("values", type_=SEND.c["values"].type), SEND.c["values"]),
            "lease_until": None,
            "worker": "",
        }
    )
)


def _claim(locked: bool, whose: str) -> Any:
    """Claims due sends, by turns and within a turn the oldest first: of one gateway, of none, or of all. Built once: it
    runs for every few sends. Each turn is a look into the index of its own, and the last ones only where those before
    leave room.
    """
    parts = []
    for turn in Turn:
        due = (
            core_select(SEND.c.id)
            .where(text(WAITING), SEND.c.turn == literal_column(str(turn.value)), SEND.c.due_at <= bindparam("b_now"))
            .order_by(SEND.c.due_at)
            .limit(bindparam("b_limit"))
        )
        if whose == "one":
            due = due.where(SEND.c.gateway_id == bindparam("b_gateway"))
        elif whose == "none":
            due = due.where(SEND.c.gateway_id.is_(None))
        if locked:
            due = due.with_for_update(skip_locked=True)
        parts.append(core_select(due.subquery().c.id))
    changes = {
        "state": State.SENDING.value,
        "worker": bindparam("b_worker"),
        "lease_until": bindparam("b_until"),
        "tries": SEND.c.tries + 1,
        "first_try_at": func.coalesce(SEND.c.first_try_at, bindparam("b_now", type_=SEND.c.due_at.type)),
    }
    return (
        update(SEND)
        .where(SEND.c.id.in_(union_all(*parts).limit(bindparam("b_limit"))))
        .values(changes)
        .returning(*(column for column in SEND.c if column.name not in ("trace", "reason")))
    )


def _keep_content(dialect: Any) -> Bulk:
    statement = dialect.insert(CONTENT)
    return Bulk(
        statement.on_conflict_do_update(
            index_elements=["send_id"],
            set_={
                name: getattr(statement.excluded, name) for name in ("html", "packed", "pattern_id", "text", "about")
            },
        )
    )


_KEEP_CONTENT, _KEEP_CONTENT_POSTGRESQL = _keep_content(sqlite), _keep_content(postgresql)
_CLAIMS = {(locked, whose): _claim(locked, whose) for locked in (False, True) for whose in ("one", "none", "all")}
GATEWAY = table_of(GatewayRow)


def _first_due(turn: Turn, whose: Any) -> Any:
    first = core_select(func.min(SEND.c.due_at)).where(text(WAITING), SEND.c.turn == literal_column(str(turn.value)))
    return first.where(whose).correlate(GATEWAY).scalar_subquery().label("at")


_DUE = union_all(
    *(core_select(GATEWAY.c.id, _first_due(turn, SEND.c.gateway_id == GATEWAY.c.id)) for turn in Turn),
    *(core_select(literal(None), _first_due(turn, SEND.c.gateway_id.is_(None))) for turn in Turn),
)
"""When the next send of each gateway is due: one look into the index for each and each turn."""


_INSERT = Bulk(insert(SEND))
_INSERT_ATTEMPTS = Bulk(insert(ATTEMPT))


def add(connection: Connection, sends: Sequence[NewSend]) -> None:
    """Stores new sends, with the questions that they ask."""
    if sends:
        _INSERT.run(connection, [send.row() for send in questions.ask(connection, sends)])


EVERY_GATEWAY = -1


def claim(
    connection: Connection,
    worker: str,
    now: dt.datetime,
    lease: dt.timedelta,
    limit: int,
    gateway_id: int | None = EVERY_GATEWAY,
) -> list[SendRecord]:
    """Takes up to `limit` due sends of a gateway for a worker, by turns, then by age, in one statement; nobody else
    gets them while the lease runs.

    `gateway_id` is None for sends that have no gateway.
    """
    whose = "all" if gateway_id == EVERY_GATEWAY else "none" if gateway_id is None else "one"
    statement = _CLAIMS[connection.dialect.name == "postgresql", whose]
    given = {"b_now": now, "b_worker": worker, "b_until": now + lease, "b_limit": limit} | (
        {"b_gateway": gateway_id} if whose == "one" else {}
    )
    return sorted(rows_of(SendRecord, connection.execute(statement, given)), key=lambda row: (row.turn, row.due_at))


def extend(connection: Connection, ids: Sequence[str], worker: str, until: dt.datetime) -> None:
    connection.execute(update(SEND).where(SEND.c.id.in_(ids), SEND.c.worker == worker).values(lease_until=until))


_RELEASE = (
    update(SEND)
    .where(SEND.c.id == bindparam("b_id"), SEND.c.worker == bindparam("b_worker"), SEND.c.state == State.SENDING)
    .values(
        state=bindparam("b_state"),
        tries=SEND.c.tries - 1,
        first_try_at=bindparam("b_first", type_=SEND.c.first_try_at.type),
        lease_until=None,
        worker="",
    )
)


def release(connection: Connection, claimed: Sequence[SendRecord], worker: str) -> None:
    """Gives claimed sends back that were not begun: as they were before, the try not counted."""
    if claimed:
        rows = []
        for row in claimed:
            begun_before = row.tries > 1
            state = move_state(State.SENDING, State.RETRYING if begun_before else State.SCHEDULED)
            rows.append(
                {
                    "b_id": row.id,
                    "b_worker": worker,
                    "b_state": state.value,
                    "b_first": row.first_try_at if begun_before else None,
                }
            )
        connection.execute(_RELEASE, rows)


class Outcomes(NamedTuple):
    """What tries came to, converted before the transaction that stores it; None where there is nothing."""

    settled: Converted | None = None
    attempts: Converted | None = None
    contents: Converted | None = None


def converted(
    dialect: Dialect,
    settled: Sequence[Settlement],
    attempts: Sequence[NewAttempt],
    contents: Sequence[NewContent],
) -> Outcomes:
    """For `settle`, `add_attempts` and `keep_content`."""
    return Outcomes(
        _SETTLE.converted(dialect, [one.row() for one in settled]) if settled else None,
        _INSERT_ATTEMPTS.converted(dialect, [one.row() for one in attempts]) if attempts else None,
        _kept_by(dialect).converted(dialect, [one.row() for one in contents]) if contents else None,
    )


def _kept_by(dialect: Dialect) -> Bulk:
    return _KEEP_CONTENT_POSTGRESQL if dialect.name == "postgresql" else _KEEP_CONTENT


def settle(connection: Connection, settled: Converted | None) -> None:
    """Stores how claimed sends stand after a try. Only a send still held by that worker moves; the table of states
    decides.
    """
    if settled:
        _SETTLE.run(connection, settled)


def add_attempts(connection: Connection, attempts: Sequence[NewAttempt] | Converted | None) -> None:
    if attempts:
        made = attempts if isinstance(attempts, Converted) else [one.row() for one in attempts]
        _INSERT_ATTEMPTS.run(connection, made)


def keep_content(connection: Connection, contents: Sequence[NewContent], made: Converted | None) -> None:
    """What each send said at its last try; `made` are the same contents, converted."""
    if made:
        _kept_by(connection.dialect).run(connection, made)
        patterns = {one.pattern_id: one.pattern for one in contents if one.pattern_id is not None}
        page_patterns.keep(connection, patterns, max(one.at for one in contents))


def abandoned(connection: Connection, now: dt.datetime, dead: Sequence[str], own: str = "") -> list[SendRecord]:
    """Sends whose worker's lease has run out, or whose worker is known to be gone; and those of workers whose names
    begin with `own`.
    """
    whose = [SEND.c.lease_until < now, SEND.c.worker.in_(list(dead))]
    if own:
        whose.append(SEND.c.worker.startswith(own, autoescape=True))
    statement = core_select(SEND).where(text(SENDING), or_(*whose))
    if connection.dialect.name == "postgresql":
        statement = statement.with_for_update(skip_locked=True)
    return rows_of(SendRecord, connection.execute(statement))


def held_by(session: Session) -> list[str]:
    """The workers that hold claimed sends."""
    return list(session.exec(select(SendRow.worker).where(text(SENDING)).distinct()))


def give_back(connection: Connection, ids: Sequence[str], now: dt.datetime, reason: str) -> None:
    connection.execute(
        update(SEND)
        .where(SEND.c.id.in_(ids), SEND.c.state == State.SENDING)
        .values(state=State.RETRYING, due_at=now, lease_until=None, worker="", reason=reason)
    )


def due_fallbacks(
    connection: Connection, now: dt.datetime, limit: int, store_id: int | None = None
) -> list[SendRecord]:
    """Sends for which it is time to look at what follows; with a store those of it, to be dealt with now."""
    statement = (
        core_select(SEND)
        .where(text("fallback_at IS NOT NULL"), SEND.c.fallback_at <= now, SEND.c.state != State.SENDING)
        .order_by(SEND.c.fallback_at)
        .limit(limit)
    )
    if store_id is not None:
        statement = statement.where(not_by_index(SEND.c.store_id) == store_id)
        if connection.dialect.name == "postgresql":
            statement = statement.with_for_update(skip_locked=True)
    return rows_of(SendRecord, connection.execute(statement))


def clear_fallback(connection: Connection, send_id: str, again_at: dt.datetime | None) -> None:
    """Notes that what follows a send has been looked at, and when it is again."""
    connection.execute(update(SEND).where(SEND.c.id == send_id).values(fallback_at=again_at))


def fallback_failed(connection: Connection, send_id: str, reason: str) -> None:
    """Notes that what follows a send could not be evaluated, where a person will see it."""
    connection.execute(update(SEND).where(SEND.c.id == send_id).values(fallback_at=None, reason=reason))


def give_up(connection: Connection, send_id: str, reason: str, now: dt.datetime) -> None:
    """Takes back a send whose place another has taken."""
    connection.execute(
        update(SEND)
        .where(SEND.c.id == send_id, SEND.c.state.in_(sources_of(State.CANCELLED)))
        .values(state=State.CANCELLED, reason=reason, settled_at=now, lease_until=None, worker="")
    )


def take_up(connection: Connection, send_id: str, because: str, reason: str, now: dt.datetime) -> int:
    """Schedules a send anew that was given up for a reason which ends with `because`; says how many that are."""
    done = connection.execute(
        update(SEND)
        .where(SEND.c.id == send_id, SEND.c.state == State.CANCELLED, SEND.c.reason.endswith(because, autoescape=True))
        .values(state=State.SCHEDULED, reason=reason, due_at=now, settled_at=None, fallback_at=None)
    )
    return done.rowcount


def fallbacks_since(connection: Connection, store_id: int, since: dt.datetime) -> list[SendRecord]:
    """(route_id, gateway_id, created_at, cost) of the sends that took another's place, and were neither skipped nor
    taken back.
    """
    statement = core_select(SEND.c.route_id, SEND.c.gateway_id, SEND.c.created_at, SEND.c.cost).where(
        SEND.c.instead_of.is_not(None),
        SEND.c.step > 0,
        SEND.c.store_id == store_id,
        SEND.c.created_at >= since,
        SEND.c.state.not_in((State.SKIPPED, State.CANCELLED)),
    )
    return rows_of(SendRecord, connection.execute(statement))


def is_followed(connection: Connection, send_id: str, step: int) -> bool:
    """Whether a later fallback has been made for a send, which was after the route's `step`."""
    statement = core_select(SEND.c.id).where(SEND.c.instead_of == send_id, SEND.c.step > step).limit(1)
    return connection.execute(statement).first() is not None


def of_question(connection: Connection, question_id: str) -> list[SendRecord]:
    """The sends that ask a question, oldest first: (id, state, due_at, settled_at, fallback_at, reason, channel)."""
    names = ("id", "state", "due_at", "settled_at", "fallback_at", "reason", "channel")
    columns = tuple(SEND.c[name] for name in names)
    mine = core_select(*columns).where(SEND.c.question_id == question_id)
    return rows_of(SendRecord, connection.execute(mine.order_by(SEND.c.created_at, SEND.c.id)))


def received(session: Session, send_id: str, state: State, reason: str, fallback_at: dt.datetime | None) -> bool:
    """Moves a send on by a receipt, where the table of states allows it; says whether it did."""
    done = session.connection().execute(
        update(SEND)
        .where(SEND.c.id == send_id, SEND.c.state.in_(sources_of(state)))
        .values(state=state, reason=reason, fallback_at=fallback_at)
    )
    return done.rowcount == 1


def release_held(
    connection: Connection, store_id: int, reason: str, now: dt.datetime, gateway_id: int | None = None
) -> int:
    """Schedules the sends of a store, or of one of its gateways, that were held for one reason; says how many."""
    column, id_ = (SEND.c.store_id, store_id) if gateway_id is None else (SEND.c.gateway_id, gateway_id)
    done = connection.execute(
        update(SEND)
        .where(text(STUCK), not_by_index(column) == id_, SEND.c.state == State.HELD, SEND.c.reason == reason)
        .values(state=move_state(State.HELD, State.SCHEDULED), due_at=now, reason="", revision_id=None)
    )
    return int(done.rowcount)


def last_of_route(connection: Connection, route_id: int | None, order_ids: Sequence[int]) -> dict[int, dt.datetime]:
    """When a route last made a send for each of these orders that is not skipped or taken back."""
    gone = [State.SKIPPED, State.CANCELLED]
    rows = connection.execute(
        core_select(SEND.c.order_id, func.max(SEND.c.created_at))
        .where(SEND.c.route_id == route_id, SEND.c.order_id.in_(order_ids), SEND.c.state.not_in(gone))
        .group_by(SEND.c.order_id)
    )
    return {int(id_): at for id_, at in rows}


def told(connection: Connection, order_ids: Sequence[int]) -> dict[int, list[Any]]:
    """What reached the customers of these orders, oldest first, by order: message, channel, when it was settled."""
    out = (State.SENT, State.DELIVERED, State.READ)
    where = (SEND.c.order_id.in_(order_ids), SEND.c.state.in_(out), SEND.c.whom == "customer")
    columns = (SEND.c.order_id, SEND.c.message_id, SEND.c.channel, SEND.c.settled_at)
    made: dict[int, list[Any]] = {}
    for row in connection.execute(core_select(*columns).where(*where).order_by(SEND.c.settled_at)):
        made.setdefault(row.order_id, []).append(row)
    return made


def due_by_gateway(connection: Connection) -> dict[int | None, dt.datetime]:
    """When the next send of each gateway is due, where one waits; None stands for those without a gateway."""
    first: dict[int | None, dt.datetime] = {}
    for id_, at in connection.execute(_DUE):
        if at is not None:
            first[id_] = min(Instant.moment(at), first.get(id_, Instant.moment(at)))
    return first


def waiting(connection: Connection, store_id: int) -> int:
    """How many sends of a store wait for their time."""
    mine = core_select(func.count()).where(text(WAITING), not_by_index(SEND.c.store_id) == store_id)
    return int(connection.execute(mine).scalar_one())


def next_due(connection: Connection) -> dt.datetime | None:
    return min(due_by_gateway(connection).values(), default=None)


def move(
    session: Session, store_id: int, ids: Sequence[str], now_state: State, now: dt.datetime, reason: str = ""
) -> list[str]:
    """Moves sends of a store by hand, where the table of states allows it from where each is; gives which were."""
    changes: dict[str, Any] = {"state": now_state, "reason": reason}
    if now_state is State.SCHEDULED:
        # values are worked out again from the event, as mapping and message stand now
        changes |= {"due_at": now, "tries": 0, "first_try_at": None, "settled_at": None, "revision_id": None}
    else:
        changes["fallback_at"] = None  # what a person holds or takes back goes by no other way either
    done = session.connection().execute(
        update(SEND)
        .where(
            SEND.c.id.in_(list(ids)),
            not_by_index(SEND.c.store_id) == store_id,
            SEND.c.state.in_(sources_by_hand(now_state)),
        )
        .values(**changes)
        .returning(SEND.c.id)
    )
    moved = set(done.scalars())
    return [id_ for id_ in ids if id_ in moved]


def correct(session: Session, store_id: int, ids: Sequence[str], recipient: str) -> int:
    """Gives sends another address, where none of them is out or in a worker's hands; says how many have it now."""
    done = session.connection().execute(
        update(SEND)
        .where(SEND.c.id.in_(list(ids)), not_by_index(SEND.c.store_id) == store_id, SEND.c.state.in_(CORRECTABLE))
        .values(recipient=recipient)
    )
    return int(done.rowcount)


CORRECTABLE = (State.HELD, State.FAILED, State.SCHEDULED, State.RETRYING, State.SKIPPED, State.CANCELLED)
"""The states of a send whose address may still be another."""


# ---- heartbeats ---------------------------------------------------------------------------------------------------


PLANS, SENDS = "plan", "send"
"""What a worker may be for: planning events, delivering sends, or (`plan send`) both."""


def heartbeat(
    connection: Connection,
    worker: str,
    now: dt.datetime,
    role: str = f"{PLANS} {SENDS}",
    trouble: str = "",
    planned_rate: float = 0.0,
) -> None:
    """A worker's sign of life, with what it can't do, and how many events it plans in a second."""
    values = {"at": now, "role": role, "trouble": trouble, "planned_rate": planned_rate}
    changed = connection.execute(update(HEARTBEAT).where(HEARTBEAT.c.worker == worker).values(**values))
    if changed.rowcount == 0:
        connection.execute(insert(HEARTBEAT).values(worker=worker, **values))


def troubles(session: Session, now: dt.datetime) -> list[str]:
    """What workers that are alive can't do."""
    alive = (HeartbeatRow.at >= now - ALIVE_FOR, HeartbeatRow.trouble != "")
    return list(session.exec(select(HeartbeatRow.trouble).where(*alive).distinct()))


def heard_of(session: Session, since: dt.datetime) -> set[str]:
    """The workers that have given a sign of life since a moment."""
    return set(session.exec(select(HeartbeatRow.worker).where(HeartbeatRow.at >= since)))


def forget_workers(connection: Connection, before: dt.datetime) -> None:
    connection.execute(HEARTBEAT.delete().where(HEARTBEAT.c.at < before))


def planned_rate(session: Session, now: dt.datetime) -> float:
    """How many events all workers that are alive plan in a second; 0 where that is not known."""
    alive = (HeartbeatRow.at >= now - ALIVE_FOR, HeartbeatRow.at <= now + ALIVE_FOR)
    return float(session.exec(select(func.sum(HeartbeatRow.planned_rate)).where(*alive)).one() or 0)


ALIVE_FOR = dt.timedelta(seconds=20)
"""How long a sign of life counts. One from further in the future than that is of a clock that was put back, and counts
for nothing.
"""


def missing_roles(session: Session, now: dt.datetime) -> set[str]:
    """What no worker that has given a sign of life just now is for."""
    alive = session.exec(
        select(HeartbeatRow.role).where(HeartbeatRow.at >= now - ALIVE_FOR, HeartbeatRow.at <= now + ALIVE_FOR)
    )
    return {PLANS, SENDS} - {role for roles in alive for role in roles.split()}


def at_work(session: Session, role: str, now: dt.datetime) -> int:
    """How many processes that plan, or that send, have given a sign of life just now."""
    alive = session.exec(
        select(HeartbeatRow.role).where(HeartbeatRow.at >= now - ALIVE_FOR, HeartbeatRow.at <= now + ALIVE_FOR)
    )
    return sum(1 for roles in alive if role in roles.split())


def first_settled(session: Session, store_id: int) -> tuple[str, dt.datetime] | None:
    """The first send of a store, other than a test, that has come to its end, and when; None where there is none."""
    real = (SendRow.store_id == store_id, col(SendRow.test).is_(False), col(SendRow.settled_at).is_not(None))
    first = select(SendRow.id, SendRow.settled_at).where(*real).order_by(col(SendRow.created_at)).limit(1)
    return session.exec(first).first()  # type: ignore[return-value]


# ---- for pages ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Filter:
    """What the list of sends is narrowed to. `words` looks in recipient, order number, subject, what variables say."""

    states: tuple[str, ...] = ()
    channels: tuple[str, ...] = ()
    messages: tuple[str, ...] = ()
    words: str = ""
    since: dt.datetime | None = None
    first: dt.date | None = None
    """The shop's day that `since` is the beginning of, where it is one."""
    order_id: int | None = None
    route_id: int | None = None
    routes: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    """Keys, as those of `messages` are."""
    reasons: tuple[str, ...] = ()
    """Any of them, each as a send has it."""
    recipient: str = ""
    person_id: int | None = None
    """Of the orders of this customer."""
    ids: tuple[str, ...] = ()
    store_id: int = 0
    """The store in whose index `words` are looked up."""
    most: int = searching.MOST
    """How many of the newest that have the words are looked at."""
    further: int = 0
    """Where an earlier search for the words has ended (`end_of_search`): it goes on from there."""

    @property
    def narrowed(self) -> bool:
        """Whether more is asked than what is counted by day."""
        by_hour = self.since is not None and self.first is None
        of_one = self.order_id is not None or self.route_id is not None or self.person_id is not None
        return bool(self.words or self.ids or self.reasons or self.recipient or by_hour or of_one)


@dataclass(frozen=True)
class ListedSend:
    """A send with the names that a list shows."""

    send: SendRow
    order_number: str
    order_id: int | None
    message: str
    route: str
    gateway: str
    total: str = ""
    """What the order comes to, as people read it."""
    amount: float | None = None
    currency: str = ""
    """The same to reckon with."""


def _of_store(store_id: int, wanted: Filter) -> Any:
    """The sends of a store; where another index finds the few that are wanted, it is not the store's."""
    one = wanted.order_id is not None or wanted.person_id is not None
    few = one or wanted.ids or wanted.words or _stuck(wanted)
    return (not_by_index(SEND.c.store_id) if few else SEND.c.store_id) == store_id


def _stuck(wanted: Filter) -> bool:
    """Whether only sends are wanted that need a person, as those have that are told by their cause: those have an index
    of their own.
    """
    return bool(wanted.reasons or wanted.states) and set(wanted.states) <= {State.HELD.value, State.FAILED.value}


def _narrowed(session: Session, statement: Any, wanted: Filter) -> Any:
    if _stuck(wanted):
        statement = statement.where(text(f"send.{STUCK}"))
    if wanted.states and set(wanted.states) != {State.HELD.value, State.FAILED.value}:
        statement = statement.where(SEND.c.state.in_(wanted.states))
    if wanted.channels:
        statement = statement.where(SEND.c.channel.in_(wanted.channels))
    if wanted.messages:
        statement = statement.where(MessageRow.key.in_(wanted.messages))  # type: ignore[attr-defined]
    if wanted.routes:
        statement = statement.where(RouteRow.key.in_(wanted.routes))  # type: ignore[attr-defined]
    if wanted.gateways:
        statement = statement.where(GatewayRow.key.in_(wanted.gateways))  # type: ignore[attr-defined]
    if wanted.reasons:
        statement = statement.where(SEND.c.reason.in_(wanted.reasons))
    if wanted.recipient:
        statement = statement.where(SEND.c.recipient == wanted.recipient)
    if wanted.person_id is not None:
        theirs = core_select(ORDER.c.id).where(ORDER.c.contact_id == wanted.person_id)
        statement = statement.where(SEND.c.order_id.in_(theirs))
    if wanted.since:
        statement = statement.where(SEND.c.created_at >= wanted.since)
    if wanted.order_id is not None:
        statement = statement.where(SEND.c.order_id == wanted.order_id)
    if wanted.route_id is not None:
        statement = statement.where(SEND.c.route_id == wanted.route_id)
    if wanted.ids:
        statement = statement.where(SEND.c.id.in_(wanted.ids))
    if wanted.words.strip():
        if wanted.most <= searching.MOST:
            asked = (wanted.store_id, wanted.words, wanted.most, wanted.further)
            return statement.where(SEND.c.id.in_(searching.refs(session.connection(), "send", *asked)))
        found = searching.found(session.get_bind().dialect.name, "send", wanted.store_id, wanted.words, wanted.most)
        statement = statement.where(SEND.c.id.in_(found) if found is not None else false())
    return statement


_LISTED: Any = (SendRow, OrderRow.number, OrderRow.id, MessageRow.key, RouteRow.key, GatewayRow.key)
_LISTED += (OrderRow.total, OrderRow.read)


def listed(
    session: Session, store_id: int, wanted: Filter, limit: int = 100, before: tuple[dt.datetime, str] | None = None
) -> list[ListedSend]:
    """Sends with their names, newest first, in one query."""
    statement = (
        select(*_LISTED)
        .options(defer(SendRow.values_), defer(SendRow.trace))  # type: ignore[arg-type]
        .outerjoin(OrderRow, col(OrderRow.id) == col(SendRow.order_id))
        .outerjoin(MessageRow, col(MessageRow.id) == col(SendRow.message_id))
        .outerjoin(RouteRow, col(RouteRow.id) == col(SendRow.route_id))
        .outerjoin(GatewayRow, col(GatewayRow.id) == col(SendRow.gateway_id))
        .where(_of_store(store_id, wanted))
    )
    statement = _narrowed(session, statement, wanted)
    spans = _spans(session.connection(), store_id, wanted, limit, before)
    if spans is not None:
        if not spans:
            return []
        outside = (SEND.c.created_at >= spans[-1][0], SEND.c.created_at < spans[0][1])
        inside = [(SEND.c.created_at >= first) & (SEND.c.created_at < last) for first, last in spans]
        statement = statement.where(*outside, or_(*inside) if 1 < len(inside) <= MOST_SPANS else true())
    if before:
        statement = statement.where(older_than(SEND.c.created_at, SEND.c.id, before))
    rows = session.exec(statement.order_by(SEND.c.created_at.desc(), SEND.c.id.desc()).limit(limit))
    return [_listed(*row) for row in rows]


MOST_SPANS = 40
"""Of more days that have any, all between the newest and the oldest are looked at."""
MOST_AHEAD, MOST_BEHIND = dt.timedelta(hours=14), dt.timedelta(hours=12)
"""Of UTC, a shop's clock."""


def _spans(
    connection: Connection, store_id: int, wanted: Filter, limit: int, before: tuple[dt.datetime, str] | None
) -> list[tuple[dt.datetime, dt.datetime]] | None:
    """When the sends were made that a list shows, the newest first, as they are counted by day: without it, a list of
    what is rare would go through all others. None where it is narrowed by more than what is counted, or by less.
    """
    of_store = {"messages": MESSAGE, "routes": ROUTE, "gateways": GATEWAY}
    chosen: dict[str, Any] = {part: getattr(wanted, part) for part in ("states", "channels") if getattr(wanted, part)}
    for part, table in of_store.items():
        if keys := getattr(wanted, part):
            chosen[part] = core_select(table.c.id).where(table.c.store_id == store_id, table.c.key.in_(keys))
    if not chosen or _stuck(wanted) or replace(wanted, since=None).narrowed:
        return None
    until = before[0].date() + dt.timedelta(days=1) if before else None
    days = counts.days_with(connection, store_id, chosen, limit, until)
    spans: list[tuple[dt.datetime, dt.datetime]] = []
    for day in days:
        midnight = dt.datetime.combine(day, dt.time(), dt.UTC)
        first, last = midnight - MOST_AHEAD, midnight + MOST_BEHIND + dt.timedelta(days=1)
        if spans and last >= spans[-1][0]:
            spans[-1] = (first, spans[-1][1])
        else:
            spans.append((first, last))
    return spans


def _listed(send: SendRow, *more: Any) -> ListedSend:
    number, order_id, message, route, gateway, total, read = more
    named = (number or "", order_id, message or "", route or "", gateway or "", total or "")
    return ListedSend(send, *named, *amount_of((read or {}).get("total")))


def end_of_search(session: Session, wanted: Filter) -> int:
    """Where a search for words has ended, for `further`; 0 where it has met the oldest, or no words are looked for."""
    if not wanted.words:
        return 0
    asked = (wanted.store_id, wanted.words, wanted.most, wanted.further)
    return searching.end_of(session.connection(), "send", *asked)


def tallies(session: Session, store_id: int, wanted: Filter) -> list[Tally]:
    """How many of the sends that are looked for there are for each of the facets' combinations. What is chosen of the
    facets themselves is for `counts.by_facet`; where nothing else narrows it, nothing is counted here.
    """
    if not wanted.narrowed:
        return counts.tallies(session.connection(), store_id, wanted.first)
    rest = replace(wanted, states=(), channels=(), messages=(), routes=(), gateways=())
    columns = (
        SEND.c.state,
        SEND.c.channel,
        func.coalesce(SEND.c.message_id, 0),
        func.coalesce(SEND.c.route_id, 0),
        func.coalesce(SEND.c.gateway_id, 0),
    )
    statement = core_select(*columns, func.count()).select_from(_joined(rest)).where(_of_store(store_id, rest))
    statement = _narrowed(session, statement, rest).group_by(*columns)
    return [Tally(*row) for row in session.connection().execute(statement)]


def _joined(wanted: Filter) -> Any:
    """Sends with what a filter looks at."""
    joined: Any = SEND
    if wanted.messages:
        joined = joined.outerjoin(MESSAGE, MESSAGE.c.id == SEND.c.message_id)
    if wanted.routes:
        joined = joined.outerjoin(ROUTE, ROUTE.c.id == SEND.c.route_id)
    if wanted.gateways:
        joined = joined.outerjoin(GATEWAY, GATEWAY.c.id == SEND.c.gateway_id)
    return joined


def matching(
    session: Session, store_id: int, wanted: Filter, states: Collection[State], after: str, limit: int
) -> list[str]:
    """The ids of sends that fit a filter and are in one of these states, in the order of their ids, after one of
    them.
    """
    found: list[str] = []
    left = {State(state) for state in states} & {State(state) for state in wanted.states or states}
    for condition, part in ((STUCK, _NEED_A_PERSON), (WAITING, _GO_OUT_LATER), ("", frozenset(State))):
        some, left = left & part, left - part
        if not some:
            continue
        statement = core_select(SEND.c.id).select_from(_joined(wanted))
        if condition:  # by the index of the few that are not settled, neither by ids nor by the store
            mine, id_ = (text(f"send.{condition}"), not_by_index(SEND.c.store_id) == store_id), not_by_index(SEND.c.id)
            statement = statement.where(*mine, id_ > after).order_by(id_)
        else:
            mine = (not_by_index(SEND.c.store_id) == store_id, SEND.c.id > after)  # each part goes on where one ended
            statement = statement.where(*mine).order_by(SEND.c.id)
        of_states = replace(wanted, states=tuple(state.value for state in some))
        found += session.connection().execute(_narrowed(session, statement, of_states).limit(limit)).scalars()
    return sorted(found)[:limit]


_NEED_A_PERSON = frozenset((State.HELD, State.FAILED))
_GO_OUT_LATER = frozenset((State.SCHEDULED, State.RETRYING))


@dataclass
class Cause:
    """Why several sends are held or have failed: the state, the gateway's key, and how many they are."""

    state: str
    reason: str
    """Without what is one send's own."""
    gateway: str
    number: int = 0
    exact: list[str] = field(default_factory=list)
    """The reasons as the sends have them, the most frequent first."""


MOST_REASONS = 2000
"""Different reasons that are looked at for their causes."""


def causes(session: Session, store_id: int, since: dt.datetime | None = None) -> list[Cause]:
    """What needs attention by its cause, the most frequent first; of the sends made since a moment."""
    number = func.count().label("number")
    statement = (
        core_select(SEND.c.state, SEND.c.reason, SEND.c.gateway_id, number)
        .where(SEND.c.store_id == store_id, text(f"send.{STUCK}"), SEND.c.test.is_(False))
        .where(SEND.c.created_at >= since if since is not None else true())
        .group_by(SEND.c.state, SEND.c.reason, SEND.c.gateway_id)
        .order_by(number.desc(), SEND.c.reason)
        .limit(MOST_REASONS)
    )
    of_store = core_select(GATEWAY.c.id, GATEWAY.c.key).where(GATEWAY.c.store_id == store_id)
    keys = {id_: key for id_, key in session.connection().execute(of_store)}
    found: dict[tuple[str, str, str], Cause] = {}
    for state, reason, gateway_id, count in session.connection().execute(statement):
        told, key = general(reason), keys.get(gateway_id, "")
        cause = found.setdefault((state, told, key), Cause(state, told, key))
        cause.number += count
        cause.exact.append(reason)
    return sorted(found.values(), key=lambda cause: -cause.number)


def held_of_event(session: Session, event_id: str) -> list[str]:
    """The sends that an event led to and that are held."""
    return list(session.exec(select(SendRow.id).where(SendRow.event_id == event_id, SendRow.state == State.HELD)))


def attempts_of(session: Session, ids: Sequence[str]) -> dict[str, list[AttemptRow]]:
    """Attempts by send, oldest first."""
    found: dict[str, list[AttemptRow]] = {}
    for row in session.exec(select(AttemptRow).where(col(AttemptRow.send_id).in_(ids)).order_by(col(AttemptRow.id))):
        found.setdefault(row.send_id, []).append(row)
    return found


class Said(NamedTuple):
    """What a send said, read."""

    page: str | None
    """An email's page as it was sent; empty for what has none, None for one that can't be read any more."""
    text: str
    about: dict[str, Any]


@dataclass(frozen=True)
class SendDetails:
    """One send with everything that its page shows."""

    listed: ListedSend
    content: Said | None
    attempts: list[AttemptRow]
    event: EventRow | None
    revision: RevisionRow | None
    not_there: str = ""
    """Why its content can't be read from the archive, where that is where it is."""


def details(session: Session, store_id: int, send_id: str) -> SendDetails | None:
    found = any_details(session, send_id)
    return found if found is not None and found.listed.send.store_id == store_id else None


def any_details(session: Session, send_id: str) -> SendDetails | None:
    """The same, whichever store's it is."""
    send = session.get(SendRow, send_id)
    if send is None:
        return None
    order = session.get(OrderRow, send.order_id) if send.order_id else None
    message = session.get(MessageRow, send.message_id) if send.message_id else None
    route = session.get(RouteRow, send.route_id) if send.route_id else None
    gateway = session.get(GatewayRow, send.gateway_id) if send.gateway_id else None
    content = session.get(ContentRow, send_id)
    return SendDetails(
        ListedSend(
            send,
            order.number if order else "",
            send.order_id,
            message.key if message else "",
            route.key if route else "",
            gateway.key if gateway else "",
        ),
        said_of(session.connection(), [content])[send_id] if content is not None else None,
        attempts_of(session, [send_id]).get(send_id, []),
        session.get(EventRow, send.event_id) if send.event_id else None,
        session.get(RevisionRow, send.revision_id) if send.revision_id else None,
    )


def said_of(connection: Connection, contents: Collection[ContentRow]) -> dict[str, Said]:
    """What sends said, by their ids."""
    short = [one.send_id for one in contents if not (one.text or one.html or one.packed)]
    asked = core_select(SEND.c.id, SEND.c.subject).where(SEND.c.id.in_(short))
    subjects = {id_: subject for id_, subject in connection.execute(asked)} if short else {}
    patterns = page_patterns.texts(connection, {one.pattern_id for one in contents if one.pattern_id is not None})
    found = {}
    for one in contents:
        try:
            said = _said(one, patterns.get(one.pattern_id or 0, ""))
            found[one.send_id] = said._replace(text=subjects[one.send_id]) if one.send_id in subjects else said
        except ValueError as error:
            log.error("what a mail said can't be read", send=one.send_id, why=str(error))
            found[one.send_id] = Said(None, one.text, one.about or {})
    return found


def _said(row: ContentRow, pattern: str) -> Said:
    """Raises ValueError where `pattern` is not the one that it was packed by."""
    if row.packed is None:
        return Said(row.html, row.text, row.about or {})
    if row.pattern_id is None:
        return Said(zlib.decompress(row.packed).decode(), row.text, row.about or {})
    page, text, about = mail_of(row.packed, pattern)
    return Said(page, row.text or text, about | (row.about or {}))


def traces_of(session: Session, event_id: str) -> dict[str, list[Any]]:
    """Why routes have sent because of an event, by route."""
    statement = (
        select(RouteRow.key, SendRow.trace)
        .join(RouteRow, col(RouteRow.id) == col(SendRow.route_id))
        .where(SendRow.event_id == event_id, col(SendRow.trace).is_not(None))
        .order_by(col(SendRow.id))
    )
    found: dict[str, list[Any]] = {}
    for key, trace in session.exec(statement):
        found.setdefault(key, list(trace or ()))
    return found


def given_in_runs(connection: Connection, run_ids: Collection[int]) -> dict[tuple[int, int], dict[str, Any]]:
    """What was typed for manual runs, as it is kept, by run and order."""
    made: dict[tuple[int, int], dict[str, Any]] = {}
    columns = (RUN.c.id, RUN.c.answers, RUN.c.results)
    for row in connection.execute(core_select(*columns).where(RUN.c.id.in_(run_ids))) if run_ids else ():
        typed = {name: value for name, value in (row.answers or {}).items() if value is not None}
        made |= {(row.id, one["order"]): {**typed, **one.get("given", {})} for one in row.results or []}
    return made


def of_run_in(session: Session, run_id: int, states: Sequence[State], reason: str = "") -> list[str]:
    """The sends of a run in one of these states, those for a reason alone where one is given."""
    where: list[Any] = [SendRow.run_id == run_id, col(SendRow.state).in_(states)]
    if reason:
        where.append(SendRow.reason == reason)
    return list(session.exec(select(SendRow.id).where(*where)))


def of_run(session: Session, run_id: int) -> list[SendRow]:
    """The sends that a manual run made."""
    return list(session.exec(select(SendRow).where(SendRow.run_id == run_id)))


def runs_of_order(session: Session, order_id: int) -> list[RunRow]:
    """The manual runs that an order was part of, newest first."""
    ids = select(SendRow.run_id).where(SendRow.order_id == order_id, col(SendRow.run_id).is_not(None))
    return list(session.exec(select(RunRow).where(col(RunRow.id).in_(ids)).order_by(col(RunRow.id).desc())))


def runs(session: Session, store_id: int, limit: int = 10) -> list[RunRow]:
    """The newest manual runs."""
    return list(
        session.exec(select(RunRow).where(RunRow.store_id == store_id).order_by(col(RunRow.id).desc()).limit(limit))
    )
