"""What a store has set up: loaded whole for the engine, changed one thing at a time, applied and exported as a
bundle.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from typing import Any

from sqlmodel import Session, col, func, select

from angelon.core.messages.attachments import Kept
from angelon.core.messages.parts import compiled_part
from angelon.core.planning.given import ActiveRoute, Setup
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Bundle, Gateway, Message, Route, Source, Store, Variable
from angelon.core.specs.base import Spec
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
    files: list[Kept] = field(default_factory=list)
    routes: dict[str, Route] = field(default_factory=dict)
    """Every route as it last went live, by key, those that are off too: what they have scheduled goes by it."""

    def source_key(self, source_id: int) -> str:
        return next((key for key, id_ in self.source_ids.items() if id_ == source_id), "")


def stores(session: Session) -> list[StoreRow]:
    return list(session.exec(select(StoreRow).order_by(col(StoreRow.id))))


def versions(session: Session) -> dict[int, int]:
    """The version of each store's set-up, by store id."""
    return {row[0]: row[1] for row in session.exec(select(StoreRow.id, StoreRow.version)) if row[0] is not None}


def touch(session: Session, store_id: int) -> None:
    """Marks a store's set-up as changed, so that every process loads it anew."""
    row = session.get(StoreRow, store_id)
    if row:
        row.version += 1


def load(session: Session, store_id: int) -> LiveSetup:
    """The set-up as it is live: published messages, and routes that are switched on."""
    store = session.get(StoreRow, store_id)
    if store is None:
        raise LookupError(f"no store {store_id}")
    revisions = {
        row.id: row.spec
        for row in session.exec(select(RevisionRow).where(col(RevisionRow.id).in_(_live_ids(session, store_id))))
    }
    sources = {
        row.key: row
        for row in session.exec(select(SourceRow).where(SourceRow.store_id == store_id).order_by(col(SourceRow.id)))
    }
    gateways = {
        row.key: row
        for row in session.exec(select(GatewayRow).where(GatewayRow.store_id == store_id).order_by(col(GatewayRow.id)))
    }
    messages = {row.key: row for row in session.exec(select(MessageRow).where(MessageRow.store_id == store_id))}
    routes = {
        row.key: row
        for row in session.exec(
            select(RouteRow)
            .where(RouteRow.store_id == store_id, col(RouteRow.gone_at).is_(None))
            .order_by(col(RouteRow.id))
        )
    }
    variables = session.exec(select(VariableRow).where(VariableRow.store_id == store_id).order_by(col(VariableRow.id)))
    published = {
        key: Route.model_validate(revisions[row.live_id]) for key, row in routes.items() if row.live_id in revisions
    }
    active = [
        ActiveRoute(published[key], row.since)
        for key, row in routes.items()
        if row.on and row.since is not None and key in published
    ]
    setup = Setup(
        Store.model_validate(store.spec),
        {key: Source.model_validate(row.spec) for key, row in sources.items()},
        {row.name: Variable.model_validate(row.spec) for row in variables},
        {
            key: Message.model_validate(revisions[row.live_id])
            for key, row in messages.items()
            if row.live_id in revisions
        },
        {key: Gateway.model_validate(row.spec) for key, row in gateways.items()},
        active,
        _approvals(session, store_id, gateways, messages),
    )
    return LiveSetup(
        store_id,
        store.version,
        setup,
        _ids(sources),
        _ids(routes),
        _ids(messages),
        _ids(gateways),
        {key: row.live_id for key, row in messages.items() if row.live_id is not None},
        [
            Kept(*row)
            for row in session.exec(
                select(
                    FileRow.id, FileRow.shelf, FileRow.name, FileRow.type, FileRow.size, FileRow.by, FileRow.match
                ).where(FileRow.store_id == store_id)
            )
        ],  # type: ignore[call-overload]
        published,
    )


def _approvals(
    session: Session, store_id: int, gateways: dict[str, Any], messages: dict[str, Any]
) -> dict[tuple[str, str, str, str], str]:
    ways, said = {row.id: key for key, row in gateways.items()}, {row.id: key for key, row in messages.items()}
    rows = session.exec(select(ReviewRow).where(ReviewRow.store_id == store_id, ReviewRow.state == "approved"))
    return {
        (ways[row.gateway_id], said[row.message_id], row.locale, row.mark): row.reference
        for row in rows
        if row.gateway_id in ways and row.message_id in said
    }


def _ids(rows: dict[str, Any]) -> dict[str, int]:
    return {key: row.id for key, row in rows.items()}


def _live_ids(session: Session, store_id: int) -> list[int]:
    found: list[int] = []
    for table in (MessageRow, RouteRow):
        found += [
            id_ for id_ in session.exec(select(table.live_id).where(table.store_id == store_id)) if id_ is not None
        ]
    return found


# ---- one thing at a time ------------------------------------------------------------------------------------------


def by_key(session: Session, table: type[Any], store_id: int, key: str) -> Any:
    """The row with a key; None where there is none."""
    return session.exec(select(table).where(table.store_id == store_id, table.key == key)).first()


def save_plain(session: Session, table: type[Any], store_id: int, spec: Spec, now: dt.datetime) -> Any:
    """Stores a source's or gateway's spec, live at once."""
    key: str = spec.key  # type: ignore[attr-defined]
    row = by_key(session, table, store_id, key)
    if row is None:
        row = table(store_id=store_id, key=key, spec={})
        if table is SourceRow:
            row.created_at = now
        session.add(row)
    row.spec = spec.plain()
    touch(session, store_id)
    session.flush()
    return row


def save_store(session: Session, store_id: int, store: Store) -> None:
    """Stores a store's own spec, live at once."""
    row = session.get(StoreRow, store_id)
    if row is not None:
        row.spec = store.plain()
        touch(session, store_id)


def save_variable(session: Session, store_id: int, variable: Variable) -> None:
    row = session.exec(
        select(VariableRow).where(VariableRow.store_id == store_id, VariableRow.name == variable.name)
    ).first()
    if row is None:
        row = VariableRow(store_id=store_id, name=variable.name)
        session.add(row)
    row.spec = variable.plain()
    touch(session, store_id)
    session.flush()


def drop_variable(session: Session, store_id: int, name: str) -> None:
    """Takes a variable away, and every source's recipe for it."""
    row = session.exec(select(VariableRow).where(VariableRow.store_id == store_id, VariableRow.name == name)).first()
    if row is None:
        return
    session.delete(row)
    for source in session.exec(select(SourceRow).where(SourceRow.store_id == store_id)):
        recipes = source.spec.get("recipes", {})
        if name in recipes:
            source.spec = {**source.spec, "recipes": {key: value for key, value in recipes.items() if key != name}}
    touch(session, store_id)
    session.flush()


def save_draft(session: Session, table: type[Any], store_id: int, spec: Spec, now: dt.datetime) -> Any:
    """Keeps a message's or route's draft; what is live stays as it is."""
    key: str = spec.key  # type: ignore[attr-defined]
    row = by_key(session, table, store_id, key)
    if row is None:
        row = table(store_id=store_id, key=key)
        session.add(row)
    row.draft, row.drafted_at = spec.plain(), now
    session.flush()
    return row


def publish(session: Session, row: Any, now: dt.datetime, note: str = "") -> RevisionRow:
    """Makes the draft the live revision. A draft like the live one makes no new revision. `note` is kept with it."""
    kind = "message" if isinstance(row, MessageRow) else "route"
    live = session.get(RevisionRow, row.live_id) if row.live_id else None
    if row.draft is None or (live is not None and live.spec == row.draft):
        row.draft = None
        if live is None:
            raise Invalid([Problem("", "There is nothing to publish.")])
        return live
    last = session.exec(
        select(func.max(RevisionRow.number)).where(RevisionRow.kind == kind, RevisionRow.owner_id == row.id)
    ).one()
    revision = RevisionRow(
        kind=kind, owner_id=row.id, number=(last or 0) + 1, spec=row.draft, created_at=now, note=note
    )
    session.add(revision)
    session.flush()
    row.live_id, row.draft = revision.id, None
    touch(session, row.store_id)
    session.flush()
    return revision


def switch(session: Session, row: RouteRow, on: bool, now: dt.datetime) -> None:
    """Switches a route on from now, or off."""
    if on and not row.on:
        row.since = now
    row.on = on
    touch(session, row.store_id)


def current_spec(session: Session, row: Any) -> dict[str, Any]:
    """A message's or route's draft, else its live revision, else nothing."""
    if row.draft is not None:
        return dict(row.draft)
    revision = session.get(RevisionRow, row.live_id) if row.live_id else None
    return dict(revision.spec) if revision else {}


def revisions_of(session: Session, kind: str, owner_id: int) -> list[RevisionRow]:
    """Newest first."""
    return list(
        session.exec(
            select(RevisionRow)
            .where(RevisionRow.kind == kind, RevisionRow.owner_id == owner_id)
            .order_by(col(RevisionRow.number).desc())
        )
    )


# ---- as a bundle --------------------------------------------------------------------------------------------------


def apply(session: Session, bundle: Bundle, now: dt.datetime) -> list[str]:
    """Creates or updates everything in a bundle and publishes it; says what changed, a line each.

    What the store has and the bundle does not is left as it is. The caller's transaction makes it all or nothing.
    """
    changes: list[str] = []
    store = session.exec(select(StoreRow).where(StoreRow.key == bundle.store.key)).first()
    if store is None:
        store = StoreRow(key=bundle.store.key, spec={})
        session.add(store)
        session.flush()
    assert store.id is not None
    _note(changes, "store", bundle.store.key, store.spec or None, bundle.store.plain())
    store.spec = bundle.store.plain()
    for name, table, items in (("source", SourceRow, bundle.sources), ("gateway", GatewayRow, bundle.gateways)):
        for item in items:
            taken = session.exec(select(table).where(table.key == item.key)).first()
            if taken is not None and taken.store_id != store.id:
                raise Invalid(
                    [
                        Problem(
                            f"{name}s", f"The {name} key “{item.key}” belongs to another store.", "Choose another key."
                        )
                    ]
                )
            _note(changes, name, item.key, taken.spec if taken else None, item.plain())
            save_plain(session, table, store.id, item, now)
    known = {row.name: row.spec for row in session.exec(select(VariableRow).where(VariableRow.store_id == store.id))}
    for variable in bundle.variables:
        _note(changes, "variable", variable.name, known.get(variable.name), variable.plain())
        save_variable(session, store.id, variable)
    for name, versioned, specs in (("message", MessageRow, bundle.messages), ("route", RouteRow, bundle.routes)):
        for spec in specs:
            row = by_key(session, versioned, store.id, spec.key)
            live = session.get(RevisionRow, row.live_id) if row and row.live_id else None
            _note(changes, name, spec.key, live.spec if live else None, spec.plain())
            if live is None or live.spec != spec.plain():
                row = save_draft(session, versioned, store.id, spec, now)
                publish(session, row, now)
            if isinstance(row, RouteRow):
                wanted = spec.key in bundle.live
                if wanted != row.on:
                    changes.append(f"route {spec.key}: switched {'on' if wanted else 'off'}")
                switch(session, row, wanted, now)
    touch(session, store.id)
    session.flush()
    problems = _problems_of_texts(
        bundle, {row.name for row in session.exec(select(VariableRow).where(VariableRow.store_id == store.id))}
    )
    if problems:
        raise Invalid(problems)
    return changes


def _problems_of_texts(bundle: Bundle, variables: set[str]) -> list[Problem]:
    """What keeps a bundle's messages from being made, whatever the order: texts that are broken, names that nothing
    stands for.
    """
    found: list[Problem] = []
    for number, message in enumerate(bundle.messages):
        for channel in message.channels():
            for locale in message.variants(channel):
                where = f"messages.{number}.{channel}.{locale}"
                try:
                    part = compiled_part(message, channel, locale, bundle.store)
                except Invalid as error:
                    found += [problem.at(f"messages.{number}") for problem in error.problems]
                    continue
                for name in sorted(part.names - variables - {"order"}):
                    found.append(
                        Problem(
                            where,
                            f"“{message.name}” uses “{name}”, and there is no variable of that name.",
                            "Write it as the variable is called, or add the variable.",
                        )
                    )
    return found


def _note(changes: list[str], kind: str, key: str, was: dict[str, Any] | None, now: dict[str, Any]) -> None:
    if was is None:
        changes.append(f"{kind} {key}: new")
    elif was != now:
        parts = sorted(k for k in {*was, *now} if was.get(k) != now.get(k))
        changes.append(f"{kind} {key}: changed {', '.join(parts)}")


def export(session: Session, store_id: int) -> Bundle:
    """What is live, as a bundle. Drafts that were never published are left out."""
    live = load(session, store_id)
    routes = []
    for row in session.exec(select(RouteRow).where(RouteRow.store_id == store_id, col(RouteRow.gone_at).is_(None))):
        revision = session.get(RevisionRow, row.live_id) if row.live_id else None
        if revision:
            routes.append((Route.model_validate(revision.spec), row.on))
    return Bundle(
        store=live.setup.store,
        sources=list(live.setup.sources.values()),
        variables=list(live.setup.variables.values()),
        gateways=list(live.setup.gateways.values()),
        messages=list(live.setup.messages.values()),
        routes=[route for route, _ in routes],
        live=[route.key for route, on in routes if on],
    )


def release_paused(session: Session, gateway_id: int, reason: str, now: dt.datetime) -> int:
    """Schedules the sends that were held because their gateway was paused; says how many."""
    from sqlalchemy import update

    from angelon.core.states import State
    from angelon.db.tables import SendRow

    done = session.connection().execute(
        update(SendRow)
        .where(col(SendRow.gateway_id) == gateway_id, col(SendRow.state) == State.HELD, col(SendRow.reason) == reason)
        .values(state=State.SCHEDULED, due_at=now, reason="", revision_id=None)
    )
    return int(done.rowcount)
