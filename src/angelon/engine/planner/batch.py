"""One store's events of a batch, on their way through planning."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import structlog
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core import event_types
from angelon.core.event_types import CHANGES, OURS
from angelon.core.ids import short
from angelon.core.messages.channels import CHANNELS, address_key
from angelon.core.payload.body import NotReadable
from angelon.core.planning import permission, purchases
from angelon.core.planning.inputs import Contact, Event, Facts
from angelon.core.planning.plan import Decision, plan, prior_send_of, work_out
from angelon.core.planning.snapshot import as_known, packed
from angelon.core.planning.trace_lines import TraceLine
from angelon.core.questions import QuestionState
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.states import State
from angelon.core.values import Value
from angelon.db import locks
from angelon.db.derived import shapes, status_words
from angelon.db.derived.status_words import Word
from angelon.db.log import events as event_queries
from angelon.db.log import history, questions
from angelon.db.log import sends as send_queries
from angelon.db.log.orders import OrderBatch
from angelon.db.people import contact_tags, contact_values, suppressions
from angelon.db.records import NewEvent, NewSend
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import MOST_READ, Payloads, Read, Readings
from angelon.engine.clock import Clock
from angelon.engine.orders.marking import values_of
from angelon.engine.orders.parcels import MOST_IN_EVENT, Parcels, Telling, asked_telling, know, read_tellings
from angelon.engine.planner.faults import link_to
from angelon.engine.planner.projection import begins, project, reference, seen_of
from angelon.engine.planner.texts import used_at_once
from angelon.engine.planner.turns import keys_of
from angelon.engine.planner.waiting import ANSWERS, Waiting

log = structlog.get_logger()

BY_HANDLER = ">>"
"""What the key of an event that a handler derived has in it."""

SPLIT = "On the source’s page, under More, write the path of their list: each is an event of its own then."
MOST_KEPT = 2000
"""Characters of a value that stays with a customer; a longer one is not kept."""


@dataclass(frozen=True, slots=True)
class ReadEvent:
    """An event (a row of the event table) and what its delivery says; without a reading where it is not looked at, or
    can't be read.
    """

    row: EventRecord
    payload: Any = None
    reading: Reading | None = None
    variables: Variables | None = None
    problem: str = ""

    @property
    def is_new(self) -> bool:
        """Whether its order hears of it now: it was delivered, and is not only looked at again for an answer."""
        return self.row.parent_id is None and self.row.planned_at is None


class Learned(NamedTuple):
    """A payload from which the shape of its source's deliveries is learned, and when it came (aware)."""

    source_id: int
    name: str
    payload: Any
    at: dt.datetime


def learn(connection: Connection, came: Sequence[Learned]) -> None:
    """Takes payloads into the shapes of their sources, one for each name of a delivery."""
    known = shapes.load(connection, list({one[:2] for one in came})) if came else {}
    by_kind: dict[tuple[int, str], list[tuple[Any, dt.datetime]]] = {}
    for one in came:
        by_kind.setdefault(one[:2], []).append((one.payload, one.at))
    for kind, payloads in by_kind.items():
        known[kind].learn(payloads)
    shapes.save(connection, known)


def _stored(decision: Decision) -> dict[str, Any]:
    """A decision as it is kept with its event; its trace is not, where a send of it has the same."""
    made: dict[str, Any] = {"route": decision.route, "outcome": decision.outcome}
    if decision.outcome != "send" or all(list(send.trace) != decision.trace for send in decision.sends):
        made["trace"] = [line.as_dict() for line in decision.trace]
    return made | {"fault": decision.fault} if decision.fault else made


def _unchanged(row: EventRecord) -> dict[str, Any]:
    """What planning stores of an event where nothing is decided about it."""
    kept = {name: getattr(row, name) for name in event_queries.PLANNED}
    return kept | {"b_id": row.id, "waits_for": "", "facts": None}


def _without_answer(decision: dict[str, Any], why: str) -> dict[str, Any]:
    """A decision as it stays where its event can't be read any more; one that waited comes to nothing."""
    if decision["outcome"] != "waits":
        return decision
    line = TraceLine("answer", "problem", "the event can’t be read", why).as_dict()
    return {**decision, "outcome": "no", "trace": [*decision["trace"][:-1], line], "fault": why}


def _switched_off(decision: dict[str, Any]) -> dict[str, Any]:
    """A decision that waited, of a route that was switched off meanwhile."""
    line = TraceLine("answer", "no", "switched off", "The route was switched off before the answer came.").as_dict()
    return {**decision, "outcome": "no", "trace": [*decision["trace"][:-1], line]}


class Batch:
    """One store's events of a batch, on their way through planning."""

    def __init__(
        self,
        connection: Connection,
        live: LiveSetup,
        clock: Clock,
        base_url: str,
        payloads: Payloads,
        planned_at: Callable[[EventRecord], dt.datetime],
        ahead: Mapping[str, tuple[LiveSetup, ReadEvent]],
        readings: Readings,
        beside: bool = False,
    ) -> None:
        """`beside` says that others plan the same store's events."""
        self._beside = beside
        self.learned: list[Learned] = []
        """The payloads from which the shapes of their sources are to be learned."""
        self.asked = False
        """Whether it has made inquiries."""
        self._readings = readings
        self._known: dict[str, Read] = {}
        """Those of its events that were read before."""
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
        self._tellings: list[Telling] = []
        """What events tell of parcels."""
        self._met: dict[str, tuple[int, dt.datetime]] = {}
        """The orders that are new, by number, and when each came."""
        self._tags: dict[int, tuple[str, ...]] = {}
        """The tags of customers for whom handlers have asked for some."""

    def plan(self, rows: list[EventRecord]) -> int:
        """Plans events and stores what comes of them; gives how many sends that are."""
        self._waiting = Waiting(self._connection, self._live, self._clock.now())
        self._waiting.load(rows)
        ahead = {row.id: one for row in rows if (one := self._as_read_ahead(row)) is not None}
        left = [row for row in rows if row.id not in ahead]
        self._load(left)
        read = [ahead.get(row.id) or self._read(row) for row in rows]
        read = [one for one in read if not self._is_behind(one)]
        if self._beside:
            self._hold_keys(read)
        self._ledger = self._open_ledger(read)
        if self._beside:
            locks.hold_contacts(self._connection, self._ledger.contact_ids())
        order_ids = self._ledger.earlier_order_ids() | {row.order_id for row in rows if row.order_id}
        self._history = history.known(
            self._connection,
            self._live,
            [active.route for active in self._live.setup.routes],
            order_ids,
            [one.reading for one in read if one.reading is not None],
            self._ledger.contact_ids(),
        )
        self._waiting.load_pending(order_ids, self._ledger.contact_ids())
        known = [(one.row, self._order_id(one), one.reading) for one in read if one.reading is not None]
        know(self._connection, self._live, known)
        for one in read:
            self._one(one)
        self._ledger.write()
        contact_values.add(self._connection, self._kept)
        self.learned = self._to_learn(read)
        status_words.learn(self._connection, self._words(read), self._clock.now(), self._live.status_words)
        event_queries.mark_planned(self._connection, self._planned)
        event_queries.derive(self._connection, self._derived)
        self.asked = self._waiting.write()
        send_queries.add(self._connection, self._sends)
        if self._tellings or self._met:
            if self._beside:  # last of all: a parcel may hold several customers' orders
                locks.hold(self._connection, locks.of_parcels(self._live.store_id))
            told = Parcels(self._connection, self._live, self._clock)
            told.tell(self._tellings)
            told.meet(self._met)
        return len(self._sends)

    def _hold_keys(self, read: Sequence[ReadEvent]) -> None:
        """Lets nobody else plan what is about the same orders and customers."""
        keys = {
            key for one in read if one.reading is not None for key in keys_of(self._live, one.row, one.reading, False)
        } | {f"order {one.row.order_id}" for one in read if one.row.order_id is not None}
        locks.hold_keys(self._connection, keys)

    def _order_id(self, one: ReadEvent) -> int | None:
        """The order that an event is about, where that is known before it is planned."""
        if one.row.order_id is not None or one.reading is None:
            return one.row.order_id
        order = self._ledger.known((one.row.source_id, reference(one.reading)))
        return order.get("id") if order is not None else None

    def read_ahead(self, rows: list[EventRecord]) -> dict[str, tuple[LiveSetup, ReadEvent]]:
        """Reads those events about which nothing is asked elsewhere; one that can't be read is left out."""
        asking = self._live.asking
        rows = [row for row in rows if row.source_id not in asking and self._is_read(row)]
        self._waiting = Waiting(self._connection, self._live, self._clock.now())
        self._load(rows)
        read = {}
        for row in rows:
            try:
                one = self._read(row)
                if one.variables is not None:
                    one.variables.values(used_at_once(self._live, row.type))
                read[row.id] = self._live, one
            except Exception as error:  # the batch meets it again, and tells what harms only itself from what does not
                log.info("an event could not be read ahead", event_id=row.id, why=type(error).__name__)
        return read

    def _load(self, rows: Sequence[EventRecord]) -> None:
        """Reads the deliveries of those events that are looked at and were not read before."""
        wanted = [row for row in rows if self._is_read(row)]
        self._known = {row.id: read for row in wanted if (read := self._readings.of(self._live, row)) is not None}
        self._payloads.load(self._connection, self._live, [row for row in wanted if row.id not in self._known])

    def _as_read_ahead(self, row: EventRecord) -> ReadEvent | None:
        """An event as it was read before the batch began, where its store's set-up is still the same."""
        live, one = self._ahead.get(row.id, (None, None))
        return replace(one, row=row) if one is not None and live is self._live else None

    def _open_ledger(self, read: Sequence[ReadEvent]) -> OrderBatch:
        """The orders that these events are about, and their customers."""
        about = [one for one in read if one.reading is not None and one.reading.reference]
        events = [seen_of(one.row, one.reading) for one in about if one.reading is not None and one.is_new]
        derived = [seen_of(one.row, one.reading) for one in about if one.reading is not None and not one.is_new]
        return OrderBatch(self._connection, self._live.store_id, events, derived, self._live.families)

    def _is_read(self, row: EventRecord) -> bool:
        """Whether an event's delivery is looked at: a derived event that no route waits for is not read again."""
        listened = row.type in self._listened or row.type in self._live.withdrawn_on
        return not (row.parent_id and row.order_id and not listened)

    def _is_behind(self, one: ReadEvent) -> bool:
        """Makes the inquiries that an event gives rise to. Says whether it is not processed before one of them is
        answered, or before an earlier event of its order is: it stays as it is, then.
        """
        row = one.row
        if row.planned_at is not None or one.reading is None:
            return False
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        self._waiting.ask(row, source)
        waits_for = self._waiting.behind(row, one.reading, source)
        if not waits_for:
            self._waiting.unblock(row)
            return False
        self._waiting.block(row, waits_for)
        self._planned.append(_unchanged(row) | {"waits_for": waits_for})
        return True

    def _to_learn(self, read: Sequence[ReadEvent]) -> list[Learned]:
        """What came in and was not looked at before."""
        return [
            Learned(one.row.source_id, one.row.name, one.payload, one.row.received_at)
            for one in read
            if one.reading is not None and not one.row.parent_id and one.row.decisions is None
        ]

    def _words(self, read: Sequence[ReadEvent]) -> Iterator[Word]:
        """The words of the orders' statuses, in the store's own words."""
        for one in read:
            if one.reading is not None and one.is_new and one.row.parent_id is None:
                for part in CHANGES.keys() & one.reading.parts.keys():
                    yield Word(one.row.source_id, part, one.reading.text(part)[:100])

    def _read(self, row: EventRecord) -> ReadEvent:
        """An event's payload as an order."""
        if not self._is_read(row):
            return ReadEvent(row)
        known = self._known.get(row.id)
        if known is not None:
            return ReadEvent(row, *known)
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        try:
            payload = self._payloads.of(row, self._waiting.of(row).answered)
        except NotReadable as error:
            return ReadEvent(row, problem=str(error))
        given: dict[str, Value] | None = None
        if row.type in OURS:
            about = row.delivery_key.partition(">")[0]
            given = {
                "problem": row.name,
                "problem_link": link_to(self._live, self._base_url, about),
            }
        reading, variables = work_out(source, self._live.setup, payload, given)
        called = self._live.handlers_for(row.type, source.key, row.received_at)
        if called and given is None and self._payloads.size_of(row) <= MOST_READ:
            self._readings.keep(self._live, row, Read(payload, reading, variables))
        return ReadEvent(row, payload, reading, variables)

    def _one(self, one: ReadEvent) -> None:
        """Plans one event: its order, what follows from it, and what each route makes of it."""
        row, now = one.row, self._planned_at(one.row)
        done = _unchanged(row) | {"planned_at": row.planned_at or now, "decisions": [], "problem": one.problem}
        self._planned.append(done)
        if one.reading is None or one.variables is None:
            done["decisions"] = [_without_answer(one_, done["problem"]) for one_ in row.decisions or []]
            return
        source = self._live.setup.sources[self._live.source_key(row.source_id)]
        if one.reading.reference and one.is_new:
            first = self._ledger.known((row.source_id, reference(one.reading))) is None
            new = first and begins(source, row, one.reading)
            order_id, changes = project(self._ledger, self._live.setup.store.locale, row, one.reading, new)
            if first:
                self._met[one.reading.number] = order_id, row.received_at
            if row.order_id is None:
                self._derive(source, row, changes, order_id, new)
                was, status = changes.get("status", ("", ""))
                done |= {"was": was, "now": status}  # a rehearsal has to see the change that planning saw
            done |= {"order_id": order_id}  # planned before, in part: the change of status was found then
        if row.parent_id is None and row.planned_at is None and "parcels" in source.reading:
            told = read_tellings(source, one.reading, done["order_id"], row.received_at)
            self._tellings += told[:MOST_IN_EVENT]
            if len(told) > MOST_IN_EVENT:
                done["problem"] = (
                    f"It has {len(told):,} parcels, of which the first {MOST_IN_EVENT} were taken. {SPLIT}"
                )
        came = min(row.received_at, now)  # a clock that was put back must not make it wait
        about = self._waiting.of(row)
        order = self._ledger.of((row.source_id, reference(one.reading))) or {}
        awaits = self._waiting.awaits(row, source, done["order_id"], order.get("contact_id"))
        happened = (row.id, row.type, row.name, source.key, one.payload, came, done["was"], done["now"])
        event = Event(*happened, about.unanswered, about.asked, awaits)
        self._decide(row, one.reading, one.variables, event, done, now)

    def _decide(
        self,
        row: EventRecord,
        reading: Reading,
        variables: Variables,
        event: Event,
        done: dict[str, Any],
        now: dt.datetime,
    ) -> None:
        """What each route makes of an event; decisions of an earlier planning stay, but for those that failed. Where an
        answer has come since, those that waited for it are taken, as all stood when the event was planned.
        """
        later = row.planned_at is not None
        again = row.decisions is not None and not later
        order_id = done["order_id"]
        if row.decisions is None:
            self._leave(event, reading)
            self._withdraw(row, order_id, now)
        order = self._ledger.of((row.source_id, reference(reading))) or {}
        contact_id = order.get("contact_id")
        if order_id and row.type and not row.parent_id and row.order_id is None:
            # a derived one was there when the past was read
            self._history.types.setdefault(order_id, []).append((row.type, row.received_at))
        self._keep(row, variables, contact_id)
        facts = self._facts(row, reading, order, order_id)
        if later and row.facts:
            facts = as_known(row.facts, facts)
        kept = [one for one in row.decisions or [] if not one.get("fault") and one["outcome"] != "waits"]
        waited = [one["route"] for one in row.decisions or [] if one["outcome"] == "waits"] if later else None
        done["decisions"] += kept
        if waited:
            done["problem"] = row.problem
            done["decisions"] += [_switched_off(one) for one in row.decisions or [] if self._is_off(one)]
        decided = {decision["route"] for decision in kept}
        happened = row.planned_at if later else None
        turn = self._live.listening(event.type)
        decisions = plan(event, reading, variables, self._live.setup, facts, now, decided, waited, happened, turn)
        if self._waiting.decided(row, decisions, order_id, contact_id):
            done |= {"waits_for": ANSWERS, "facts": row.facts if later else packed(facts)}
        for decision in decisions:
            decision = self._never_asked(decision, event)
            done["decisions"].append(_stored(decision))
            if decision.fault:
                log.error("a route failed", event_id=row.id, route=decision.route, fault=decision.fault)
                name = self._live.routes[decision.route].name
                done["problem"] = f"“{name}” could not be evaluated: {decision.fault}"
            self._derive_asked(row, event, decision, order_id)
            self._tag(event, decision, contact_id)
            self._tell(row, event, decision, reading, order_id)
            for send in decision.sends:
                id_ = self._clock.new_id("sd", now)
                about = (row.id, order_id, now)
                self._sends.append(NewSend.planned(self._live, send, id_, *about, event_type=row.type, gives_way=again))
                if send.state is not State.SKIPPED:
                    route_id, delivery = self._live.route_ids[decision.route], row.parent_id or row.id
                    record = history.SendRecord(prior_send_of(send, event, now), route_id, delivery, order_id)
                    self._history.add(contact_id, record)
        if not later:
            self._history.happened(contact_id, order_id, row.type)

    def _is_off(self, decision: Mapping[str, Any]) -> bool:
        """Whether a decision that waited is of a route that is off by now."""
        on = any(active.route.key == decision["route"] for active in self._live.setup.routes)
        return decision["outcome"] == "waits" and not on

    def _keep(self, row: EventRecord, variables: Variables, contact_id: int | None) -> None:
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

    def _derive_asked(self, row: EventRecord, event: Event, decision: Decision, order_id: int | None) -> None:
        """The events that a handler has follow from this one; one that follows so itself has none."""
        if not event.asked or BY_HANDLER in row.delivery_key or all(line.part != "handler" for line in decision.trace):
            return
        handler = self._live.routes[decision.route].handler
        asked = event.asked.get(handler)
        for type_ in asked.derive if asked is not None and not asked.problem else ():
            key = BY_HANDLER + short(f"{row.id}>{type_}")
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

    def _withdraw(self, row: EventRecord, order_id: int | None, now: dt.datetime) -> None:
        """After an event that says so, open questions about the order no longer matter."""
        message_ids = self._live.withdrawn_on.get(row.type)
        if not message_ids or order_id is None:
            return
        why = f"{event_types.label(row.type).capitalize()}."
        gone = {
            self._live.message_key(id_) for id_ in questions.withdraw(self._connection, order_id, message_ids, why, now)
        }
        known = self._history.questions.get(order_id, [])
        self._history.questions[order_id] = [
            one._replace(outcome=QuestionState.WITHDRAWN.value, closed_at=now)
            if one.message in gone and one.outcome == QuestionState.OPEN
            else one
            for one in known
        ]

    def _tag(self, event: Event, decision: Decision, contact_id: int | None) -> None:
        """The tags that a handler, or a route that sends, sets on the event's customer or takes off them."""
        handler = self._live.routes[decision.route].handler if event.asked else ""
        asked = event.asked.get(handler) if handler else None
        reached = any(line.part == "handler" for line in decision.trace)
        changes = dict(asked.tags) if asked is not None and not asked.problem and reached else {}
        route = self._live.routes[decision.route]
        if route.marks and any(send.state is not State.SKIPPED for send in decision.sends):
            changes |= route.marks.tags
            self._note(route, contact_id)
        if not changes or contact_id is None:
            return
        if contact_id not in self._tags:
            self._tags |= {contact_id: ()} | contact_tags.of(self._connection, [contact_id])
        known, now = self._tags[contact_id], self._clock.now()
        self._tags[contact_id] = contact_tags.change(
            self._connection, contact_id, changes, known, handler or route.name, now
        )
        before = self._history.contacts.get(contact_id, Contact(0))
        self._history.contacts[contact_id] = replace(before, tags=self._tags[contact_id])

    def _note(self, route: Route, contact_id: int | None) -> None:
        """The values that a route which sends notes about the customer."""
        if contact_id is None:
            return
        known, now = self._history.kept.setdefault(contact_id, {}), self._clock.now()
        for name, value in values_of(route.marks, self._live.setup).items():
            if name not in known or known[name].value != value:
                known[name] = contact_values.KeptValue(value, now)
                self._kept.append(contact_values.row(contact_id, name, value, now))

    def _tell(self, row: EventRecord, event: Event, decision: Decision, reading: Reading, order_id: int | None) -> None:
        """What a handler tells of parcels."""
        handler = self._live.routes[decision.route].handler if event.asked else ""
        asked = event.asked.get(handler) if handler else None
        if asked is None or asked.problem or all(line.part != "handler" for line in decision.trace):
            return
        self._tellings += [asked_telling(one, handler, reading, order_id, row.received_at) for one in asked.parcels]

    def _follows(
        self, row: EventRecord, key: str, name: str, type_: str, order_id: int | None, was: str = "", now: str = ""
    ) -> NewEvent:
        """An event that follows from another."""
        id_, at = self._clock.new_id("ev", row.received_at), row.received_at
        return NewEvent.derived(row, id_, key, name, type_, at, order_id, was, now)

    def _facts(self, row: EventRecord, reading: Reading, order: dict[str, Any], order_id: int | None) -> Facts:
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

    def _derive(
        self, source: Source, row: EventRecord, changes: Mapping[str, tuple[str, str]], order_id: int, new: bool
    ) -> None:
        """The events that follow from changes of status: that each changed, and what the source says the new status
        means; and that an order is new. What two of them mean alike happens once.
        """
        made: dict[str, tuple[str, str]] = {"order.created": ("", "")} if new and row.type != "order.created" else {}
        for part, change in changes.items():
            if not new and row.type not in (CHANGES[part], "order.created"):
                made.setdefault(CHANGES[part], change)
            meaning = source.meanings(part).get(change[1])
            if meaning and meaning != row.type:
                made.setdefault(meaning, change)
        self._derived += [
            self._follows(row, ">" + short(f"{row.id}>{type_}"), status or row.name, type_, order_id, was, status)
            for type_, (was, status) in made.items()
        ]
