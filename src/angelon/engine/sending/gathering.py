"""Everything that is known around a batch of due sends, read in a bounded number of queries."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection

from angelon.core.event_types import OURS
from angelon.core.messages.channels import CHANNELS
from angelon.core.payload.body import NotReadable
from angelon.core.planning.permission import of_order
from angelon.core.planning.plan import work_out
from angelon.core.questions import LABELS, QuestionState
from angelon.core.sending.due import DueSend, EventFacts, SendContext, guards_again, needs_event
from angelon.core.sending.prepare import recipient_now
from angelon.core.specs.message import Message
from angelon.core.specs.stored import from_stored
from angelon.core.values import Value, unpack
from angelon.db.log import events, history, inquiries, questions
from angelon.db.log import sends as sent
from angelon.db.people import suppressions
from angelon.db.rows import EventRecord, QuestionRecord, SendRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads, event_of
from angelon.engine.orders.parcels import know


def due_send(row: SendRecord, live: LiveSetup) -> DueSend:
    """A row of the send table as the rules look at it. Raises Invalid where its own message can't be read."""
    return DueSend(
        row.id,
        row.channel,
        row.recipient,
        row.recipient_name,
        row.locale,
        row.whom,
        live.route_key(row.route_id),
        live.message_key(row.message_id),
        live.gateway_key(row.gateway_id),
        row.revision_id,
        row.values or {},
        row.created_at,
        bool(row.event_id),
        row.test,
        row.expires_at,
        row.order_id,
        row.event_id or "",
        from_stored(Message, row.draft) if row.draft is not None else None,
        row.format_locale,
        row.question_id or "",
    )


def around_none(live: LiveSetup) -> SendContext:
    """A store's set-up, with nothing known of any send."""
    return SendContext(live.setup, live.routes, live.revision_ids, live.files, trial=live.trial)


def gather(connection: Connection, live: LiveSetup, rows: Sequence[SendRecord], payloads: Payloads) -> SendContext:
    """What is known around sends of one store, in at most sixteen queries, however many sends there are. Raises
    Invalid where a send's own message can't be read, and whatever an event of theirs raises: gather one by one then.
    """
    base = around_none(live)
    sends = {row.id: due_send(row, live) for row in rows}
    by_id = {row.id: row for row in rows}
    wanting = [by_id[id_] for id_, send in sends.items() if needs_event(send, base)]
    read, unreadable = _read(connection, live, wanting, payloads)
    looked_at = {id_: one for id_, one in read.items() if guards_again(sends[id_], base)}
    facts = _facts(connection, live, looked_at, by_id, sends)
    known = {id_: dataclasses.replace(one, facts=facts[id_]) if id_ in facts else one for id_, one in read.items()}
    asked = questions.by_ids(connection, {send.question for send in sends.values()} - {""})
    closed = {id_: _closed(row) for id_, row in asked.items() if row.state != QuestionState.OPEN}
    base = dataclasses.replace(base, events=known, unreadable=unreadable, closed=closed, sends=sends)
    return dataclasses.replace(base, suppressed=_suppressed(connection, live, sends.values(), base))


def _closed(row: QuestionRecord) -> str:
    """Why a question is no longer open."""
    if row.state == QuestionState.ANSWERED:
        return "The customer has answered the question already."
    return f"The question is no longer open: {LABELS[QuestionState(row.state)].lower()}. {row.why}".strip()


def _read(
    connection: Connection, live: LiveSetup, rows: Sequence[SendRecord], payloads: Payloads
) -> tuple[dict[str, EventFacts], dict[str, str]]:
    """The events of sends as they are read now, by send; and why others can't be read."""
    read: dict[str, EventFacts] = {}
    unreadable: dict[str, str] = {}
    if not rows:
        return read, unreadable
    found = events.by_ids(connection, {row.event_id for row in rows if row.event_id})
    there = [event for event in found.values() if live.source_key(event.source_id) in live.setup.sources]
    payloads.load(connection, live, there)
    asking = live.asking
    answered = inquiries.values(connection, {one.parent_id or one.id for one in there if one.source_id in asking})
    of_runs = sent.given_in_runs(connection, {row.run_id for row in rows if row.run_id})
    for row in rows:
        event = found.get(row.event_id or "")
        if event is None or live.source_key(event.source_id) not in live.setup.sources:
            continue
        source = live.setup.sources[live.source_key(event.source_id)]
        try:
            payload = payloads.of(event, answered.get(event.parent_id or event.id))
        except NotReadable as error:
            unreadable[row.id] = str(error.problem)
            continue
        reading, variables = work_out(source, live.setup, payload, given_values(row, event, of_runs))
        read[row.id] = EventFacts(event_of(event, source, payload), reading, variables)
    orders = [(found[row.event_id or ""], read[row.id].reading) for row in rows if row.id in read]
    know(connection, live, [(event, event.order_id, reading) for event, reading in orders])
    return read, unreadable


def event_of_send(connection: Connection, live: LiveSetup, row: SendRecord, payloads: Payloads) -> EventFacts | None:
    """The event of a send (a row of the send table) as it is read now; None where it, or its source, is gone.

    Raises LookupError with why it can't be read.
    """
    if not row.event_id:
        return None
    read, unreadable = _read(connection, live, [row], payloads)
    if row.id in unreadable:
        raise LookupError(unreadable[row.id])
    return read.get(row.id)


def given_values(
    row: SendRecord, event: EventRecord, of_runs: Mapping[tuple[int, int], Mapping[str, Any]]
) -> dict[str, Value] | None:
    """The values of a send that no mapping gives: what was typed for a manual run, what a notice is about."""
    if not row.run_id and event.type not in OURS:
        return None
    given = {name: value for name, value in (row.values or {}).items() if name in ("problem", "problem_link")}
    given |= of_runs.get((row.run_id or 0, row.order_id or 0), {})
    return {name: unpack(value) for name, value in given.items()}


def _facts(
    connection: Connection,
    live: LiveSetup,
    read: Mapping[str, EventFacts],
    rows: Mapping[str, Any],
    sends: Mapping[str, DueSend],
) -> Mapping[str, Any]:
    if not read:
        return {}
    found = events.by_ids(connection, {rows[id_].event_id for id_ in read})
    occurrences, leave = {}, {}
    for id_, one in read.items():
        event = found[rows[id_].event_id]
        occurrences[id_] = history.Occurrence(event.source_id, event.parent_id or event.id, one.reading)
        leave[id_] = frozenset({sends[id_].route})
    asking = {sends[id_].route for id_ in read}
    return history.of_many(connection, live, [live.routes[key] for key in asking], occurrences, leave)


def _suppressed(
    connection: Connection, live: LiveSetup, sends: Collection[DueSend], around: SendContext
) -> Mapping[str, str]:
    """Which of the addresses that these sends may go to must not be written to."""
    keys = set()
    for send in sends:
        if send.test:
            continue
        known = around.events.get(send.id)
        now = recipient_now(send, known, around)[0] if known is not None else ""
        keys |= {CHANNELS[send.channel].address_key(address) for address in (send.recipient, now) if address}
        keys |= {of_order(send.order_id)} - {""}
    return suppressions.among(connection, live.store_id, sorted(keys))
