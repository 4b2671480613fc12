"""Plans events: each exactly once, its sends, the order's new state and `planned_at` in one transaction."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import structlog
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core import event_types
from angelon.core.event_types import CHANGES, OURS
from angelon.core.messages.channels import CHANNELS, address_key
from angelon.core.orders import OrderState, StatusChange, note_status
from angelon.core.payload.body import NotReadable
from angelon.core.planning import permission, purchases
from angelon.core.planning.inputs import Contact, Event, Facts
from angelon.core.planning.plan import Decision, plan, prior_send_of, work_out
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.source import Source
from angelon.core.states import State
from angelon.core.values import Value, pack, show
from angelon.db import answers, contact_tags, contact_values, handlers, history, locks, shapes, suppressions
from angelon.db import events as event_queries
from angelon.db import sends as send_queries
from angelon.db.database import Database, is_database_failure
from angelon.db.events import Rows
from angelon.db.live_setup import LiveSetup
from angelon.db.orders import Ledger, Seen
from angelon.db.records import NewEvent, NewSend
from angelon.engine.clock import Clock
from angelon.engine.event_reader import Payloads, identity_of, within_bytes
from angelon.engine.setups import Setups

log = structlog.get_logger()

BY_HANDLER = ">>"
"""What the key of an event that a handler derived has in it."""

MOST_KEPT = 2000
"""Characters of a value that stays with a customer; a longer one is not kept."""
BATCH_SECONDS = 0.05
"""How long planning a batch may keep others from writing: on SQLite, where one writes at a time."""
BATCH_SECONDS_OF_A_STORE = 0.25
"""The same on PostgreSQL, where it keeps only those who decide for the same store."""
MOST_STORES = 5
"""Stores with events that wait which are looked at before those who plan for them are waited for."""
LEAST, MOST = 8, 200
"""Events in a batch."""


def link_to(live: LiveSetup, base_url: str, send_id: str) -> str:
    """A send's page, for a message; `base_url` is the installation's address, where the store has none of its own."""
    return f"{live.setup.store.base_url or base_url}{live.root}/sends/{send_id}"


def describe_fault(error: Exception) -> str:
    """What is stored of an exception that nobody expected: its kind and its first line."""
    text = " ".join(str(error).split())[:200].encode("utf-8", "replace").decode().replace("\x00", "\ufffd")
    return f"{type(error).__name__}: {text}" if text else type(error).__name__


class Planner:
    """Plans what waits. An event that can't be planned is set aside with its problem; its neighbours are planned."""

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        base_url: str = "",
        planned_at: Callable[[Any], dt.datetime] | None = None,
    ) -> None:
        """`planned_at` says for an event when it counts as planned; by the clock where it is not given."""
        self._base_url = base_url
        self._database = database
        self._setups = setups
        self._clock = clock
        self._planned_at = planned_at or (lambda row: clock.now())
        self._payloads = Payloads()
        self._batch_size = 2 * LEAST
        self._ahead: dict[str, tuple[LiveSetup, _Read]] = {}

    def run_batch(self, limit: int | None = None) -> tuple[int, int]:
        """Plans up to `limit` events that wait; gives how many, and how many sends came of them.

        Without a limit it plans as many as are likely to take BATCH_SECONDS: while it plans, nobody else can write,
        and deliveries that come in wait for it.
        """
        without = self._setups.unreadable_sources()
        most = limit or self._batch_size
        if not self._read_ahead(most, without):
            return 0, 0
        with self._database.connection() as connection:
            rows = self._mine(connection, most, without)
            began = time.monotonic()
            unread = {row.delivery_id for row in rows if row.id not in self._ahead}
            rows = within_bytes(event_queries.sizes(connection, unread), rows)
            done = self._plan(connection, rows)
            took = time.monotonic() - began
        wanted = BATCH_SECONDS if self._database.sqlite else BATCH_SECONDS_OF_A_STORE
        if took > wanted:
            self._batch_size = max(LEAST, int(most * wanted / took))
        elif len(rows) == most:
            self._batch_size = min(MOST, most + most // 4 + 1)
        return done

    def _mine(self, connection: Connection, most: int, without: Collection[int]) -> Sequence[Any]:
        """Events that wait, of stores for which no other process plans or decides just now: what a route has said and
        what it may say is only known to one at a time.

        Where others plan for all of them, it is waited for one, the events that come next having been read: so that two
        processes plan for one store in turn, and each reads while the other plans.
        """
        if self._database.sqlite:
            return event_queries.unplanned(connection, most, without)
        out, first = set(without), None
        for _ in range(MOST_STORES):
            rows: Sequence[Any] = event_queries.unplanned(connection, most, out, Rows.ALL)
            stores = list(dict.fromkeys(self._store_of(row) for row in rows))
            free = {one for one in stores if locks.try_hold(connection, locks.of_store(one))}
            if free:
                return self._of_stores(connection, most, out, free)
            if not rows:
                break
            first = first or stores[0]
            out |= {row.source_id for row in rows}
        if first is None or not locks.hold_within(connection, locks.of_store(first), BATCH_SECONDS_OF_A_STORE):
            return []
        return self._of_stores(connection, most, without, {first})

    def _of_stores(
        self, connection: Connection, most: int, without: Collection[int], stores: Collection[int]
    ) -> Sequence[Any]:
        """The events that wait now, of stores that are held: what was planned until they were held is planned. Others'
        are not touched, so that they are planned beside.
        """
        return event_queries.unplanned(connection, most, {*without, *self._setups.sources_outside(stores)})

    def _store_of(self, row: Any) -> int:
        return self._setups.of_source(row.source_id).store_id

    def _read_ahead(self, most: int, without: Collection[int]) -> bool:
        """Reads the events that wait, as far as nothing but their deliveries and the set-up is needed for it, while
        others may write. Says whether any waits.

        What is read here is used for the same event under the same set-up only; the batch reads the others itself.
        """
        self._ahead = {}
        with self._database.reading() as session:  # what is held is let go at once, or who plans would have to wait
            rows: Sequence[Any] = event_queries.unplanned(session.connection(), most, without, Rows.FREE)
        if not rows:
            return False
        with self._database.reading() as session:
            connection = session.connection()
            rows = within_bytes(event_queries.sizes(connection, {row.delivery_id for row in rows}), rows)
            by_store: dict[int, list[Any]] = {}
            for row in rows:
                by_store.setdefault(self._store_of(row), []).append(row)
            for store_id, found in by_store.items():
                try:
                    batch = self._batch(connection, self._setups.get(store_id))
                    self._ahead.update(batch.read_ahead(found))
                except Exception as error:  # the batch meets it again, and tells whom it harms
                    if is_database_failure(error):
                        raise
                    log.info("events could not be read ahead", store_id=store_id, why=type(error).__name__)
        return True

    def _plan(self, connection: Connection, rows: Sequence[Any]) -> tuple[int, int]:
        """Plans a batch, which may hold several stores' events; each store's are planned together, in order."""
        by_store: dict[int, list[Any]] = {}
        for row in rows:
            by_store.setdefault(self._store_of(row), []).append(row)
        made = sum(
            self._plan_store(connection, self._setups.get(store_id), found) for store_id, found in by_store.items()
        )
        self._payloads.trim()
        return len(rows), made

    def _plan_store(self, connection: Connection, live: LiveSetup, rows: list[Any]) -> int:
        """Plans one store's events together; one by one where that fails, so that only what can't be planned is left
        out.
        """
        try:
            with connection.begin_nested():
                return self._batch(connection, live).plan(rows)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a batch could not be planned; planning its events one by one", events=len(rows))
        return sum(self._plan_alone(connection, live, row) for row in rows)

    def _plan_alone(self, connection: Connection, live: LiveSetup, row: Any) -> int:
        try:
            with connection.begin_nested():
                return self._batch(connection, live).plan([row])
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("an event could not be planned", event_id=row.id)
            problem = f"It could not be planned: {describe_fault(error)}"
        set_aside = {
            "b_id": row.id,
            "planned_at": self._planned_at(row),
            "order_id": row.order_id,
            "decisions": row.decisions or [],
            "problem": problem,
            "was": row.was,
            "now": row.now,
        }
        event_queries.mark_planned(connection, [set_aside])
        return 0

    def _batch(self, connection: Connection, live: LiveSetup) -> _Batch:
        return _Batch(connection, live, self._clock, self._base_url, self._payloads, self._planned_at, self._ahead)


@dataclass(frozen=True, slots=True)
class _Read:
    """An event (a row of the event table) and what its delivery says; without a reading where it is not looked at, or
    can't be read.
    """

    row: Any
    payload: Any = None
    reading: Reading | None = None
    variables: Variables | None = None
    problem: str = ""


def _stored(decision: Decision) -> dict[str, Any]:
    """A decision as it is kept with its event."""
    trace = [line.as_dict() for line in decision.trace]
    made: dict[str, Any] = {"route": decision.route, "outcome": decision.outcome, "trace": trace}
    return made | {"fault": decision.fault} if decision.fault else made


class _Batch:
    """One store's events of a batch, on their way through planning."""

    def __init__(
        self,
        connection: Connection,
        live: LiveSetup,
        clock: Clock,
        base_url: str,
        payloads: Payloads,
        planned_at: Callable[[Any], dt.datetime],
        ahead: Mapping[str, tuple[LiveSetup, _Read]],
    ) -> None:
        self._connection = connection
        self._ahead = ahead
        self._base_url = base_url
        self._live = live
        self._clock = clock
        self._payloads = payloads
        self._planned_at = planned_at
        self._listened = {type_ for active in live.setup.routes for type_ in active.route.when}
        self._planned: list[dict[str, Any]] = []
        self._derived: list[NewEvent] = []
        self._sends: list[NewSend] = []
        self._kept: list[dict[str, Any]] = []
        """New values of variables that are kept, as rows."""
        self._tags: dict[int, tuple[str, ...]] = {}
        """The tags of customers for whom handlers have asked for some."""

    def plan(self, rows: list[Any]) -> int:
        """Plans events and stores what comes of them; gives how many sends that are."""
        self._ask_answers(rows)
        ahead = {row.id: one for row in rows if (one := self._as_read_ahead(row)) is not None}
        left = [row for row in rows if row.id not in ahead]
        self._payloads.load(self._connection, self._live, [row for row in left if self._is_read(row)])
        read = [ahead.get(row.id) or self._read(row) for row in rows]
        self._ledger = self._open_ledger(read)
        order_ids = self._ledger.earlier_order_ids() | {row.order_id for row in rows if row.order_id}
        self._history = history.known(
            self._connection,
            self._live,
            [active.route for active in self._live.setup.routes],
            order_ids,
            [one.reading for one in read if one.reading is not None],
            self._ledger.contact_ids(),
        )
        for one in read:
            self._one(one)
        self._ledger.write()
        contact_values.add(self._connection, self._kept)
        self._learn(read)
        event_queries.mark_planned(self._connection, self._planned)
        event_queries.derive(self._connection, self._derived)
        send_queries.add(self._connection, self._sends)
        return len(self._sends)

    def read_ahead(self, rows: list[Any]) -> dict[str, tuple[LiveSetup, _Read]]:
        """Reads those events about which nothing is asked elsewhere; one that can't be read is left out."""
        asking = {self._live.source_ids[key] for key, source in self._live.setup.sources.items() if source.enrichments}
        rows = [row for row in rows if row.source_id not in asking and self._is_read(row)]
        self._answered: dict[str, dict[str, Any]] = {}
        self._payloads.load(self._connection, self._live, rows)
        read = {}
        for row in rows:
            try:
                read[row.id] = self._live, self._read(row)
            except Exception as error:  # the batch meets it again, and tells what harms only itself from what does not
                log.info("an event could not be read ahead", event_id=row.id, why=type(error).__name__)
        return read

    def _as_read_ahead(self, row: Any) -> _Read | None:
        """An event as it was read before the batch began, where its store's set-up is still the same."""
        live, one = self._ahead.get(row.id, (None, None))
        return replace(one, row=row) if one is not None and live is self._live else None

    def _open_ledger(self, read: Sequence[_Read]) -> Ledger:
        """The orders that these events are about, and their customers."""
        events = [
            Seen(
                (one.row.source_id, _reference(one.reading)),
                identity_of(one.row, one.reading),
                _said_of_customer(one.reading),
                one.row.received_at,
            )
            for one in read
            if one.reading is not None and one.reading.reference and not one.row.parent_id
        ]
        derived = [
            Seen(
                (one.row.source_id, _reference(one.reading)),
                identity_of(one.row, one.reading),
                {},
                one.row.received_at,
            )
            for one in read
            if one.reading is not None and one.reading.reference and one.row.parent_id
        ]
        return Ledger(self._connection, self._live.store_id, events, derived)

    def _is_read(self, row: Any) -> bool:
        """Whether an event's delivery is looked at: a derived event that no route waits for is not read again."""
        return not (row.parent_id and row.order_id and row.type not in self._listened)

    def _ask_answers(self, rows: list[Any]) -> None:
        """What was answered about these deliveries, where their sources ask anything."""
        asking = {self._live.source_ids[key] for key, source in self._live.setup.sources.items() if source.enrichments}
        roots = {row.parent_id or row.id for row in rows if row.source_id in asking}
        self._answered = answers.of(self._connection, roots)
        self._unanswered = answers.problems(self._connection, roots)
        listening = any(active.route.handler for active in self._live.setup.routes)
        self._by_handlers = handlers.asked(self._connection, {row.id for row in rows}) if listening else {}

    def _learn(self, read: Sequence[_Read]) -> None:
        """Takes what came in into the shapes of its source, one for each name of a delivery."""
        came = [one for one in read if one.reading is not None and not one.row.parent_id and one.row.decisions is None]
        names = list({(one.row.source_id, one.row.name) for one in came})
        known = shapes.load(self._connection, names) if came else {}
        for one in came:
            known[(one.row.source_id, one.row.name)].learn(one.payload, one.row.received_at)
        shapes.save(self._connection, known)

    def _read(self, row: Any) -> _Read:
        """An event's payload as an order."""
        if not self._is_read(row):
            return _Read(row)
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        try:
            payload = self._payloads.of(row, self._answered.get(row.parent_id or row.id))
        except NotReadable as error:
            return _Read(row, problem=str(error))
        given: dict[str, Value] | None = None
        if row.type in OURS:
            about = row.delivery_key.partition(">")[0]
            given = {
                "problem": row.name,
                "problem_link": link_to(self._live, self._base_url, about),
            }
        reading, variables = work_out(source, self._live.setup, payload, given)
        return _Read(row, payload, reading, variables)

    def _one(self, one: _Read) -> None:
        """Plans one event: its order, what follows from it, and what each route makes of it."""
        row, now = one.row, self._planned_at(one.row)
        done: dict[str, Any] = {
            "b_id": row.id,
            "planned_at": now,
            "order_id": row.order_id,
            "decisions": [],
            "problem": one.problem,
            "was": row.was,
            "now": row.now,
        }
        self._planned.append(done)
        if one.reading is None or one.variables is None:
            return
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        if one.reading.reference and not row.parent_id:
            order_id, changes = self._project(row, one.reading)
            if row.order_id is None:
                self._derive(source, row, changes, order_id)
                was, status = changes.get("status", ("", ""))
                done |= {"was": was, "now": status}  # a rehearsal has to see the change that planning saw
            done |= {"order_id": order_id}  # planned before, in part: the change of status was found then
        came = min(row.received_at, now)  # a clock that was put back must not make it wait
        unanswered = self._unanswered.get(row.parent_id or row.id, {})
        asked = self._by_handlers.get(row.id, {})
        happened = (row.id, row.type, row.name, source.key, one.payload, came, done["was"], done["now"])
        event = Event(*happened, unanswered, asked)
        self._decide(row, one.reading, one.variables, event, done, now)

    def _decide(
        self, row: Any, reading: Reading, variables: Variables, event: Event, done: dict[str, Any], now: dt.datetime
    ) -> None:
        """What each route makes of an event; decisions of an earlier planning stay, but for those that failed."""
        if row.decisions is None:
            self._leave(event, reading)
        order_id = done["order_id"]
        order = self._ledger.orders.get((row.source_id, _reference(reading))) or {}
        if order_id and row.type and not row.parent_id and row.order_id is None:
            # a derived one was there when the past was read
            self._history.types.setdefault(order_id, []).append((row.type, row.received_at))
        self._keep(row, variables, order.get("contact_id"))
        facts = self._facts(row, reading, order, order_id)
        kept = [decision for decision in row.decisions or [] if not decision.get("fault")]
        done["decisions"] += kept
        decided = {decision["route"] for decision in kept}
        for decision in plan(event, reading, variables, self._live.setup, facts, now, decided):
            if decision.trace[0].part == "when" and event.type not in self._listens(decision.route):
                continue  # it waits for something else: nothing worth keeping
            decision = self._never_asked(decision, event)
            done["decisions"].append(_stored(decision))
            if decision.fault:
                log.error("a route failed", event_id=row.id, route=decision.route, fault=decision.fault)
                name = self._live.routes[decision.route].name
                done["problem"] = f"“{name}” could not be worked out: {decision.fault}"
            self._derive_asked(row, event, decision, order_id)
            self._tag(event, decision, order.get("contact_id"))
            for send in decision.sends:
                id_ = self._clock.new_id("sd", now)
                self._sends.append(NewSend.planned(self._live, send, id_, row.id, order_id, now, event_type=row.type))
                if send.state is not State.SKIPPED:
                    route_id, delivery = self._live.route_ids[decision.route], row.parent_id or row.id
                    record = history.SendRecord(prior_send_of(send, now), route_id, delivery, order_id)
                    self._history.add(order.get("contact_id"), record)
        self._history.happened(order.get("contact_id"), order_id, row.type)

    def _keep(self, row: Any, variables: Variables, contact_id: int | None) -> None:
        """What an event says of its customer by the variables that are kept, where it is news."""
        if contact_id is None or row.parent_id or not self._history.needs.kept:
            return
        known = self._history.kept.setdefault(contact_id, {})
        for name, variable in self._live.setup.variables.items():
            said = variables[name].said if variable.keep else None
            before = known.get(name)
            if said is None or (before and (before.value == said or before.since > row.received_at)):
                continue
            made = contact_values.row(contact_id, name, said, row.received_at)
            if len(str(made["value"])) <= MOST_KEPT:
                known[name] = contact_values.KeptValue(said, row.received_at)
                self._kept.append(made)

    def _never_asked(self, decision: Decision, event: Event) -> Decision:
        """A decision that a handler was to take and was not asked for, as a fault: so that it is taken once more."""
        handler, last = self._live.routes[decision.route].handler, decision.trace[-1]
        missing = handler and handler not in event.asked and last.part == "handler"
        return replace(decision, fault=last.why) if missing else decision

    def _derive_asked(self, row: Any, event: Event, decision: Decision, order_id: int | None) -> None:
        """The events that a handler has follow from this one; one that follows so itself has none."""
        if not event.asked or BY_HANDLER in row.delivery_key or all(line.part != "handler" for line in decision.trace):
            return
        handler = self._live.routes[decision.route].handler
        asked = event.asked.get(handler)
        for type_ in asked.derive if asked is not None and not asked.problem else ():
            key = f"{row.id}{BY_HANDLER}{type_}"
            self._derived.append(self._follows(row, key, handler, type_, order_id))

    def _leave(self, event: Event, reading: Reading) -> None:
        """After an event that the store names, its customer gets no optional message any more."""
        if event.type not in self._live.setup.store.leave_on:
            return
        why = f"{event_types.label(event.type)}: order {reading.number or reading.reference}."
        with Session(bind=self._connection) as session:
            for channel in ("email", "sms"):
                address = reading.text(CHANNELS[channel].address_part)
                if address:
                    key = address_key(channel, address)
                    suppressions.add(
                        session, self._live.store_id, key, why, self._clock.now(), permission.OPTIONAL, "event"
                    )
            session.commit()  # into the transaction that it stands in

    def _tag(self, event: Event, decision: Decision, contact_id: int | None) -> None:
        """The tags that a handler sets on the event's customer or takes off them."""
        handler = self._live.routes[decision.route].handler if event.asked else ""
        asked = event.asked.get(handler) if handler else None
        reached = any(line.part == "handler" for line in decision.trace)
        if asked is None or asked.problem or not asked.tags or contact_id is None or not reached:
            return
        if contact_id not in self._tags:
            self._tags |= {contact_id: ()} | contact_tags.of(self._connection, [contact_id])
        known, now = self._tags[contact_id], self._clock.now()
        self._tags[contact_id] = contact_tags.change(self._connection, contact_id, asked.tags, known, handler, now)
        before = self._history.contacts.get(contact_id, Contact(0))
        self._history.contacts[contact_id] = replace(before, tags=self._tags[contact_id])

    def _follows(
        self, row: Any, key: str, name: str, type_: str, order_id: int | None, was: str = "", now: str = ""
    ) -> NewEvent:
        """An event that follows from another; it waits where a handler has to be asked about it."""
        id_, at = self._clock.new_id("ev", row.received_at), row.received_at
        made = NewEvent.derived(row, id_, key, name, type_, at, order_id, was, now)
        if self._live.handlers_for(type_, self._live.source_key(row.source_id), at):
            made.waits_until = at
        return made

    def _facts(self, row: Any, reading: Reading, order: dict[str, Any], order_id: int | None) -> Facts:
        """What has happened before, as far as the live routes ask."""
        if row.type not in self._listened:
            return Facts()
        contact_id = order.get("contact_id")
        language, country = self._ledger.known_by(contact_id)
        bought = {}
        if contact_id is not None and self._history.needs.purchases:
            changed = self._ledger.bought_by(contact_id).items()
            bought = {id_: one for id_, seen in changed if (one := purchases.purchase(seen)) is not None}
        return self._history.facts(
            self._live.source_key(row.source_id),
            reading.reference,
            row.parent_id or row.id,
            order_id,
            contact_id,
            tuple(status for status, _ in order.get("seen") or []),
            language=language,
            new_orders=self._ledger.new_orders[contact_id] if contact_id is not None else 0,
            other_statuses=history.statuses_by_part(order.get("seen_others")),
            country=country,
            bought=bought,
        )

    def _listens(self, route: str) -> list[str]:
        return next(active.route.when for active in self._live.setup.routes if active.route.key == route)

    def _project(self, row: Any, reading: Reading) -> tuple[int, dict[str, tuple[str, str]]]:
        """Takes an event into its order; gives the order's id and the changes that it makes now: by the part that a
        status is (`status`, `payment_status`, …), what it was and what it is.
        """
        key = (row.source_id, _reference(reading))
        known = self._ledger.known(key)
        placed = reading.moment("placed_at")
        at = (
            reading.moment("changed_at") or (placed if row.type == "order.created" else None) or row.received_at
        ).astimezone(dt.UTC)
        states = {part: _state_of(known, part) for part in CHANGES}
        late = any(state.latest is not None and at < state.latest for state in states.values())
        noted = {part: note_status(state, reading.text(part)[:100], at) for part, state in states.items()}
        values: dict[str, Any] = {
            "seen": _as_stored(noted["status"].state),
            "seen_others": {
                part: _as_stored(one.state) for part, one in noted.items() if part != "status" and one.state.seen
            }
            or None,
            "status": noted["status"].state.status,
        }
        if known is None or row.received_at > known["last_event_at"]:
            values["last_event_at"] = row.received_at
        if not late:
            values |= {
                "number": reading.number[:200],
                "total": show(reading.value("total"), self._live.setup.store.locale)[:60],
                "language": reading.text("language")[:20],
                "read": {part: pack(e.value) for part, e in reading.parts.items() if e.value is not None},
                "bought": purchases.noted(known["bought"] if known else None, reading, row.received_at),
            }
            identity = identity_of(row, reading)
            if identity:
                values["contact_id"] = self._ledger.contact(identity, _said_of_customer(reading), row.received_at)
        if known is None:
            values["placed_at"] = placed or row.received_at
        elif placed and not late:
            values["placed_at"] = placed
        order_id = self._ledger.order(key, values)
        if known is None and row.type != "order.created" and row.type not in CHANGES.values():
            return order_id, {}  # an order met in the middle of its life: its status is no news
        return order_id, {part: (one.was, one.now) for part, one in noted.items() if one.changed}

    def _derive(self, source: Source, row: Any, changes: Mapping[str, tuple[str, str]], order_id: int) -> None:
        """The events that follow from changes of status: that each changed, and what the source says the new status
        means. What two of them mean alike happens once.
        """
        made: dict[str, tuple[str, str]] = {}
        for part, change in changes.items():
            if row.type not in (CHANGES[part], "order.created"):
                made.setdefault(CHANGES[part], change)
            meaning = source.meanings(part).get(change[1])
            if meaning and meaning != row.type:
                made.setdefault(meaning, change)
        self._derived += [
            self._follows(row, f"{row.id}>{type_}", status, type_, order_id, was, status)
            for type_, (was, status) in made.items()
        ]


def _state_of(known: Mapping[str, Any] | None, part: str) -> OrderState:
    """One of an order's statuses as its row keeps it."""
    if known is None:
        return OrderState()
    seen = known["seen"] if part == "status" else (known["seen_others"] or {}).get(part)
    return OrderState(tuple(StatusChange(status, dt.datetime.fromisoformat(at)) for status, at in seen or []))


def _as_stored(state: OrderState) -> list[list[str]]:
    return [[change.status, change.at.isoformat()] for change in state.seen]


def _reference(reading: Reading) -> str:
    return reading.reference[:200]


def _said_of_customer(reading: Reading) -> dict[str, str]:
    return {
        "name": reading.text("name")[:200],
        "email": reading.text("email"),
        "phone": reading.text("phone"),
        "country": reading.context.country,
        "language": reading.text("language")[:20],
    }
