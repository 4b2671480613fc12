"""Checks carried out before something goes live."""

from __future__ import annotations

from angelon.core.planning import checking
from angelon.core.planning.checking import Outcome
from angelon.core.specs import Message, Route
from angelon.core.specs.check import Check
from angelon.db import checks, routes, setup
from angelon.db.tables import CheckRow, RevisionRow, RouteRow
from angelon.web.services import live, services, session, store


def routes_as(drafts: bool = False, changed: Route | None = None) -> dict[str, Route]:
    """Every route by key: as it is live (as drafted where it never was), or as drafted; `changed` in its place."""
    found = {}
    for row in routes.all_of(session(), store().id or 0):
        spec = setup.current_spec(session(), row) if drafts or not row.live_id else _live(row)
        found[row.key] = Route.model_validate(spec)
    if changed is not None:
        found[changed.key] = changed
    return found


def _live(row: RouteRow) -> dict[str, object]:
    revision = session().get(RevisionRow, row.live_id)
    return dict(revision.spec) if revision else setup.current_spec(session(), row)


def run(rows: list[CheckRow], by_key: dict[str, Route], message: Message | None = None) -> list[Outcome]:
    """Carries checks out with these routes, and with a message in place of the live one."""
    changed = checking.with_changes(live().setup, message)
    return [checking.run(Check.model_validate(row.spec), by_key, changed) for row in rows]


def run_all() -> list[tuple[CheckRow, Outcome]]:
    """Carries every check out with the routes as they are drafted, and keeps how they came out."""
    rows = checks.all_of(session(), store().id or 0)
    found = list(zip(rows, run(rows, routes_as(drafts=True)), strict=True))
    with services().database.writing() as writing:
        checks.note(writing, [(writing.merge(row), outcome.green) for row, outcome in found], services().clock.now())
    return found


def red_for_route(route: Route) -> list[Outcome]:
    """The checks of a route that would be red with the route as given."""
    rows = [row for row in checks.all_of(session(), store().id or 0) if row.spec.get("route") == route.key]
    return [outcome for outcome in run(rows, routes_as(changed=route)) if not outcome.green]


def red_for_message(message: Message) -> list[Outcome]:
    """The checks of routes that send a message which would be red with the message as given."""
    by_key = routes_as()
    sending = {
        key for key, route in by_key.items() if message.key in {route.send, *(way.send for way in route.otherwise.ways)}
    }
    rows = [row for row in checks.all_of(session(), store().id or 0) if row.spec.get("route") in sending]
    return [outcome for outcome in run(rows, by_key, message) if not outcome.green]


def although(red: list[Outcome]) -> str:
    """What is kept with a revision that went live although checks were red."""
    return f"Went live although red: {', '.join(outcome.check.name for outcome in red)}." if red else ""
