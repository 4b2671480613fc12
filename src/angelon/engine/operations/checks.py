"""Checks: kept from real events, changed, and run before anything goes live."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlmodel import Session

from angelon.core.planning import checking
from angelon.core.planning.checking import Outcome
from angelon.core.planning.inputs import Contact
from angelon.core.planning.plan import Decision
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message, Route, Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.check import Check
from angelon.core.specs.keys import key_of
from angelon.core.specs.stored import from_stored
from angelon.core.values import show
from angelon.db.log import history
from angelon.db.people import customers
from angelon.db.setup import checks, specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import CheckRow, EventRow
from angelon.engine.arrivals.event_reader import read_event
from angelon.engine.unit import Work, found


class ChecksFailed(Invalid):
    """Something would go live with which checks fail."""

    def __init__(self, outcomes: Sequence[Outcome]) -> None:
        names = ", ".join(outcome.check.name for outcome in outcomes)
        super().__init__(
            [Problem("checks", f"These checks fail with it: {names}.", "Look at them, or go live anyway.")]
        )
        self.outcomes = list(outcomes)


def override_note(failed: Sequence[Outcome]) -> str:
    """What is kept with a revision that went live although checks failed."""
    return f"Went live although failed: {', '.join(outcome.check.name for outcome in failed)}." if failed else ""


def routes_by_key(session: Session, store_id: int, drafts: bool = False) -> dict[str, Route]:
    """Every route: as it is live (as drafted where it never was), or as drafted."""
    rows = specs.routes(session, store_id)
    return {row.key: row.spec if drafts or row.live is None else row.live for row in rows}


def run(
    rows: Sequence[CheckRow], routes: Mapping[str, Route], live: LiveSetup, message: Message | None = None
) -> list[Outcome]:
    """Runs checks with these routes, and with a message in place of the live one."""
    changed = checking.with_changes(live.setup, message)
    return [checking.run(from_stored(Check, row.spec), routes, changed) for row in rows]


def run_all(work: Work) -> list[tuple[CheckRow, Outcome]]:
    """Runs every check with the routes as they are drafted, and keeps how they came out."""
    with work.look() as looked:
        pairs = _run(looked, checks.all_of(looked.session, work.store_id))
    return _keep(work, pairs)


def run_one(work: Work, key: str) -> tuple[CheckRow, Outcome]:
    with work.look() as looked:
        pairs = _run(looked, [_row(looked, key)])
    return _keep(work, pairs)[0]


def _run(looked: Work, rows: Sequence[CheckRow]) -> list[tuple[CheckRow, Outcome]]:
    outcomes = run(rows, routes_by_key(looked.session, looked.store_id, drafts=True), looked.live)
    return list(zip(rows, outcomes, strict=True))


def _keep(work: Work, pairs: list[tuple[CheckRow, Outcome]]) -> list[tuple[CheckRow, Outcome]]:
    """Keeps how checks came out that are still as they were run."""
    there = {row.id: row for row in checks.all_of(work.session, work.store_id)}
    same = [(there[row.id], one) for row, one in pairs if row.id in there and there[row.id].spec == row.spec]
    checks.note(work.session, [(row, outcome.passed) for row, outcome in same], work.now)
    return pairs


def failing_with_route(session: Session, live: LiveSetup, route: Route) -> list[Outcome]:
    """The checks of a route that would fail with the route as given."""
    rows = [row for row in checks.all_of(session, live.store_id) if row.spec.get("route") == route.key]
    routes = routes_by_key(session, live.store_id) | {route.key: route} if rows else {}
    return [outcome for outcome in run(rows, routes, live) if not outcome.passed]


def failing_with_message(session: Session, live: LiveSetup, message: Message) -> list[Outcome]:
    """The checks of routes that send a message which would fail with the message as given."""
    rows = checks.all_of(session, live.store_id)
    routes = routes_by_key(session, live.store_id) if rows else {}
    sending = {
        key
        for key, route in routes.items()
        if message.key in {route.send, *(option.send for option in route.fallback.options)}
    }
    rows = [row for row in rows if row.spec.get("route") in sending]
    return [outcome for outcome in run(rows, routes, live, message) if not outcome.passed]


def failing_with_source(session: Session, live: LiveSetup, source: Source) -> list[Outcome]:
    """The checks kept from a source's events that would fail with the source as given."""
    rows = [row for row in checks.all_of(session, live.store_id) if row.spec.get("source") == source.key]
    routes = routes_by_key(session, live.store_id) if rows else {}
    changed = checking.with_changes(live.setup, source=source)
    outcomes = [checking.run(from_stored(Check, row.spec), routes, changed) for row in rows]
    return [outcome for outcome in outcomes if not outcome.passed]


def keep(work: Work, route_key: str, event_id: str) -> str:
    """Keeps an event and what comes of it by a route as a check; gives its key. Raises NotFound, and NotReadable."""
    with work.look() as looked:
        made = _made(looked, route_key, event_id)
    made = made.model_copy(update={"key": checks.free_key(work.session, work.store_id, made.key)})
    save(work, made, "created")
    return made.key


def _made(work: Work, route_key: str, event_id: str) -> Check:
    """An event and what comes of it by a route, as a check; its key may be another's."""
    route = found(
        routes_by_key(work.session, work.store_id, drafts=True).get(route_key), f"There is no route “{route_key}”."
    )
    event = work.session.get(EventRow, event_id)
    source = work.live.source_key(event.source_id) if event is not None else ""
    event = found(event if source in work.live.setup.sources else None, "There is no such event.")
    one = read_event(work.session, work.live, event)
    reading = one.reading
    reference = (event.source_id, reading.reference[:200])
    order = history.orders(work.connection, [reference]).get(reference)
    contact_id = order.contact_id if order is not None else None
    contact = customers.contact(work.connection, contact_id) if contact_id is not None else Contact()
    wanted = key_of(f"{route_key} {reading.number or event.name}") or "check"
    check = Check(
        key=wanted,
        name=f"{route.name}: {reading.number or event.name}"[:100],
        route=route_key,
        source=source,
        type=event.type,
        event=event.name,
        was=event.was,
        now=event.now,
        at=event.received_at,
        payload=one.event.payload,
        statuses=_statuses(order.statuses if order is not None else (), reading.text("status")),
        orders=max(contact.orders, 1),
        customer=checking.customer_of(contact),
    )
    return checking.expected_of(check, route, work.live.setup)


def _statuses(statuses: tuple[str, ...], status: str) -> list[str]:
    """The statuses that an order had had when it came to this one."""
    until = statuses.index(status) + 1 if status in statuses else len(statuses)
    return [*dict.fromkeys([*statuses[:until], *([status] if status else [])])]


def save(work: Work, check: Check, action: str = "saved") -> None:
    row = checks.by_key(work.session, work.store_id, check.key)
    before = from_stored(Check, row.spec).plain() if row is not None else None
    checks.save(work.session, work.store_id, check)
    work.record(action, "check", check.key, before, check.plain())


def decision_now(session: Session, live: LiveSetup, check: Check) -> Decision | None:
    """What comes of a check's event now; None where its route or source is gone."""
    route = routes_by_key(session, live.store_id, drafts=True).get(check.route)
    if route is None or check.source not in live.setup.sources:
        return None
    return checking.decision_of(check, route, live.setup)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is looked at of one of a check's sends: values by name, and lines that have to stand in its text."""

    values: Sequence[str]
    contains: Sequence[str]


def change(work: Work, key: str, name: str, texts: str, wanted: Sequence[Wanted]) -> None:
    """Changes a check's name, what of its texts counts, and what is looked at of each send; a value that is looked at
    anew has to be what it is now. Raises NotFound and Invalid.
    """
    with work.look() as looked:
        stored = _row(looked, key).spec
        check = from_stored(Check, stored)
        decision = decision_now(looked.session, looked.live, check)
    work.still(looked, (stored, _row(work, key).spec))
    spec = check.model_dump(mode="json") | {"name": name, "texts": texts}
    for number, (send, one) in enumerate(zip(spec["sends"], wanted, strict=False)):
        came = decision.sends[number].values if decision and number < len(decision.sends) else {}
        kept = send["values"]
        send["values"] = {value: kept.get(value) or show(came.get(value), send["locale"]) for value in one.values}
        send["contains"] = list(one.contains)
    save(work, read_spec(Check, spec))


def accept(work: Work, key: str) -> bool:
    """Takes what comes out now as what must come out; False where its route or source is gone."""
    with work.look() as looked:
        stored = _row(looked, key).spec
        check = from_stored(Check, stored)
        route = routes_by_key(looked.session, work.store_id, drafts=True).get(check.route)
        if route is None or check.source not in looked.live.setup.sources:
            return False
        chosen = tuple(dict.fromkeys(name for send in check.sends for name in send.values))
        made = checking.expected_of(check, route, looked.live.setup, chosen)
    work.still(looked, (stored, _row(work, key).spec))
    save(work, made, "accepted")
    return True


def delete(work: Work, key: str) -> None:
    row = _row(work, key)
    work.record("deleted", "check", key, from_stored(Check, row.spec).plain(), None)
    work.session.delete(row)


def _row(work: Work, key: str) -> CheckRow:
    row: CheckRow = found(checks.by_key(work.session, work.store_id, key), f"There is no check “{key}”.")
    return row
