"""Routes: drafted, switched on and off, copied, deleted and restored; what they have scheduled, held and released."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from angelon.core import event_types
from angelon.core.planning.readiness import problems_of
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route
from angelon.core.specs.base import read_spec
from angelon.core.specs.stored import from_stored
from angelon.db.setup import routes, specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import RouteRow
from angelon.engine.operations import checks, upkeep
from angelon.engine.unit import Work, found


def create(work: Work, name: str, when: str = "") -> str:
    """A new route, off, with what is obvious filled in; gives its key. Raises Invalid."""
    key = upkeep.free_key(work, "route", name)
    setup, sources = work.live.setup, list(work.live.sources)
    gateways = sorted(setup.gateways.values(), key=lambda gateway: gateway.channel != "email")
    spec: dict[str, Any] = {
        "key": key,
        "name": name,
        "gateway": gateways[0].key if gateways else "",
        "channel": gateways[0].channel if gateways else "email",
        "when": [when] if when in event_types.LABELS else [],
        "only_new_orders": True,
        "sources": sources if len(sources) == 1 else [],
    }
    work.specs.save_draft(read_spec(Route, spec))
    return key


def change_draft(work: Work, key: str, changes: Mapping[str, Any], expected: int | None = None) -> Route:
    """Changes some parts of a route's draft; what is live stays as it is. Raises Invalid, NotFound and Conflict."""
    row = _row(work, key)
    now = specs.current_spec(work.session, row)
    made = read_spec(Route, {**now, **changes})
    gateway = work.live.setup.gateways.get(made.gateway)
    if gateway is not None and gateway.channel != made.channel:
        made = read_spec(Route, {**made.model_dump(mode="json"), "channel": gateway.channel})
    work.specs.save_draft(made, expected)
    return made


def discard_draft(work: Work, key: str) -> bool:
    """Goes back to what is live; says whether anything is."""
    return work.specs.discard_draft("route", _row(work, key))


@dataclass(frozen=True, slots=True)
class SwitchedOn:
    """How many sends that were held go out, and how many whose time had passed do not."""

    scheduled: int
    dropped: int


def publish_and_switch_on(work: Work, key: str, late: str = "send", override: bool = False) -> SwitchedOn:
    """Makes a route live as it is drafted, from now on. `late` says what becomes of held sends whose time has passed:
    send or drop.

    Raises Invalid with what keeps it from going live, and ChecksFailed where checks fail and `override` is not set.
    """
    with work.look() as looked:
        spec = specs.current_spec(looked.session, _row(looked, key))
        route = from_stored(Route, spec)
        names = {one.key: one.spec.name for one in specs.routes(looked.session, work.store_id)}
        stops = [problem for problem in problems(route, looked.live, names, work.now) if problem.severity == "error"]
        if stops:
            raise Invalid(stops)
        failed = checks.failing_with_route(looked.session, looked.live, route)
        if failed and not override:
            raise checks.ChecksFailed(failed)
    row = _row(work, key)
    work.still(looked, (spec, specs.current_spec(work.session, row)))
    work.specs.publish("route", row, checks.override_note(failed))
    work.specs.switch(row, True)
    work.wake()
    return SwitchedOn(*routes.release_held(work.session, row, late, work.now))


def problems(route: Route, live: LiveSetup, names: Mapping[str, str], now: dt.datetime) -> list[Problem]:
    """What keeps a route from going live, and what is to be minded; `names` of routes by key, `now` aware."""
    today = now.astimezone(ZoneInfo(live.setup.store.timezone)).date()
    return problems_of(route, live.setup, names, today)


def switch_off(work: Work, key: str, hold_scheduled: bool = False) -> int:
    """Switches a route off; what it has scheduled still goes out, or is held. Says how many sends are held."""
    row = _row(work, key)
    held = routes.hold(work.session, row) if hold_scheduled else 0
    work.specs.switch(row, False)
    return held


def delete(work: Work, key: str) -> int:
    """Switches a route off and removes it; what it has scheduled is held. Says how many sends that is."""
    row = _row(work, key)
    held = routes.hold(work.session, row) if row.on else 0
    work.specs.switch(row, False)
    row.gone_at = work.now
    work.record("deleted", "route", key, specs.current_spec(work.session, row), None)
    return held


def restore(work: Work, key: str) -> None:
    """Undoes a deletion; the route is off. Raises Invalid and NotFound."""
    upkeep.restore(work, "route", key)


def _row(work: Work, key: str) -> RouteRow:
    row = work.specs.row("route", key)
    if row is not None and row.gone_at is not None:
        row = None
    one: RouteRow = found(
        row, f"There is no route “{key}”. One that was deleted can be restored on the page of routes."
    )
    return one
