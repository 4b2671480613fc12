"""All that is kept about one customer: given out as data, or erased so that figures stay."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeVar

from sqlalchemy import Connection, Table, delete, or_, union_all, update
from sqlalchemy import select as core_select

from angelon.core.questions import ANSWERED_EVENT, LATE_EVENT, QuestionState
from angelon.core.shape import Shape
from angelon.core.states import State
from angelon.core.values import pack
from angelon.db.derived.shapes import SHAPE
from angelon.db.lists import not_by_index
from angelon.db.log import archive, documents, imports, parcels, questions
from angelon.db.log.archive import NotThere, Place
from angelon.db.log.downloads import DOWNLOAD
from angelon.db.log.events import DELIVERY, EVENT, of_delivery
from angelon.db.log.inquiries import INQUIRY
from angelon.db.log.orders import ORDER
from angelon.db.log.questions import QUESTION
from angelon.db.log.sends import ARCHIVED, CONTENT, SEND, said_of
from angelon.db.people import consents, contact_values
from angelon.db.people.contact_tags import CONTACT, TAG
from angelon.db.rows import rows_of
from angelon.db.tables import (
    AttemptRow,
    ChangeRow,
    CheckRow,
    ConsentRow,
    ContentRow,
    RunRow,
    SuppressionRow,
    table_of,
)
from angelon.db.upkeep import test_answers

ATTEMPT = table_of(AttemptRow)
CONSENT = table_of(ConsentRow)
SUPPRESSION = table_of(SuppressionRow)
CHANGE = table_of(ChangeRow)
CHECK = table_of(CheckRow)
RUN = table_of(RunRow)
WAITS = (State.SCHEDULED, State.RETRYING, State.HELD)
ERASED = "The person’s data was erased."
IDENTIFYING = ("name", "email", "phone", "country", "language")
MOST_SENDS = 10_000
AT_ONCE = 5_000
"""Ids in one statement."""
IdT = TypeVar("IdT")


def _parts(ids: Sequence[IdT]) -> Iterator[Sequence[IdT]]:
    for start in range(0, len(ids), AT_ONCE):
        yield ids[start : start + AT_ONCE]


class About:
    """Which rows are a customer's."""

    def __init__(
        self,
        connection: Connection,
        store_id: int,
        contact: Any,
        address_keys: Collection[str],
        found: Found | None = None,
    ) -> None:
        """`found` is which sends went to the customer's addresses, where that was looked for before."""
        self.connection, self.store_id, self.contact, self._found = connection, store_id, contact, found
        self.address_keys = list(address_keys)
        self.addresses = [one for one in (contact.email, contact.phone) if one]
        self.orders = list(
            connection.execute(core_select(ORDER.c.id).where(ORDER.c.contact_id == contact.id)).scalars()
        )

    @cached_property
    def send_ids(self) -> list[str]:
        """Those for the customer's orders, whoever they went to, and those to the customer's addresses."""
        run, before = self.connection.execute, self._found
        ids = set(run(core_select(SEND.c.id).where(SEND.c.order_id.in_(self.orders))).scalars())
        ids |= found_to(self.connection, self.store_id, self.addresses, before.until if before else None)
        for part in _parts(sorted(before.ids) if before else ()):  # whose address was corrected since is another's
            still = (SEND.c.id.in_(part), SEND.c.recipient.in_(self.addresses))
            ids |= set(run(core_select(SEND.c.id).where(*still)).scalars())
        return sorted(ids)

    @property
    def sends(self) -> Iterator[Sequence[str]]:
        """The ids of these sends, a part at a time."""
        return _parts(self.send_ids)

    @cached_property
    def event_ids(self) -> list[str]:
        """Those of the customer's orders, and those without an order of which a send went to the customer, oldest
        first.
        """
        columns, run = core_select(EVENT.c.received_at, EVENT.c.id), self.connection.execute
        found = {(row.received_at, row.id) for row in run(columns.where(EVENT.c.order_id.in_(self.orders)))}
        for ids in self.sends:
            theirs = core_select(SEND.c.event_id).where(SEND.c.id.in_(ids), SEND.c.event_id.is_not(None))
            alone = columns.where(EVENT.c.id.in_(theirs), EVENT.c.order_id.is_(None))
            found |= {(row.received_at, row.id) for row in run(alone)}
        return [id_ for _, id_ in sorted(found)]


@dataclass(frozen=True)
class Found:
    """The sends to somebody's addresses; those made from `until` on (aware) may be missing."""

    ids: set[str]
    until: dt.datetime


def found_to(
    connection: Connection, store_id: int, addresses: Collection[str], since: dt.datetime | None = None
) -> set[str]:
    """The ids of the sends to these addresses, of those made since a moment. Without one it goes through all of the
    store's: not for a transaction that keeps others from writing.
    """
    mine = [SEND.c.store_id == store_id, SEND.c.recipient.in_(addresses)]
    if since is not None:
        mine.append(SEND.c.created_at >= since)
    return set(connection.execute(core_select(SEND.c.id).where(*mine)).scalars()) if addresses else set()


def collect(about: About, read: Callable[[Place], ContentRow]) -> dict[str, Any]:
    """Everything but what the events' deliveries say, as plain data; times are aware. `read` gives what is in the
    archive, or raises NotThere.
    """
    run, contact = about.connection.execute, about.contact
    rows = (row for ids in about.sends for row in run(core_select(SEND).where(SEND.c.id.in_(ids))))
    sends = sorted(rows, key=lambda row: (row.created_at, row.id))[:MOST_SENDS]
    texts = _texts(about, {row.id for row in sends}, read)
    return {
        "person": {name: getattr(contact, name) for name in (*IDENTIFYING, "first_seen")},
        "tags": list(run(core_select(TAG.c.tag).where(TAG.c.contact_id == contact.id)).scalars()),
        "kept": [
            {"name": name, "value": pack(one.value), "since": one.since}
            for name, seen in contact_values.of(about.connection, [contact.id]).get(contact.id, {}).items()
            for one in seen
        ],
        "orders": [
            {
                "number": row.number,
                "placed_at": row.placed_at,
                "status": row.status,
                "total": row.total,
                "read": row.read,
            }
            for row in run(core_select(ORDER).where(ORDER.c.id.in_(about.orders)).order_by(ORDER.c.id))
        ],
        "sends": [
            {
                "created_at": row.created_at,
                "channel": row.channel,
                "to": row.recipient,
                "state": row.state,
                "reason": row.reason,
                "subject": row.subject,
                "text": texts.get(row.id, ""),
            }
            for row in sends
        ],
        "parcels": [
            {"number": one.row.number, "carrier": one.row.carrier, "told": one.row.told}
            for of_order in parcels.of_orders(about.connection, about.orders).values()
            for one in of_order
        ],
        "documents": [
            {"number": row.name, "kind": row.kind, "day": row.day, "buyer": row.buyer, "to": row.email}
            for of_order in documents.of_orders(about.connection, about.orders).values()
            for row in of_order
        ],
        "questions": [
            {"asked_at": row.asked_at, "outcome": row.outcome, "said": row.said, "by": row.way}
            for rows in questions.of_orders(about.connection, about.orders).values()
            for row in rows
        ],
        "consents": [
            {"channel": row.channel, "granted": row.granted, "at": row.at, "where": row.given_at, "words": row.words}
            for row in run(core_select(CONSENT).where(*_of(CONSENT, about)))
        ],
        "suppressions": [
            {"address": row.address_key, "why": row.why, "since": row.since}
            for row in run(core_select(SUPPRESSION).where(*_of(SUPPRESSION, about)))
        ],
    }


def _texts(about: About, ids: set[str], read: Callable[[Place], ContentRow]) -> dict[str, str]:
    """What sends said, by their ids."""
    rows = about.connection.execute(core_select(CONTENT).where(CONTENT.c.send_id.in_(list(ids)))) if ids else ()
    found = {one.send_id: one for one in rows_of(ContentRow, rows)}
    texts: dict[str, str] = {}
    for place in archive.places_of(about.connection, ids - found.keys()):
        try:
            found[place.send_id] = read(place)
        except NotThere as error:
            texts[place.send_id] = f"[{error}]"
    said = said_of(about.connection, found.values())
    return texts | {
        id_: one.text if one.page is not None else "[It can’t be read any more.]" for id_, one in said.items()
    }


_WITH_DELIVERY = EVENT.join(DELIVERY, of_delivery(DELIVERY.c.id))
_ITSELF_OR_FIRST = (EVENT.c.id, EVENT.c.parent_id)


def in_the_way(about: About) -> str:
    """Why nothing can be erased just now; empty where it can."""
    sending = core_select(SEND.c.id).where(SEND.c.state == State.SENDING).limit(1)
    if any(about.connection.execute(sending.where(SEND.c.id.in_(ids))).first() for ids in about.sends):
        return "One of the sends is being handed over at this moment."
    deliveries = core_select(EVENT.c.delivery_id).where(EVENT.c.order_id.in_(about.orders))  # with others' orders, too
    came = core_select(EVENT.c.id).select_from(_WITH_DELIVERY).where(DELIVERY.c.id.in_(deliveries))
    waits = [core_select(EVENT.c.id).where(one.in_(came), EVENT.c.planned_at.is_(None)) for one in _ITSELF_OR_FIRST]
    if about.connection.execute(union_all(*waits)).first():
        return "One of the events is being planned at this moment."
    return ""


def checks_with(about: About) -> list[tuple[str, str]]:
    """(key, name) of the checks that hold one of the customer's addresses: they are the team's, and stay."""
    rows = about.connection.execute(core_select(CHECK.c.key, CHECK.c.spec).where(CHECK.c.store_id == about.store_id))
    return [
        (row.key, row.spec.get("name", row.key)) for row in rows if any(one in str(row.spec) for one in about.addresses)
    ]


def erase(about: About, now: dt.datetime) -> dict[str, int]:
    """Takes what says who somebody is; says how much of each. What is to be sent is not sent. Times, states, numbers
    and totals stay, and so do suppressions, without which the person might be written to again.
    """
    run, words = about.connection.execute, [one for one in (*about.addresses, about.contact.name) if one]
    found = {"orders": len(about.orders), "sends": len(about.send_ids), "events": 0}
    events = about.event_ids
    for ids in about.sends:
        _from_runs(about, ids)
        run(delete(CONTENT).where(CONTENT.c.send_id.in_(ids)))
        run(delete(ARCHIVED).where(ARCHIVED.c.send_id.in_(ids)))
        run(update(ATTEMPT).where(ATTEMPT.c.send_id.in_(ids)).values(answer=""))
        run(delete(DOWNLOAD).where(DOWNLOAD.c.send_id.in_(ids)))
        of_sends = update(SEND).where(SEND.c.id.in_(ids))
        stopped = {"state": State.SKIPPED, "reason": ERASED, "settled_at": now}
        run(of_sends.where(SEND.c.state.in_(WAITS)).values(**stopped))
        for word in words:
            run(of_sends.where(SEND.c.reason.contains(word, autoescape=True)).values(reason=ERASED))
        emptied = {"subject": "", "values": None, "trace": None, "draft": None}
        run(of_sends.where(not_by_index(SEND.c.order_id).in_(about.orders)).values(**emptied))
        theirs = or_(SEND.c.whom == "customer", SEND.c.recipient.in_(about.addresses))
        run(of_sends.where(theirs).values(recipient="", recipient_name="", **emptied))
    for part in _parts(events):
        run(delete(INQUIRY).where(INQUIRY.c.event_id.in_(part)))
        of_events = core_select(EVENT.c.delivery_id).where(EVENT.c.id.in_(part))
        with_text = (DELIVERY.c.id.in_(of_events), DELIVERY.c.body != b"")
        found["events"] += run(update(DELIVERY).where(*with_text).values(body=b"", headers=None)).rowcount
    of_orders = update(EVENT).where(EVENT.c.order_id.in_(about.orders))
    run(of_orders.values(decisions=None, pinned=False, problem=""))
    run(of_orders.where(EVENT.c.type.in_((ANSWERED_EVENT, LATE_EVENT))).values(name=""))
    run(of_orders.where(EVENT.c.was.startswith("pc-")).values(name="", was=""))
    parcels.forget(about.connection, about.orders)
    documents.erase(about.connection, about.orders)
    imports.drop_content(about.connection, imports.with_content(about.connection, about.store_id))  # may name anybody
    theirs = QUESTION.c.order_id.in_(about.orders)
    run(update(QUESTION).where(theirs).values(said="", unmatched="", by="", reply_key=""))
    still_open = (theirs, QUESTION.c.state == QuestionState.OPEN)
    withdrawn = {"state": QuestionState.WITHDRAWN.value, "closed_at": now, "why": ERASED}
    run(update(QUESTION).where(*still_open).values(**withdrawn))
    run(update(ORDER).where(ORDER.c.id.in_(about.orders)).values(read={}, bought=None))
    run(delete(TAG).where(TAG.c.contact_id == about.contact.id))
    contact_values.forget(about.connection, about.contact.id)
    found["consents"] = run(delete(CONSENT).where(*_of(CONSENT, about))).rowcount
    keys = [str(one) for one in (*about.orders, about.contact.id)]
    notes = CHANGE.c.kind.in_(("order", "person")) & CHANGE.c.key.in_(keys)
    run(update(CHANGE).where(CHANGE.c.store_id == about.store_id, notes).values(before=None, after={"text": ERASED}))
    of_addresses = CHANGE.c.key.in_([*about.address_keys, *about.addresses])
    _from_corrections(about)
    named = (CHANGE.c.store_id == about.store_id, CHANGE.c.kind == "address", of_addresses)
    run(update(CHANGE).where(*named).values(key="", before=None, after=None))
    _from_shapes(about)
    test_answers.forget(about.connection, about.store_id)
    empty = dict.fromkeys(IDENTIFYING, "")
    run(
        update(CONTACT)
        .where(CONTACT.c.id == about.contact.id)
        .values(identity=f"erased-{about.contact.id}", first_seen=None, **empty)
    )
    return found


def _of(table: Table, about: About) -> Sequence[Any]:
    return table.c.store_id == about.store_id, consents.of(table, about.address_keys)


def _from_corrections(about: About) -> None:
    """Which address a send had, and which it was given: where the send is theirs, or one of the addresses was."""
    by_hand = core_select(CHANGE).where(CHANGE.c.store_id == about.store_id, CHANGE.c.kind == "send")
    ids, run = set(about.send_ids), about.connection.execute
    found = [
        row.id
        for row in run(by_hand)
        if row.key in ids or any(one in str((row.before, row.after)) for one in about.addresses)
    ]
    for part in _parts(found):
        run(update(CHANGE).where(CHANGE.c.id.in_(part)).values(before=None, after=None))


def _from_runs(about: About, send_ids: Collection[str]) -> None:
    """What was answered and came of manual runs that only concern this person; in others the person's part."""
    runs = core_select(SEND.c.run_id).where(SEND.c.id.in_(send_ids), SEND.c.run_id.is_not(None))
    for row in about.connection.execute(core_select(RUN).where(RUN.c.id.in_(runs))).all():
        results = [one for one in row.results or [] if not any(word in str(one) for word in about.addresses)]
        about.connection.execute(update(RUN).where(RUN.c.id == row.id).values(results=results))


def _from_shapes(about: About) -> None:
    """The newest value that a source's fields have had may be this person's: the next delivery brings another."""
    sources = core_select(ORDER.c.source_id).where(ORDER.c.id.in_(about.orders))
    for row in about.connection.execute(core_select(SHAPE).where(SHAPE.c.source_id.in_(sources))).all():
        shape = Shape.of(row.spec)
        for seen in shape.paths.values():
            seen.sample = ""
        same = (SHAPE.c.source_id == row.source_id, SHAPE.c.name == row.name)
        about.connection.execute(update(SHAPE).where(*same).values(spec=shape.plain()))
