"""Plans events: each exactly once, its sends, the order's new state and `planned_at` in one transaction."""

from __future__ import annotations

import datetime as dt
from typing import Any

import structlog
from sqlalchemy import Connection, insert

from angelon.core.deliveries import cloud_event, split
from angelon.core.orders import OrderState, StatusChange, note_status
from angelon.core.payload.body import NotReadable, parse_body
from angelon.core.planning.plan import Decision, Event, Facts, plan, work_out
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.source import Source
from angelon.core.states import State
from angelon.core.values import pack, show
from angelon.db import events as event_queries
from angelon.db import sends as send_queries
from angelon.db import shapes
from angelon.db.database import Database
from angelon.db.events import EVENT
from angelon.db.orders import Ledger
from angelon.db.setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()

_INSERT_EVENTS = insert(EVENT)


def payload_of(source: Source, raw: bytes, content_type: str, headers: dict[str, str], item: int) -> Any:
    """The value that an event's paths look at. Raises NotReadable."""
    whole = cloud_event(headers, parse_body(raw, content_type))
    parts = split(source, whole)
    return parts[item] if item < len(parts) else whole


class Planner:
    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
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
        return len(rows), sum(_Batch(connection, self._setups.get(store_id), self._clock).plan(found) for store_id, found in by_store.items())


class _Batch:
    """One store's events of a batch, on their way through planning."""

    def __init__(self, connection: Connection, live: LiveSetup, clock: Clock) -> None:
        self._connection = connection
        self._live = live
        self._clock = clock
        self._route_keys = {id_: key for key, id_ in live.route_ids.items()}
        self._listened = {type_ for active in live.setup.routes for type_ in active.route.when}
        self._planned: list[dict[str, Any]] = []
        self._derived: list[dict[str, Any]] = []
        self._sends: list[dict[str, Any]] = []

    def plan(self, rows: list[Any]) -> int:
        """Plans events and stores what comes of them; gives how many sends that are."""
        taken = [self._read(row) for row in rows]
        read = [(row, reading) for row, _, reading, _ in taken if reading is not None]
        ledger = Ledger(
            self._connection, self._live.store_id, ((row.source_id, _reference(reading)) for row, reading in read if reading.reference), (_mark(row, reading) for row, reading in read)
        )
        order_ids = {row["id"] for row in ledger.orders.values()} | {row.order_id for row in rows if row.order_id}
        self._told = send_queries.told(self._connection, order_ids)
        for row, payload, reading, variables in taken:
            self._one(row, payload, reading, variables, ledger)
        ledger.write()
        self._learn(taken)
        event_queries.mark_planned(self._connection, self._planned)
        if self._derived:
            self._connection.execute(_INSERT_EVENTS, self._derived)
        send_queries.add(self._connection, self._sends)
        return len(self._sends)

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
            payload = payload_of(source, row.parent_body or row.body, row.parent_type or row.content_type, row.headers or {}, row.item)
        except NotReadable as error:
            return row, error, None, None
        reading, variables = work_out(source, self._live.setup, payload)
        return row, payload, reading, variables

    def _one(self, row: Any, payload: Any, reading: Reading | None, variables: Variables | None, ledger: Ledger) -> None:
        now = max(self._clock.now(), row.received_at)
        done: dict[str, Any] = {"b_id": row.id, "planned_at": now, "order_id": row.order_id, "decisions": [], "problem": ""}
        self._planned.append(done)
        if reading is None or variables is None:
            if isinstance(payload, NotReadable):
                done["problem"] = str(payload)
            return
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        was, status, order_id = row.was, row.now, row.order_id
        if reading.reference and not row.parent_id:
            order_id, was, status = self._project(row, reading, ledger)
            done["order_id"] = order_id
            self._derive(source, row, was, status, order_id)
        event = Event(row.id, row.type, row.name, source.key, payload, row.received_at, was, status)
        facts = Facts(frozenset((self._route_keys[r], source.key, reading.reference) for r, o in self._told if o == order_id and r in self._route_keys))
        for decision in plan(event, reading, variables, self._live.setup, facts, now):
            if decision.trace[0].part == "when" and event.type not in self._listens(decision.route):
                continue  # it waits for something else: nothing worth keeping
            done["decisions"].append({"route": decision.route, "outcome": decision.outcome, "trace": [line.as_dict() for line in decision.trace]})
            if decision.send is None:
                continue
            self._sends.append(self._row(row, decision, order_id, now))
            if order_id and decision.outcome != "skipped":
                self._told.add((self._live.route_ids[decision.route], order_id))

    def _listens(self, route: str) -> list[str]:
        return next(active.route.when for active in self._live.setup.routes if active.route.key == route)

    def _row(self, event: Any, decision: Decision, order_id: int | None, now: dt.datetime) -> dict[str, Any]:
        send, live = decision.send, self._live
        assert send is not None
        return {
            "id": self._clock.new_id("sd", now),
            "store_id": live.store_id,
            "event_id": event.id,
            "order_id": order_id,
            "route_id": live.route_ids[send.route],
            "message_id": live.message_ids.get(send.message),
            "gateway_id": live.gateway_ids.get(send.gateway),
            "revision_id": live.revision_ids.get(send.message) if send.state is State.SCHEDULED else None,
            "channel": send.channel,
            "recipient": send.recipient,
            "recipient_name": send.recipient_name[:200],
            "locale": send.locale,
            "state": send.state,
            "reason": send.reason,
            "created_at": now,
            "due_at": send.due_at,
            "settled_at": now if send.state is State.SKIPPED else None,
            "worker": "",
            "tries": 0,
            "subject": "",
            "values": {name: pack(value) for name, value in send.values.items()},
            "trace": [line.as_dict() for line in decision.trace],
        }

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
