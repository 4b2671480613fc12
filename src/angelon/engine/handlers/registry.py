"""Handlers that were found in the folder, as routes: with a name, a switch, a rank and a history like any other."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlmodel import Session

from angelon.core.problems import Invalid
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.route import Route
from angelon.core.specs.stored import from_stored, to_stored
from angelon.db.setup import specs
from angelon.db.tables import RevisionRow, RouteRow

PREFIX = "handler-"


def key_for(name: str) -> str:
    """The key of the route that stands for a handler."""
    return f"{PREFIX}{key_of(name)}"[:60]


def route_of(one: dict[str, Any], sources: Sequence[str]) -> Route:
    """The route that stands for a handler. Raises Invalid where it is registered for what can't be."""
    return read_spec(
        Route,
        {
            "key": key_for(one["name"]),
            "name": one["name"].replace("_", " ")[:1].upper() + one["name"].replace("_", " ")[1:100],
            "handler": one["name"][:100],
            "when": one["types"],
            "sources": one["sources"] or list(sources),
            "once": "event",
            "priority": one["rank"],
        },
    )


def register(session: Session, found: Sequence[dict[str, Any]], now: dt.datetime) -> list[dict[str, str]]:
    """Makes a route for each handler in each store, off until somebody switches it on; one that is known follows what
    its file says now. Those whose file is gone stay as they are: their sends do. Gives what can't be registered, and
    why.
    """
    refused: dict[str, dict[str, str]] = {}
    for store in specs.stores(session):
        store_id = store.id or 0
        sources = [row.key for row in specs.sources(session, store_id)]
        for one in found:
            try:
                route = route_of(one, sources)
            except Invalid as error:
                why = f"{one['name']} can’t be registered: {error.problems[0]}"
                refused[one["name"]] = {"file": one["file"], "problem": why}
                continue
            row = specs.by_key(session, RouteRow, store_id, route.key)
            live = session.get(RevisionRow, row.live_id) if row is not None and row.live_id else None
            row = row or RouteRow(store_id=store_id, key=route.key)
            if live is not None and from_stored(Route, live.spec) == route and row.gone_at is None:
                continue
            row.draft, row.drafted_at, row.gone_at = to_stored(route), now, None
            session.add(row)
            session.flush()
            specs.publish(session, row, now, f"from {one['file']}")
    return list(refused.values())
