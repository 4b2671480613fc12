"""A store's set-up as it is live, loaded whole for whoever plans, prepares or shows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from sqlmodel import Session, col, func, select

from angelon.core.messages.attachments import LibraryFile
from angelon.core.orders import Family, families
from angelon.core.planning import awaiting
from angelon.core.planning.inputs import ActiveRoute, Setup
from angelon.core.planning.plan import in_turn
from angelon.core.planning.turns import urgent_types
from angelon.core.problems import Invalid
from angelon.core.specs import Gateway, Message, Route, Source, Store, Variable
from angelon.core.specs.stored import SpecT, from_stored
from angelon.db.derived.status_words import Word
from angelon.db.setup import shop_tables
from angelon.db.tables import (
    FileRow,
    GatewayRow,
    MessageRow,
    ReviewRow,
    RevisionRow,
    RouteRow,
    SourceRow,
    StoreRow,
    VariableRow,
)


def root_of(key: str) -> str:
    """What stands before the addresses of a store that is not the oldest: `/at/KEY`."""
    return f"/at/{key}"


@dataclass(frozen=True)
class LiveSetup:
    """A store's set-up as the engine uses it, with the rows' ids by key."""

    store_id: int
    version: int
    setup: Setup
    source_ids: dict[str, int] = field(default_factory=dict)
    route_ids: dict[str, int] = field(default_factory=dict)
    message_ids: dict[str, int] = field(default_factory=dict)
    gateway_ids: dict[str, int] = field(default_factory=dict)
    revision_ids: dict[str, int] = field(default_factory=dict)
    """The live revision of each message."""
    files: list[LibraryFile] = field(default_factory=list)
    routes: dict[str, Route] = field(default_factory=dict)
    """Every route as it last went live, by key, those that are off too: what they have scheduled goes by it."""

    root: str = ""
    """What stands before the addresses of its pages; nothing for the oldest store."""
    gone_sources: frozenset[str] = frozenset()
    """Sources that were deleted: there for the events that came from them."""
    trial: str = ""
    """Where sends go while the store is on trial (`core/sending/trial.py`)."""

    @property
    def sources(self) -> dict[str, Source]:
        """The sources that are not deleted, by key."""
        return {key: one for key, one in self.setup.sources.items() if key not in self.gone_sources}

    def listening(self, type_: str) -> Sequence[ActiveRoute]:
        """The active routes that wait for an event of a type, in the order in which they have their say."""
        if type_ not in self._listening:
            self._listening[type_] = [active for active in self._in_turn if type_ in active.route.when]
        return self._listening[type_]

    def handlers_for(self, type_: str, source: str, at: dt.datetime) -> list[Route]:
        """The routes of live handlers that wait for an event of a type from a source, received at a moment (aware)."""
        return [
            active.route
            for active in self._handlers
            if type_ in active.route.when and source in active.route.sources and at >= active.since
        ]

    def look_ups_of(self, route: Route, source: str) -> frozenset[str]:
        """The look-ups of a source whose answers a route uses."""
        key = route.key, source
        if key not in self._uses:
            self._uses[key] = awaiting.used_by(route, self.setup.sources[source], self.setup)
        return self._uses[key]

    def identifying(self, source: str) -> frozenset[str]:
        """The look-ups whose answers say which order an event of a source is about, or how it stands."""
        if ("", source) not in self._uses:
            self._uses["", source] = awaiting.identifying(self.setup.sources[source])
        return self._uses["", source]

    def naming(self, source: str) -> frozenset[str]:
        """Those of them that say which order it is."""
        return awaiting.naming(self.setup.sources[source])

    @cached_property
    def asking(self) -> frozenset[int]:
        """The sources (ids) of whose events something is known from elsewhere: by look-ups, or by answers to calls."""
        kept = self.keeps_answers
        return frozenset(self.source_ids[key] for key, one in self.setup.sources.items() if kept or one.enrichments)

    @cached_property
    def keeps_answers(self) -> bool:
        """Whether what other systems answer to calls is kept."""
        return any(one.keeps_answer for one in self.setup.messages.values())

    @cached_property
    def status_words(self) -> set[Word]:
        """Words of orders' statuses that are known to be stored."""
        return set()

    @cached_property
    def _in_turn(self) -> list[ActiveRoute]:
        return in_turn(self.setup.routes)

    @cached_property
    def _listening(self) -> dict[str, list[ActiveRoute]]:
        return {}

    @cached_property
    def _uses(self) -> dict[tuple[str, str], frozenset[str]]:
        return {}

    @cached_property
    def _handlers(self) -> list[ActiveRoute]:
        return [active for active in self.setup.routes if active.route.handler]

    def source_key(self, source_id: int | None) -> str:
        """The key of a source's row; empty where it is gone."""
        return self._source_keys.get(source_id, "")

    def route_key(self, route_id: int | None) -> str:
        """The key of a route's row; empty for a test, and where the route was deleted."""
        return self._route_keys.get(route_id, "")

    def message_key(self, message_id: int | None) -> str:
        return self._message_keys.get(message_id, "")

    def gateway_key(self, gateway_id: int | None) -> str:
        return self._gateway_keys.get(gateway_id, "")

    @cached_property
    def withdrawn_on(self) -> dict[str, frozenset[int]]:
        """The messages (ids) whose questions no longer matter after an event, by its type."""
        asking = {key: one.question for key, one in self.setup.messages.items() if one.question is not None}
        types = {type_ for question in asking.values() for type_ in question.withdraw_on}
        return {
            type_: frozenset(self.message_ids[key] for key, one in asking.items() if type_ in one.withdraw_on)
            for type_ in types
        }

    @cached_property
    def _source_keys(self) -> dict[int | None, str]:
        return {id_: key for key, id_ in self.source_ids.items()}

    @cached_property
    def families(self) -> dict[int, tuple[Family, frozenset[int]]]:
        """Sources that tell of the same orders as others, by the id of each: the family, and its sources' ids."""
        ids = self.source_ids
        return {
            ids[key]: (family, frozenset(ids[member] for member in family.sources))
            for key, family in families(self.setup.sources).items()
        }

    @cached_property
    def urgent_types(self) -> frozenset[str]:
        """The event types that a live urgent route waits for."""
        return urgent_types(active.route for active in self.setup.routes)

    @cached_property
    def _route_keys(self) -> dict[int | None, str]:
        return {id_: key for key, id_ in self.route_ids.items()}

    @cached_property
    def _message_keys(self) -> dict[int | None, str]:
        return {id_: key for key, id_ in self.message_ids.items()}

    @cached_property
    def _gateway_keys(self) -> dict[int | None, str]:
        return {id_: key for key, id_ in self.gateway_ids.items()}


def load(session: Session, store_id: int) -> LiveSetup:
    """The set-up as it is live: published messages, and routes that are switched on. Raises LookupError, and Invalid
    where something stored can't be read.
    """
    store = session.get(StoreRow, store_id)
    if store is None:
        raise LookupError(f"no store {store_id}")

    def rows(table: Any, *where: Any) -> list[Any]:
        return list(session.exec(select(table).where(table.store_id == store_id, *where).order_by(col(table.id))))

    sources, variables = rows(SourceRow), rows(VariableRow)
    gateways, messages, routes = (
        rows(table, col(table.gone_at).is_(None)) for table in (GatewayRow, MessageRow, RouteRow)
    )
    revisions = _live_revisions(session, messages, routes)
    published = {row.key: _read(Route, row.key, revisions[row.live_id]) for row in routes if row.live_id in revisions}
    setup = Setup(
        _read(Store, store.key, store.spec),
        {row.key: _source(row) for row in sources},
        {row.name: _read(Variable, row.name, row.spec) for row in variables},
        {row.key: _read(Message, row.key, revisions[row.live_id]) for row in messages if row.live_id in revisions},
        {row.key: _read(Gateway, row.key, row.spec) for row in gateways},
        [ActiveRoute(published[row.key], row.since) for row in routes if row.on and row.since and row.key in published],
        _approvals(session, store_id, gateways, messages),
        given_out=shop_tables.given_out(session.connection(), store_id),
        tables=shop_tables.loaded(session.connection(), str(session.get_bind().engine.url), store_id),
    )
    oldest = session.exec(select(func.min(StoreRow.id))).one()
    return LiveSetup(
        store_id,
        store.version,
        setup,
        {row.key: row.id for row in sources},
        {row.key: row.id for row in routes},
        {row.key: row.id for row in messages},
        {row.key: row.id for row in gateways},
        {row.key: row.live_id for row in messages if row.live_id is not None},
        _files(session, store_id),
        published,
        root="" if store_id == oldest else root_of(store.key),
        gone_sources=frozenset(row.key for row in sources if row.gone_at is not None),
        trial=store.trial,
    )


def _read(kind: type[SpecT], key: str, data: dict[str, Any]) -> SpecT:
    """A stored spec. Raises Invalid that names it: one of a hundred can't be found by what is wrong with it alone."""
    try:
        return from_stored(kind, data)
    except Invalid as error:
        raise Invalid([problem.at(f"{kind.__name__.lower()} {key}") for problem in error.problems]) from None


def _source(row: SourceRow) -> Source:
    """A source as it is stored; one that was deleted takes nothing, and is there for the events that came from it."""
    source = _read(Source, row.key, row.spec)
    return source if row.gone_at is None else source.model_copy(update={"on": False})


def _live_revisions(session: Session, messages: list[Any], routes: list[Any]) -> dict[int | None, dict[str, Any]]:
    ids = [row.live_id for row in (*messages, *routes) if row.live_id is not None]
    rows = session.exec(select(RevisionRow).where(col(RevisionRow.id).in_(ids))) if ids else ()
    return {row.id: row.spec for row in rows}


def _approvals(
    session: Session, store_id: int, gateways: list[Any], messages: list[Any]
) -> dict[tuple[str, str, str, str], str]:
    gateway_keys, message_keys = {row.id: row.key for row in gateways}, {row.id: row.key for row in messages}
    rows = session.exec(select(ReviewRow).where(ReviewRow.store_id == store_id, ReviewRow.state == "approved"))
    return {
        (gateway_keys[row.gateway_id], message_keys[row.message_id], row.locale, row.digest): row.reference
        for row in rows
        if row.gateway_id in gateway_keys and row.message_id in message_keys
    }


def _files(session: Session, store_id: int) -> list[LibraryFile]:
    columns: Any = (FileRow.id, FileRow.shelf, FileRow.name, FileRow.type, FileRow.size, FileRow.by, FileRow.match)
    return [LibraryFile(*row) for row in session.exec(select(*columns).where(FileRow.store_id == store_id))]
