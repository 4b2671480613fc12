"""What a store has set up, as rows: read with what they hold, written one at a time, each write checked against
others'.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar
from zoneinfo import ZoneInfo

from sqlalchemy import delete
from sqlmodel import Session, col, exists, func, select

from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Gateway, Message, Route, Source, Store, Variable
from angelon.core.specs.base import Spec
from angelon.core.specs.origins import moved, strangers
from angelon.core.specs.stored import from_stored, to_stored, upgraded
from angelon.db.derived import counting
from angelon.db.setup import mappings
from angelon.db.tables import (
    AccountRow,
    CheckRow,
    GatewayRow,
    MessageRow,
    RevisionRow,
    RouteRow,
    SecretRow,
    SourceRow,
    StoreRow,
    VariableRow,
)

SpecT = TypeVar("SpecT", bound=Spec)
Drafted = MessageRow | RouteRow
"""Rows with a draft, and revisions of which one is live."""
SetUpRow = SourceRow | GatewayRow | MessageRow | RouteRow
"""Rows of what a store has set up, each with a key."""
RowT = TypeVar("RowT", SourceRow, GatewayRow, MessageRow, RouteRow)
LiveT = TypeVar("LiveT", SourceRow, GatewayRow)
DraftedT = TypeVar("DraftedT", MessageRow, RouteRow)


# ---- read -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Versioned(Generic[SpecT]):
    """A message or route as it is stored: what is live, and the draft that is being edited, where there is one."""

    id: int
    key: str
    edits: int
    draft: SpecT | None
    drafted_at: dt.datetime | None
    live: SpecT | None
    live_id: int | None
    number: int
    """The live revision's number; 0 where none is."""
    published_at: dt.datetime | None
    problem: str = ""
    """Why the draft, or what is live, can't be read as it is stored; empty where both can."""
    on: bool = False
    since: dt.datetime | None = None
    gone_at: dt.datetime | None = None

    @property
    def spec(self) -> SpecT:
        """The draft, else what is live."""
        found = self.draft if self.draft is not None else self.live
        if found is None:
            raise Invalid([Problem(self.key, self.problem or "Nothing is stored under this key.")])
        return found

    @property
    def versions(self) -> list[SpecT]:
        """Whatever of it may be sent: what is live and the draft."""
        return [version for version in (self.live, self.draft) if version is not None]


StoredMessage = Versioned[Message]
StoredRoute = Versioned[Route]


def messages(session: Session, store_id: int) -> list[StoredMessage]:
    """Every message that can be read, in one query, oldest first."""
    where = col(MessageRow.gone_at).is_(None)
    return [found for found in _versioned(session, MessageRow, Message, store_id, where) if _readable(found)]


def routes(session: Session, store_id: int, gone: bool = False) -> list[StoredRoute]:
    """Every route that can be read, in one query, oldest first; deleted ones where `gone` says so."""
    where = () if gone else (col(RouteRow.gone_at).is_(None),)
    return [found for found in _versioned(session, RouteRow, Route, store_id, *where) if _readable(found)]


def message(session: Session, store_id: int, key: str) -> StoredMessage | None:
    """A message by its key. Its `spec` raises Invalid where nothing of it can be read."""
    where = (col(MessageRow.key) == key, col(MessageRow.gone_at).is_(None))
    return next(iter(_versioned(session, MessageRow, Message, store_id, *where)), None)


def route(session: Session, store_id: int, key: str) -> StoredRoute | None:
    """A route by its key, deleted or not."""
    return next(iter(_versioned(session, RouteRow, Route, store_id, col(RouteRow.key) == key)), None)


def unreadable(session: Session, store_id: int) -> list[tuple[str, str, str]]:
    """(kind, key, why) of every message and route of which something can't be read as it is stored."""
    found: list[tuple[str, str, str]] = []
    for kind, rows in (
        ("message", _versioned(session, MessageRow, Message, store_id)),
        ("route", _versioned(session, RouteRow, Route, store_id)),
    ):
        found += [(kind, row.key, row.problem) for row in rows if row.problem]
    return found


def _readable(found: Versioned[Any]) -> bool:
    return found.draft is not None or found.live is not None


def _versioned(session: Session, table: Any, kind: type[SpecT], store_id: int, *where: Any) -> list[Versioned[SpecT]]:
    statement = (
        select(table, RevisionRow.spec, RevisionRow.number, RevisionRow.created_at)
        .outerjoin(RevisionRow, col(RevisionRow.id) == table.live_id)
        .where(table.store_id == store_id, *where)
        .order_by(table.id)
    )
    return [_one(kind, row, spec, number, at) for row, spec, number, at in session.exec(statement)]


def _one(
    kind: type[SpecT], row: Drafted, spec: Mapping[str, Any] | None, number: int | None, at: dt.datetime | None
) -> Versioned[SpecT]:
    draft, problem = _read(kind, row.draft, "The draft")
    live, other = _read(kind, spec, "What is live")
    why = problem or other
    made = Versioned(row.id or 0, row.key, row.edits, draft, row.drafted_at, live, row.live_id, number or 0, at, why)
    return replace(made, on=row.on, since=row.since, gone_at=row.gone_at) if isinstance(row, RouteRow) else made


def _read(kind: type[SpecT], data: Mapping[str, Any] | None, what: str) -> tuple[SpecT | None, str]:
    if data is None:
        return None, ""
    try:
        return from_stored(kind, data), ""
    except Invalid as error:
        return None, f"{what} can't be read as it is stored: {error.problems[0]}"


def by_key(session: Session, table: type[RowT], store_id: int, key: str) -> RowT | None:
    """The row with a key; None where there is none."""
    return session.exec(select(table).where(table.store_id == store_id, table.key == key)).first()


def source_taken(session: Session, key: str) -> bool:
    """Whether any store has a source with this key: sources' addresses are the whole installation's."""
    return session.exec(select(SourceRow.id).where(SourceRow.key == key)).first() is not None


def sources(session: Session, store_id: int) -> list[SourceRow]:
    """The sources that are not deleted, oldest first."""
    there = (SourceRow.store_id == store_id, col(SourceRow.gone_at).is_(None))
    return list(session.exec(select(SourceRow).where(*there).order_by(col(SourceRow.id))))


def stores(session: Session) -> list[StoreRow]:
    return list(session.exec(select(StoreRow).order_by(col(StoreRow.id))))


def stores_and_accounts(session: Session) -> tuple[list[StoreRow], bool]:
    """Every store, and whether anybody has an account, in one query where there is a store."""
    any_account = exists(select(AccountRow.id))
    rows = session.exec(select(StoreRow, any_account).order_by(col(StoreRow.id))).all()
    if not rows:
        return [], session.exec(select(AccountRow.id).limit(1)).first() is not None
    return [row for row, _ in rows], bool(rows[0][1])


def versions(session: Session) -> dict[int, int]:
    """The version of each store's set-up, by store id."""
    return {row[0]: row[1] for row in session.exec(select(StoreRow.id, StoreRow.version)) if row[0] is not None}


def revisions(session: Session, kind: str, owner_id: int, limit: int | None = None) -> Sequence[RevisionRow]:
    """The revisions of a message or route, newest first."""
    owned = (RevisionRow.kind == kind, RevisionRow.owner_id == owner_id)
    return session.exec(select(RevisionRow).where(*owned).order_by(col(RevisionRow.number).desc()).limit(limit)).all()


def free_key(session: Session, table: type[SetUpRow], store_id: int, wanted: str) -> str:
    """A key that no row of a table has or had in this store (a source's: in any): the wanted one, or that with a
    number.
    """
    keys = select(table.key)
    taken = set(session.exec(keys if table is SourceRow else keys.where(table.store_id == store_id)))
    key, number = wanted[:60], 2
    while key in taken:
        key, number = f"{wanted[:55]}-{number}", number + 1
    return key


# ---- write ----------------------------------------------------------------------------------------------------------


def touch(session: Session, store_id: int) -> None:
    """Marks a store's set-up as changed, so that every process loads it anew."""
    row = session.get(StoreRow, store_id)
    if row:
        row.version = StoreRow.version + 1  # in SQL: two who change it at once count twice


def count_edit(row: SetUpRow | StoreRow | VariableRow | CheckRow) -> None:
    """Notes that a row is changed, so that whoever has it open can be told."""
    row.edits = (row.edits or 0) + 1


def save_live(session: Session, table: type[LiveT], store_id: int, spec: Spec, now: dt.datetime) -> LiveT:
    """Stores a source's or gateway's spec, live at once."""
    key: str = spec.key  # type: ignore[attr-defined]
    row = by_key(session, table, store_id, key)
    if row is None:
        row = table(store_id=store_id, key=key, spec={})
        if isinstance(row, SourceRow):
            row.created_at = now
        session.add(row)
    _drop_credentials(session, row, spec)
    count_edit(row)
    row.spec, row.gone_at = to_stored(spec), None
    touch(session, store_id)
    session.flush()
    if isinstance(spec, Source) and isinstance(row, SourceRow):
        mappings.keep_revision(session, row, spec, now)
        mappings.forget_if_live(session, row)
    return row


def _drop_credentials(session: Session, row: SourceRow | GatewayRow, spec: Spec) -> None:
    """Credentials go with the address that they are for: whoever changes that does not have them sent elsewhere."""
    gone: list[str] = []
    if row.id is None or not row.spec:
        return
    if isinstance(spec, Gateway):
        gone = ["gateway"] if strangers(from_stored(Gateway, row.spec), spec) else []
    elif isinstance(spec, Source):
        before = {one.name: one for one in from_stored(Source, row.spec).enrichments}
        now = [one for one in spec.enrichments if one.name in before]
        gone = [f"{LOOK_UP}{one.name}" for one in now if moved(before[one.name].url, one.url)]
        was = from_stored(Source, row.spec).fetch
        gone += [FETCH] if was is not None and (spec.fetch is None or moved(was.url, spec.fetch.url)) else []
    if gone:
        mine = (col(SecretRow.kind).in_(gone), col(SecretRow.owner_id) == row.id)
        session.execute(delete(SecretRow).where(*mine))


LOOK_UP = "look-up:"
"""How the kind of a look-up's credentials begins; its name follows."""
FETCH = "fetch"
"""The kind of the credentials by which a source's orders are fetched."""


def keys(session: Session, store_id: int) -> dict[str, dict[int, str]]:
    """What every message, route and gateway that a store has or had is known by, by its id."""
    found: dict[str, dict[int, str]] = {}
    for part, table in (("messages", MessageRow), ("routes", RouteRow), ("gateways", GatewayRow)):
        rows = session.exec(select(table.id, table.key).where(table.store_id == store_id))
        found[part] = {id_: key for id_, key in rows if id_ is not None}
    return found


def save_store(session: Session, store_id: int, store: Store) -> None:
    """Stores a store's own spec, live at once."""
    row = session.get(StoreRow, store_id)
    if row is not None:
        count_edit(row)
        row.spec = to_stored(store)
        touch(session, store_id)
        session.flush()
        counting.set_zone(session.connection(), store_id, ZoneInfo(store.timezone))


def save_variable(session: Session, store_id: int, variable: Variable) -> None:
    row = variable_row(session, store_id, variable.name)
    if row is None:
        row = VariableRow(store_id=store_id, name=variable.name)
        session.add(row)
    count_edit(row)
    row.spec = to_stored(variable)
    touch(session, store_id)
    session.flush()


def variable_row(session: Session, store_id: int, name: str) -> VariableRow | None:
    return session.exec(select(VariableRow).where(VariableRow.store_id == store_id, VariableRow.name == name)).first()


def delete_variable(session: Session, store_id: int, name: str) -> dict[str, dict[str, Any]]:
    """Deletes a variable, and every source's recipe for it; gives those: `spec` (live) and `draft`, by source."""
    row = variable_row(session, store_id, name)
    if row is None:
        return {}
    gone: dict[str, dict[str, Any]] = {}
    session.delete(row)
    for source in session.exec(select(SourceRow).where(SourceRow.store_id == store_id)):
        for column in ("spec", "draft"):
            data = getattr(source, column) or {}
            if name in data.get("recipes", {}):
                gone.setdefault(source.key, {})[column] = data["recipes"][name]
                left = {key: value for key, value in data["recipes"].items() if key != name}
                setattr(source, column, {**data, "recipes": left})
                count_edit(source)
        mappings.forget_if_live(session, source)
    touch(session, store_id)
    session.flush()
    return gone


def save_draft(session: Session, table: type[DraftedT], store_id: int, spec: Spec, now: dt.datetime) -> DraftedT:
    """Stores a message's or route's draft; what is live stays as it is."""
    key: str = spec.key  # type: ignore[attr-defined]
    row = by_key(session, table, store_id, key)
    if row is None:
        row = table(store_id=store_id, key=key)
        session.add(row)
    count_edit(row)
    row.draft, row.drafted_at = to_stored(spec), now
    session.flush()
    return row


def publish(session: Session, row: Drafted, now: dt.datetime, note: str = "") -> RevisionRow:
    """Makes the draft the live revision. A draft like the live one makes no new revision. `note` is kept with it."""
    kind = "message" if isinstance(row, MessageRow) else "route"
    live = session.get(RevisionRow, row.live_id) if row.live_id else None
    if row.draft is None or (live is not None and upgraded(kind, live.spec) == upgraded(kind, row.draft)):
        row.draft = None
        if live is None:
            raise Invalid([Problem("", "There is nothing to publish.")])
        return live
    last = session.exec(
        select(func.max(RevisionRow.number)).where(RevisionRow.kind == kind, RevisionRow.owner_id == row.id)
    ).one()
    revision = RevisionRow(
        kind=kind, owner_id=row.id or 0, number=(last or 0) + 1, spec=row.draft, created_at=now, note=note
    )
    session.add(revision)
    session.flush()
    row.live_id, row.draft = revision.id, None
    count_edit(row)
    touch(session, row.store_id)
    session.flush()
    return revision


def switch(session: Session, row: RouteRow, on: bool, now: dt.datetime | None = None) -> None:
    """Switches a route on from `now`, or off."""
    if on and not row.on:
        row.since = now
    row.on = on
    count_edit(row)
    touch(session, row.store_id)


def current_spec(session: Session, row: Drafted) -> dict[str, Any]:
    """The plain data of a message's or route's draft, else of its live revision, else nothing."""
    kind = Message if isinstance(row, MessageRow) else Route
    data = row.draft
    if data is None and row.live_id:
        revision = session.get(RevisionRow, row.live_id)
        data = revision.spec if revision else None
    return from_stored(kind, data).plain() if data else {}
