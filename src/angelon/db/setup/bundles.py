"""A store's set-up as one bundle: applied all or nothing, and exported."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlmodel import Session, select

from angelon.core.messages.channels import compiled_part
from angelon.core.messages.known_fields import GIVEN
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Bundle
from angelon.core.specs.base import Spec
from angelon.core.specs.stored import upgraded
from angelon.db.setup import specs
from angelon.db.setup.live_setup import load
from angelon.db.tables import (
    GatewayRow,
    MessageRow,
    RevisionRow,
    RouteRow,
    SourceRow,
    StoreRow,
    VariableRow,
)


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
    if _note(changes, "store", bundle.store.key, store.spec or None, bundle.store):
        specs.save_store(session, store.id, bundle.store)
    plain: tuple[tuple[str, Any, Sequence[Any]], ...] = (
        ("source", SourceRow, bundle.sources),
        ("gateway", GatewayRow, bundle.gateways),
    )
    for kind, table, items in plain:
        for item in items:
            of_key = select(table).where(table.key == item.key)
            if table is GatewayRow:  # a source's key stands in an address of the whole installation
                of_key = of_key.where(GatewayRow.store_id == store.id)
            taken = session.exec(of_key).first()
            if taken is not None and taken.store_id != store.id:
                what = f"The {kind} key “{item.key}” belongs to another store."
                raise Invalid([Problem(f"{kind}s", what, "Choose another key.")])
            if _note(changes, kind, item.key, taken.spec if taken else None, item):
                specs.save_live(session, table, store.id, item, now)
    known = {row.name: row.spec for row in session.exec(select(VariableRow).where(VariableRow.store_id == store.id))}
    for variable in bundle.variables:
        if _note(changes, "variable", variable.name, known.get(variable.name), variable):
            specs.save_variable(session, store.id, variable)
    versioned: tuple[tuple[str, Any, Sequence[Any]], ...] = (
        ("message", MessageRow, bundle.messages),
        ("route", RouteRow, bundle.routes),
    )
    for kind, table, items in versioned:
        for item in items:
            _apply_versioned(session, changes, kind, table, store.id, item, item.key in bundle.live, now)
    specs.touch(session, store.id)
    session.flush()
    problems = _problems_of_texts(
        bundle, {row.name for row in session.exec(select(VariableRow).where(VariableRow.store_id == store.id))}
    )
    if problems:
        raise Invalid(problems)
    return changes


def _apply_versioned(
    session: Session, changes: list[str], kind: str, table: Any, store_id: int, item: Any, on: bool, now: dt.datetime
) -> None:
    """A message or route, published; a route is switched on or off."""
    row = specs.by_key(session, table, store_id, item.key)
    live = session.get(RevisionRow, row.live_id) if row and row.live_id else None
    if _note(changes, kind, item.key, live.spec if live else None, item):
        row = specs.save_draft(session, table, store_id, item, now)
        specs.publish(session, row, now)
    if row is not None:
        row.gone_at = None
    if isinstance(row, RouteRow) and on != row.on:
        changes.append(f"route {item.key}: switched {'on' if on else 'off'}")
        specs.switch(session, row, on, now)


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
                for name in sorted(part.names - variables - GIVEN):
                    found.append(
                        Problem(
                            where,
                            f"“{message.name}” uses “{name}”, and there is no variable of that name.",
                            "Write it as the variable is called, or add the variable.",
                        )
                    )
    return found


def _note(changes: list[str], kind: str, key: str, stored: dict[str, Any] | None, spec: Spec) -> bool:
    """Notes what is new or changed about a thing; says whether anything is."""
    now = spec.plain()
    was = upgraded(kind, stored) if stored is not None else None
    if was is None:
        changes.append(f"{kind} {key}: new")
    elif was != now:
        parts = sorted(name for name in {*was, *now} if was.get(name) != now.get(name))
        changes.append(f"{kind} {key}: changed {', '.join(parts)}")
    return was != now


def export(session: Session, store_id: int) -> Bundle:
    """What is live, as a bundle. Drafts that were never published are left out."""
    live = load(session, store_id)
    on = {row.key for row in specs.routes(session, store_id) if row.on}
    return Bundle(
        store=live.setup.store,
        sources=list(live.sources.values()),
        variables=list(live.setup.variables.values()),
        gateways=list(live.setup.gateways.values()),
        messages=list(live.setup.messages.values()),
        routes=[route for route in live.routes.values() if not route.handler],
        live=[key for key, route in live.routes.items() if key in on and not route.handler],
    )
