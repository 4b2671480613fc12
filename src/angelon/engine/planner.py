"""Plans events: each exactly once, its sends, the order's new state and `planned_at` in one transaction."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

import structlog
from sqlalchemy import Connection, insert
from sqlmodel import Session

from angelon.core.deliveries import cloud_event, split
from angelon.core.enriching import with_answers
from angelon.core.event_types import OURS
from angelon.core.orders import OrderState, StatusChange, note_status
from angelon.core.payload.body import NotReadable, parse_body
from angelon.core.planning.given import Event, Facts
from angelon.core.planning.plan import PlannedSend, plan, spoken_of, work_out
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.states import State
from angelon.core.values import pack, show
from angelon.db import answers, shapes
from angelon.db import events as event_queries
from angelon.db import facts as facts_queries
from angelon.db import sends as send_queries
from angelon.db.database import Database
from angelon.db.events import EVENT
from angelon.db.orders import Ledger
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()

_INSERT_EVENTS = insert(EVENT)


def payload_of(source: Source, raw: bytes, content_type: str, headers: dict[str, str], item: int, answered: Mapping[str, Any] | None = None) -> Any:
    """The value that an event's paths look at, with what was answered about it elsewhere. Raises NotReadable."""
    whole = cloud_event(headers, parse_body(raw, content_type))
    parts = split(source, whole)
    return with_answers(parts[item] if item < len(parts) else whole, answered or {})


def payload_now(session: Session, source: Source, event: EventRow) -> Any:
    """The value that a stored event's paths look at. Raises NotReadable."""
    raw, content_type, headers = event_queries.body_of(session, event)
    root = event.parent_id or event.id
    answered = answers.of(session.connection(), [root]).get(root) if source.enrichments else None
    return payload_of(source, raw, content_type, headers, event.item, answered)


def send_row(live: LiveSetup, send: PlannedSend, send_id: str, event_id: str, order_id: int | None, now: dt.datetime, **more: Any) -> dict[str, Any]:
    """A planned send as it is stored. One that may need another way, or somebody's help, says when that is looked at."""
    route = next((active.route for active in live.setup.routes if active.route.key == send.route), None)
    row: dict[str, Any] = {
        "id": send_id, "store_id": live.store_id, "event_id": event_id, "order_id": order_id, "route_id": live.route_ids[send.route], "message_id": live.message_ids.get(send.message),
        "gateway_id": live.gateway_ids.get(send.gateway), "revision_id": live.revision_ids.get(send.message) if send.state is State.SCHEDULED else None, "channel": send.channel,
        "recipient": send.recipient, "recipient_name": send.recipient_name[:200], "locale": send.locale, "state": send.state, "reason": send.reason, "created_at": now, "due_at": send.due_at,
        "settled_at": now if send.state is State.SKIPPED else None, "worker": "", "tries": 0, "subject": "", "values": {name: pack(value) for name, value in send.values.items()},
        "trace": [line.as_dict() for line in send.trace], "whom": send.to, "step": send.step, "instead_of": None, "run_id": None, "fall_at": None,
    }  # fmt: skip
    if send.state is State.HELD and needs_followup(live, route):
        row["fall_at"] = now
    elif send.state is State.SCHEDULED and route is not None and route.otherwise.within_minutes and len(route.otherwise.ways) > send.step:
        row["fall_at"] = send.due_at + dt.timedelta(minutes=route.otherwise.within_minutes)
    return row | more


def needs_followup(live: LiveSetup, route: Route | None) -> bool:
    """Whether anything follows when a send of this route is held or fails: another way, somebody told, a route that waits for it.

    A route that waits for such events itself makes no more of them: there would be no end to it.
    """
    if route is None:
        return False
    return bool(route.otherwise.ways or route.otherwise.tell) or (not OURS & set(route.when) and any(OURS & set(active.route.when) for active in live.setup.routes))


def link_to(base_url: str, send_id: str) -> str:
    """A send's page, for a message."""
    return f"{base_url}/sends/{send_id}"


class Planner:
    def __init__(self, database: Database, setups: Setups, clock: Clock, base_url: str = "") -> None:
        self._base_url = base_url
        self._database = database
        self._setups = setups
        self._clock = clock

    def run_batch(self, limit: int = 100) -> tuple[int, int]:
        """Plans up to `limit` events that wait; gives how many, and how many sends came of them."""
        with self._database.reading() as session:
            if not event_queries.unplanned(session.connection(), 1):
                return 0, 0
        with self._database.connection() as connection:
            rows = event_queries.unplanned(connection, limit)
            return self._plan(connection, rows)

    def _plan(self, connection: Connection, rows: list[Any]) -> tuple[int, int]:
        """Plans a batch, which may hold several stores' events; each store's are planned together, in order."""
        by_store: dict[int, list[Any]] = {}
        for row in rows:
            by_store.setdefault(self._setups.of_source(row.source_id).store_id, []).append(row)
        return len(rows), sum(_Batch(connection, self._setups.get(store_id), self._clock, self._base_url).plan(found) for store_id, found in by_store.items())


class _Batch:
    """One store's events of a batch, on their way through planning."""

    def __init__(self, connection: Connection, live: LiveSetup, clock: Clock, base_url: str) -> None:
        self._connection = connection
        self._base_url = base_url
        self._live = live
        self._clock = clock
        self._listened = {type_ for active in live.setup.routes for type_ in active.route.when}
        self._planned: list[dict[str, Any]] = []
        self._derived: list[dict[str, Any]] = []
        self._sends: list[dict[str, Any]] = []

    def plan(self, rows: list[Any]) -> int:
        """Plans events and stores what comes of them; gives how many sends that are."""
        self._ask_answers(rows)
        taken = [self._read(row) for row in rows]
        read = [(row, reading) for row, _, reading, _ in taken if reading is not None]
        ledger = Ledger(
            self._connection, self._live.store_id, ((row.source_id, _reference(reading)) for row, reading in read if reading.reference), (_mark(row, reading) for row, reading in read)
        )
        order_ids = {row["id"] for row in ledger.orders.values()} | {row.order_id for row in rows if row.order_id}
        routes = [active.route for active in self._live.setup.routes]
        self._known = facts_queries.known(self._connection, self._live, routes, order_ids, [reading for _, reading in read])
        for row, payload, reading, variables in taken:
            self._one(row, payload, reading, variables, ledger)
        ledger.write()
        self._learn(taken)
        event_queries.mark_planned(self._connection, self._planned)
        if self._derived:
            self._connection.execute(_INSERT_EVENTS, self._derived)
        send_queries.add(self._connection, self._sends)
        return len(self._sends)

    def _ask_answers(self, rows: list[Any]) -> None:
        """What was answered about these deliveries, where their sources ask anything."""
        asking = {self._live.source_ids[key] for key, source in self._live.setup.sources.items() if source.enrichments}
        roots = {row.parent_id or row.id for row in rows if row.source_id in asking}
        self._answered = answers.of(self._connection, roots)
        self._unanswered = answers.problems(self._connection, roots)

    def _learn(self, taken: list[tuple[Any, Any, Reading | None, Variables | None]]) -> None:
        """Takes what came in into the shapes of its source, one for each name of a delivery."""
        came = [(row, payload) for row, payload, reading, _ in taken if reading is not None and not row.parent_id]
        known = shapes.load(self._connection, list({(row.source_id, row.name) for row, _ in came})) if came else {}
        for row, payload in came:
            known[(row.source_id, row.name)].learn(payload, row.received_at)
        shapes.save(self._connection, known)

    def _read(self, row: Any) -> tuple[Any, Any, Reading | None, Variables | None]:
        """An event's payload as an order. A derived event that no route waits for is not read again."""
        if row.parent_id and row.order_id and row.type not in self._listened:
            return row, None, None, None
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        try:
            payload = payload_of(source, row.parent_body or row.body, row.parent_type or row.content_type, row.headers or {}, row.item, self._answered.get(row.parent_id or row.id))
        except NotReadable as error:
            return row, error, None, None
        given = {"problem": row.name, "problem_link": link_to(self._base_url, row.delivery_key.partition(">")[0])} if row.type in OURS else None
        reading, variables = work_out(source, self._live.setup, payload, given)
        return row, payload, reading, variables

    def _one(self, row: Any, payload: Any, reading: Reading | None, variables: Variables | None, ledger: Ledger) -> None:
        now = max(self._clock.now(), row.received_at)
        done: dict[str, Any] = {"b_id": row.id, "planned_at": now, "order_id": row.order_id, "decisions": [], "problem": "", "was": row.was, "now": row.now}
        self._planned.append(done)
        if reading is None or variables is None:
            if isinstance(payload, NotReadable):
                done["problem"] = str(payload)
            return
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        was, status, order_id = row.was, row.now, row.order_id
        if reading.reference and not row.parent_id:
            order_id, was, status = self._project(row, reading, ledger)
            done |= {"order_id": order_id, "was": was, "now": status}  # a rehearsal has to see the change that planning saw
            self._derive(source, row, was, status, order_id)
        event = Event(row.id, row.type, row.name, source.key, payload, row.received_at, was, status, self._unanswered.get(row.parent_id or row.id, {}))
        known = ledger.orders.get((row.source_id, _reference(reading))) or {}
        if order_id and row.type and not row.parent_id:  # a derived one was there when the past was read
            self._known.types.setdefault(order_id, []).append((row.type, row.received_at))
        facts = self._facts(row, reading, known, order_id, ledger)
        for decision in plan(event, reading, variables, self._live.setup, facts, now):
            if decision.trace[0].part == "when" and event.type not in self._listens(decision.route):
                continue  # it waits for something else: nothing worth keeping
            done["decisions"].append({"route": decision.route, "outcome": decision.outcome, "trace": [line.as_dict() for line in decision.trace]})
            for send in decision.sends:
                self._sends.append(send_row(self._live, send, self._clock.new_id("sd", now), row.id, order_id, now))
                if send.state is not State.SKIPPED:
                    route_id = self._live.route_ids[decision.route]
                    self._known.add(known.get("contact_id"), facts_queries.Made(spoken_of(send, now), route_id, row.parent_id or row.id, order_id))

    def _facts(self, row: Any, reading: Reading, known: dict[str, Any], order_id: int | None, ledger: Ledger) -> Facts:
        """What has happened before, as far as the live routes ask."""
        if row.type not in self._listened:
            return Facts()
        statuses = tuple(status for status, _ in known.get("seen") or [])
        contact_id = known.get("contact_id")
        return self._known.facts(self._connection, self._live.source_key(row.source_id), reading.reference, row.parent_id or row.id, order_id, contact_id, statuses, language=ledger.language(contact_id))

    def _listens(self, route: str) -> list[str]:
        return next(active.route.when for active in self._live.setup.routes if active.route.key == route)

    def _project(self, row: Any, reading: Reading, ledger: Ledger) -> tuple[int, str, str]:
        """Takes an event into its order; gives the order's id and the change of status that it makes now (was, now)."""
        key = (row.source_id, _reference(reading))
        known = ledger.orders.get(key)
        placed = reading.moment("placed_at")
        at = (reading.moment("changed_at") or (placed if row.type == "order.created" else None) or row.received_at).astimezone(dt.UTC)
        state = OrderState(tuple(StatusChange(s, dt.datetime.fromisoformat(t)) for s, t in (known["seen"] if known else [])))
        late = state.latest is not None and at < state.latest
        change = note_status(state, reading.text("status")[:100], at)
        values: dict[str, Any] = {"seen": [[c.status, c.at.isoformat()] for c in change.state.seen], "status": change.state.status}
        if known is None or row.received_at > known["last_event_at"]:
            values["last_event_at"] = row.received_at
        if not late:
            values |= {
                "number": reading.number[:200],
                "total": show(reading.value("total"), self._live.setup.store.locale)[:60],
                "language": reading.text("language")[:20],
                "read": {part: pack(e.value) for part, e in reading.parts.items() if e.value is not None},
            }
            mark = _mark(row, reading)
            if mark:
                values["contact_id"] = ledger.contact(mark, _said_of_customer(reading), row.received_at)
        if known is None:
            values["placed_at"] = placed or row.received_at
        elif placed and not late:
            values["placed_at"] = placed
        order_id = ledger.order(key, values)
        if known is None and row.type not in ("order.created", "order.status_changed"):
            return order_id, "", ""  # an order met in the middle of its life: its status is no news
        return order_id, change.was, change.now

    def _derive(self, source: Source, row: Any, was: str, status: str, order_id: int) -> None:
        """The events that follow from a change of status: that it changed, and what the source says the new status means."""
        if not status:
            return
        types = []
        if row.type not in ("order.status_changed", "order.created"):
            types.append("order.status_changed")
        meaning = source.statuses.get(status)
        if meaning and meaning != row.type:
            types.append(meaning)
        self._derived += [
            {
                "id": self._clock.new_id("ev", row.received_at),
                "source_id": row.source_id,
                "delivery_key": f"{row.id}>{type_}",
                "body_hash": "",
                "name": status[:200],
                "type": type_,
                "received_at": row.received_at,
                "content_type": row.content_type,
                "headers": row.headers,
                "body": b"",
                "item": row.item,
                "parent_id": row.id,
                "was": was,
                "now": status,
                "problem": "",
                "order_id": order_id,
            }
            for type_ in types
        ]


def _reference(reading: Reading) -> str:
    return reading.reference[:200]


def _mark(row: Any, reading: Reading) -> str:
    """What a customer is told apart by: email, else phone, else the source's own id; empty where the event names none."""
    email, phone, own = reading.text("email"), reading.text("phone"), reading.text("customer_id")
    return (f"email:{email.lower()}" if email else f"phone:{phone}" if phone else f"{row.source_id}:{own}" if own else "")[:300]


def _said_of_customer(reading: Reading) -> dict[str, str]:
    return {"name": reading.text("name")[:200], "email": reading.text("email"), "phone": reading.text("phone"), "country": reading.context.country, "language": reading.text("language")[:20]}
