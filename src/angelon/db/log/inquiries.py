"""What is asked elsewhere about events: made by planning, claimed and settled by whoever asks, kept with the event."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

from sqlalchemy import Connection, and_, bindparam, case, delete, func, insert, or_, text, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, select

from angelon.core.breaker import Health
from angelon.core.problems import Invalid
from angelon.core.specs.asked import Asked
from angelon.core.specs.base import read_spec
from angelon.db.bulk import Bulk
from angelon.db.lists import each_once, not_by_index
from angelon.db.log.events import EVENT
from angelon.db.rows import InquiryRecord, rows_of
from angelon.db.tables import DUE, PROBLEM, TO_PLAN, EventRow, InquiryRow, TargetHealthRow, table_of

INQUIRY = table_of(InquiryRow)
HEALTH = table_of(TargetHealthRow)
LOOK_UP: Literal["look-up"] = "look-up"
HANDLER: Literal["handler"] = "handler"
MINE = "handler:"
"""How the target of a handler's inquiry begins."""
_OF_EVENTS = INQUIRY.c.event_id.in_(bindparam("b_ids", expanding=True))
_STATES = core_select(
    *(INQUIRY.c[name] for name in ("event_id", "kind", "name", "due_at", "tries", "problem", "value", "until"))
).where(_OF_EVENTS)
_VALUES = core_select(INQUIRY.c.event_id, INQUIRY.c.name, INQUIRY.c.value).where(
    _OF_EVENTS, INQUIRY.c.kind == LOOK_UP, INQUIRY.c.problem == "", INQUIRY.c.due_at.is_(None)
)
_PROBLEMS = core_select(INQUIRY.c.event_id, INQUIRY.c.name, INQUIRY.c.problem).where(
    _OF_EVENTS, INQUIRY.c.kind == LOOK_UP, INQUIRY.c.problem != "", INQUIRY.c.due_at.is_(None)
)
_ASKED = core_select(INQUIRY.c.event_id, INQUIRY.c.name, INQUIRY.c.value, INQUIRY.c.problem, INQUIRY.c.digest).where(
    _OF_EVENTS, INQUIRY.c.kind == HANDLER, INQUIRY.c.due_at.is_(None)
)
_ADD = {
    name: Bulk(dialect.insert(INQUIRY).on_conflict_do_nothing(index_elements=["event_id", "kind", "name"]))
    for name, dialect in (("sqlite", sqlite), ("postgresql", postgresql))
}


class Key(NamedTuple):
    """What one inquiry is told apart by."""

    event_id: str
    kind: str
    name: str


def key_of(row: InquiryRecord) -> Key:
    return Key(row.event_id, row.kind, row.name)


@dataclass(slots=True)
class AboutEvent:
    """All that was asked about one event, as far as it has come."""

    answered: dict[str, Any] = field(default_factory=dict)
    """By look-up."""
    unanswered: dict[str, str] = field(default_factory=dict)
    """Why there is no answer and will be none, by look-up."""
    open: dict[str, str] = field(default_factory=dict)
    """The look-ups that are not settled, and what each waits for."""
    asked: dict[str, Asked] = field(default_factory=dict)
    """What handlers have asked for; a call that failed as its problem."""
    called: dict[str, str] = field(default_factory=dict)
    """The handlers that are not settled, and what each waits for."""

    @property
    def known(self) -> set[tuple[str, str]]:
        """(kind, name) of every inquiry that there is."""
        look_ups = (self.answered, self.unanswered, self.open)
        return {(LOOK_UP, name) for found in look_ups for name in found} | {
            (HANDLER, name) for found in (self.asked, self.called) for name in found
        }


def about(connection: Connection, event_ids: Collection[str]) -> dict[str, AboutEvent]:
    """What was asked about these events, by event, in one query."""
    found: dict[str, AboutEvent] = {}
    for row in connection.execute(_STATES, {"b_ids": list(event_ids)}) if event_ids else ():
        one = found.setdefault(row.event_id, AboutEvent())
        if row.kind == LOOK_UP:
            if row.due_at is not None:
                one.open[row.name] = waits_for(LOOK_UP, row.name, row.tries, row.problem)
            elif row.problem:
                one.unanswered[row.name] = row.problem
            else:
                one.answered[row.name] = row.value
        elif row.due_at is not None:
            one.called[row.name] = waits_for(HANDLER, row.name, row.tries, row.problem)
        else:
            one.asked[row.name] = _as_asked(row.value, row.problem)
    return found


def waits_for(kind: str, name: str, tries: int = 0, problem: str = "") -> str:
    """What a decision waits for, as a sentence."""
    what = f"the answer of the look-up “{name}”" if kind == LOOK_UP else f"the handler “{name}”"
    last = problem.strip().splitlines()[-1][:200] if problem.strip() else ""
    so_far = f", asked {tries} time{'s' if tries > 1 else ''} so far: {last}" if tries and last else ""
    return f"It waits for {what}{so_far or '.'}"


def _as_asked(value: Any, problem: str) -> Asked:
    try:
        return read_spec(Asked, value or {"problem": problem})
    except Invalid as error:
        return Asked(problem=str(error.problems[0])[:8000])


def values(connection: Connection, event_ids: Collection[str]) -> dict[str, dict[str, Any]]:
    """The values that look-ups answered about deliveries, by event and name."""
    return _by_event(connection, _VALUES, event_ids, "value")


def unanswered(connection: Connection, event_ids: Collection[str]) -> dict[str, dict[str, str]]:
    """Why look-ups have no answer and will get none, by event and name."""
    return _by_event(connection, _PROBLEMS, event_ids, "problem")


def _by_event(connection: Connection, statement: Any, event_ids: Collection[str], column: str) -> dict[str, Any]:
    found: dict[str, dict[str, Any]] = {}
    for row in connection.execute(statement, {"b_ids": list(event_ids)}) if event_ids else ():
        found.setdefault(row.event_id, {})[row.name] = getattr(row, column)
    return found


def asked(connection: Connection, event_ids: Collection[str], digest: str = "") -> dict[str, dict[str, Asked]]:
    """What handlers have asked for about events, by event and handler; a call that failed as its problem. With a
    `digest` only what that very code has asked for.
    """
    found: dict[str, dict[str, Asked]] = {}
    for row in connection.execute(_ASKED, {"b_ids": list(event_ids)}) if event_ids else ():
        if not digest or row.digest == digest:
            found.setdefault(row.event_id, {})[row.name] = _as_asked(row.value, row.problem)
    return found


def of_event(connection: Connection, event_id: str, kind: str) -> list[Any]:
    """Everything of a kind that was asked about one event."""
    of_kind = core_select(INQUIRY).where(INQUIRY.c.event_id == event_id, INQUIRY.c.kind == kind)
    return list(connection.execute(of_kind.order_by(INQUIRY.c.name)))


def failed(connection: Connection, source_ids: Collection[int], since: dt.datetime, limit: int) -> list[Any]:
    """Look-ups that failed since a moment, the newest first: (event, order, source, name, problem, at)."""
    columns: Any = (INQUIRY.c.event_id, EVENT.c.order_id, EVENT.c.source_id, *(INQUIRY.c.name, INQUIRY.c.problem))
    statement = core_select(*columns, INQUIRY.c.at).join(EVENT, EVENT.c.id == INQUIRY.c.event_id)
    of_sources = not_by_index(EVENT.c.source_id).in_(list(source_ids))
    settled = (not_by_index(INQUIRY.c.kind) == LOOK_UP, INQUIRY.c.due_at.is_(None))  # those with a problem are fewer
    where = (text(f"inquiry.{PROBLEM}"), INQUIRY.c.at >= since, *settled, of_sources)
    newest = (INQUIRY.c.at.desc(), INQUIRY.c.event_id, INQUIRY.c.name)
    return list(connection.execute(statement.where(*where).order_by(*newest).limit(limit)))


def add(connection: Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Makes inquiries; those that are there stay as they are."""
    if rows:
        _ADD[connection.dialect.name].run(connection, rows)


def new(
    event_id: str, kind: str, name: str, source_id: int, target: str, due_at: dt.datetime, until: dt.datetime
) -> dict[str, Any]:
    """An inquiry as it is made. Times are aware."""
    made = {"event_id": event_id, "kind": kind, "name": name, "source_id": source_id, "target": target}
    return made | {"due_at": due_at, "until": until}


CALL = "call"
"""The target under which answers to calls are kept."""


def answers_to_calls(connection: Connection, order_ids: Collection[int]) -> dict[int, dict[str, Any]]:
    """What calls about orders were answered last, by order and the message's key."""
    columns = (EVENT.c.order_id, INQUIRY.c.name, INQUIRY.c.value)
    statement = core_select(*columns).join(EVENT, EVENT.c.id == INQUIRY.c.event_id)
    called = (not_by_index(INQUIRY.c.kind) == LOOK_UP, INQUIRY.c.target == CALL)  # of these orders' events alone
    where = (EVENT.c.order_id.in_(list(order_ids)), *called)
    made: dict[int, dict[str, Any]] = {}
    for row in connection.execute(statement.where(*where).order_by(INQUIRY.c.at)) if order_ids else ():
        made.setdefault(row.order_id, {})[row.name] = row.value
    return made


def keep_answer(
    connection: Connection, event_id: str, name: str, source_id: int, target: str, value: Any, now: dt.datetime
) -> None:
    """Keeps what a call about an event was answered, as the answer of a look-up is kept: the newest of that name."""
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    row = new(event_id, LOOK_UP, name, source_id, target, now, now) | {"due_at": None, "at": now, "value": value}
    statement: Any = dialect.insert(INQUIRY).values(**row, tries=1)
    said = {"value": statement.excluded.value, "at": statement.excluded.at, "problem": ""}
    connection.execute(statement.on_conflict_do_update(index_elements=["event_id", "kind", "name"], set_=said))


def due(connection: Connection, now: dt.datetime) -> dict[str, dt.datetime]:
    """The targets that something waits to be asked of, and since when the first does. The time may lie ahead."""
    first = func.min(INQUIRY.c.due_at)
    rows = connection.execute(core_select(INQUIRY.c.target, first).where(text(DUE)).group_by(INQUIRY.c.target))
    return {target: at for target, at in rows if at is not None}


def claim(
    connection: Connection, target: str, now: dt.datetime, most: int, until: dt.datetime, worker: str
) -> list[InquiryRecord]:
    """Takes up to `most` inquiries of a target that are due, those that wait longest first, and keeps others from them
    until then. Gives them as they were.
    """
    statement = (
        core_select(INQUIRY)
        .where(INQUIRY.c.target == target, INQUIRY.c.due_at.is_not(None), INQUIRY.c.due_at <= now)
        .order_by(INQUIRY.c.due_at)
        .limit(most)
    )
    if connection.dialect.name == "postgresql":
        statement = statement.with_for_update(skip_locked=True)
    rows = rows_of(InquiryRecord, connection.execute(statement))
    if rows:
        _CLAIM.run(connection, [_named(key_of(row)) | {"due_at": until, "asker": worker} for row in rows])
    return rows


def _named(key: Key) -> dict[str, str]:
    return {"b_event": key.event_id, "b_kind": key.kind, "b_name": key.name}


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one try came to. `again` is when it is asked once more (aware); None where it is settled."""

    key: Key
    at: dt.datetime
    tries: int
    took_ms: int = 0
    url: str = ""
    value: Any = None
    output: str = ""
    problem: str = ""
    digest: str = ""
    again: dt.datetime | None = None

    def row(self) -> dict[str, Any]:
        made = {name: getattr(self, name) for name in _KEPT}
        return _named(self.key) | made | {"due_at": self.again, "asker": ""}


_KEPT = ("at", "tries", "took_ms", "url", "value", "output", "problem", "digest")
_THIS = (
    INQUIRY.c.event_id == bindparam("b_event"),
    INQUIRY.c.kind == bindparam("b_kind"),
    INQUIRY.c.name == bindparam("b_name"),
)
_STORE = Bulk(update(INQUIRY).where(*_THIS).values({name: bindparam(name) for name in (*_KEPT, "due_at", "asker")}))
_CLAIM = Bulk(update(INQUIRY).where(*_THIS).values({name: bindparam(name) for name in ("due_at", "asker")}))


def store(connection: Connection, outcomes: Sequence[Outcome], now: dt.datetime) -> None:
    """Stores what tries came to, and has the events of those that are settled looked at again.

    The events are touched first: whoever plans one of them at this moment is waited for, or waits, so that either sees
    what the other has done.
    """
    settled = sorted({one.key.event_id for one in outcomes if one.again is None})
    if settled:
        poke(connection, settled, now)
    if outcomes:
        _STORE.run(connection, [one.row() for one in outcomes])
    roots = sorted({one.key.event_id for one in outcomes if one.again is None and one.key.kind == LOOK_UP})
    if roots:
        _call_handlers(connection, roots, now)


def poke(connection: Connection, event_ids: Sequence[str], now: dt.datetime) -> None:
    """Has these events, and what follows from them and waits, looked at again."""
    ids = list(event_ids)
    connection.execute(update(EVENT).where(EVENT.c.id.in_(ids)).values(decide_at=now))
    following = (EVENT.c.parent_id.in_(ids), EVENT.c.waits_for != "")
    connection.execute(update(EVENT).where(*following).values(decide_at=now))


def _call_handlers(connection: Connection, roots: Sequence[str], now: dt.datetime) -> None:
    """Lets handlers be called about deliveries of which every look-up is settled."""
    still = INQUIRY.alias("still")
    waits = core_select(still.c.event_id).where(
        still.c.event_id.in_(roots), still.c.kind == LOOK_UP, still.c.due_at.is_not(None)
    )
    free = sorted(set(roots) - set(connection.execute(waits).scalars()))
    of_roots = core_select(EVENT.c.id).where(or_(EVENT.c.id.in_(free), EVENT.c.parent_id.in_(free)))
    held = and_(INQUIRY.c.kind == HANDLER, INQUIRY.c.tries == 0, INQUIRY.c.due_at == INQUIRY.c.until)
    if free:
        connection.execute(update(INQUIRY).where(INQUIRY.c.event_id.in_(of_roots), held).values(due_at=now))


def any_late(connection: Connection, now: dt.datetime, targets: Collection[str]) -> bool:
    """Whether the time of an inquiry of these targets is over."""
    late = (text(DUE), INQUIRY.c.due_at <= now, INQUIRY.c.until <= now, INQUIRY.c.target.in_(list(targets)))
    return connection.execute(core_select(INQUIRY.c.name).where(*late).limit(1)).first() is not None


def give_up_late(connection: Connection, now: dt.datetime, why: Mapping[str, str], most: int = 200) -> int:
    """Settles inquiries whose time is over, with why (by target); says how many."""
    late = core_select(*INQUIRY.c["event_id", "kind", "name", "target", "problem", "tries"]).where(
        text(DUE), INQUIRY.c.due_at <= now, INQUIRY.c.until <= now, INQUIRY.c.target.in_(list(why))
    )
    rows = rows_of(InquiryRecord, connection.execute(late.limit(most))) if why else []
    given_up = [
        Outcome(key_of(row), now, row.tries, problem=row.problem or f"It was not asked in time: {why[row.target]}")
        for row in rows
    ]
    if given_up:
        store(connection, given_up, now)
    return len(given_up)


def askers(connection: Connection) -> list[str]:
    """The workers that are asking about something just now."""
    asking = core_select(INQUIRY.c.asker).where(text(DUE), INQUIRY.c.asker != "")
    return list(connection.execute(asking.distinct()).scalars())


def give_back(connection: Connection, workers: Collection[str], now: dt.datetime) -> int:
    """Lets others ask at once what these workers, which are gone, were asking; says how many."""
    theirs = (text(DUE), INQUIRY.c.asker.in_(list(workers)))
    return connection.execute(update(INQUIRY).where(*theirs).values(due_at=now, asker="")).rowcount


def forget_failed(connection: Connection, event_ids: Collection[str] | None = None) -> None:
    """Has what failed about events that are to be planned asked once more: all of them, or these."""
    waiting: list[Any] = [text(TO_PLAN)]
    if event_ids is not None:
        waiting.append(EVENT.c.id.in_(list(event_ids)))
    meant = core_select(func.coalesce(EVENT.c.parent_id, EVENT.c.id)).where(*waiting)
    of_them = core_select(EVENT.c.id).where(*waiting)
    either = or_(INQUIRY.c.event_id.in_(meant), INQUIRY.c.event_id.in_(of_them))
    connection.execute(delete(INQUIRY).where(either, INQUIRY.c.problem != "", INQUIRY.c.due_at.is_(None)))


def unhealthy(connection: Connection) -> dict[str, Health]:
    """The targets that are left alone but for one try now and then."""
    return {
        row.target: Health(row.failures, row.opened_at, row.probe_at, row.reason)
        for row in connection.execute(core_select(HEALTH).order_by(HEALTH.c.target))
    }


def save_health(connection: Connection, changed: Mapping[str, Health]) -> None:
    """Stores these; a target that is well has no row."""
    for target, health in changed.items():
        connection.execute(HEALTH.delete().where(HEALTH.c.target == target))
        if health.opened_at is not None:
            values = {"failures": health.failures, "opened_at": health.opened_at, "probe_at": health.probe_at}
            connection.execute(insert(HEALTH).values(target=target, reason=health.reason[:500], **values))


def waiting_by_target(session: Session) -> dict[str, tuple[int, dt.datetime]]:
    """How much is not settled, by target, and when the first of it is asked."""
    count, first = func.count(), func.min(INQUIRY.c.due_at)
    rows = session.connection().execute(
        core_select(INQUIRY.c.target, count, first).where(text(DUE)).group_by(INQUIRY.c.target)
    )
    return {target: (int(number), at) for target, number, at in rows}


@dataclass(frozen=True, slots=True)
class Tally:
    """How often a handler was called since a moment, how often in vain, and how long a call took at the middle and at
    most, in milliseconds.
    """

    calls: int = 0
    failed: int = 0
    mean_ms: int = 0
    longest_ms: int = 0
    last: dt.datetime | None = None


OF_HANDLERS = (
    INQUIRY.c.kind == HANDLER,
    INQUIRY.c.name.in_(core_select(each_once(INQUIRY.c.name, INQUIRY.c.kind == HANDLER).c.value)),
)
"""Every call, with its handler's name, so that its index serves for a span of time."""


def tallies(session: Session, since: dt.datetime) -> dict[str, Tally]:
    """By handler, since a moment (aware)."""
    failed_ = func.sum(case((INQUIRY.c.problem != "", 1), else_=0))
    longest, last = func.max(INQUIRY.c.took_ms), func.max(INQUIRY.c.at)
    statement = (
        core_select(INQUIRY.c.name, func.count(), failed_, func.avg(INQUIRY.c.took_ms), longest, last)
        .where(*OF_HANDLERS, INQUIRY.c.at >= since)
        .group_by(INQUIRY.c.name)
    )
    return {
        name: Tally(calls, int(failed or 0), round(mean or 0), int(longest or 0), last)
        for name, calls, failed, mean, longest, last in session.connection().execute(statement)
    }


def calls(session: Session, handler: str, limit: int = 50, only_failed: bool = False) -> list[tuple[Any, EventRow]]:
    """A handler's newest calls, each with its event."""
    statement = (
        select(InquiryRow, EventRow)
        .join(EventRow, col(EventRow.id) == InquiryRow.event_id)
        .where(InquiryRow.kind == HANDLER, InquiryRow.name == handler, col(InquiryRow.at).is_not(None))
        .order_by(col(InquiryRow.at).desc())
        .limit(limit)
    )
    if only_failed:
        statement = statement.where(InquiryRow.problem != "")
    return list(session.exec(statement).all())
