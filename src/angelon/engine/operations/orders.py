"""Orders: notes that the team keeps about them, and orders that are one, or two, though their sources say otherwise."""

from __future__ import annotations

from collections.abc import Sequence

from angelon.core.payload.body import NotReadable
from angelon.core.planning.permission import of_order
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading
from angelon.db import locks
from angelon.db.log import events, orders
from angelon.db.log.orders import OrderBatch
from angelon.db.people import suppressions
from angelon.db.records import NewEvent
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import OrderRow
from angelon.engine.arrivals.event_reader import read_event
from angelon.engine.clock import Clock
from angelon.engine.orders.parcels import BY_HAND
from angelon.engine.planner.projection import project, reference, seen_of
from angelon.engine.unit import Work, found

NOTE, JOINED, PARTED, STATUS_SET = "note", "joined", "parted", "status set"
"""The actions that are kept among the changes of an order, each with a text."""
LONGEST = 2000
MOST_EVENTS = 500
"""Events of an order that are read once more where it becomes one with another, or two."""


def add_note(work: Work, order_id: int, text: str) -> None:
    """Keeps a note about an order, for the team; no customer reads it. Raises NotFound and Invalid."""
    found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    note = "\n".join(line.rstrip() for line in text.strip().splitlines())
    if not note:
        raise Invalid([Problem("text", "The note is empty.", "Write what the team should know.")])
    if len(note) > LONGEST:
        raise Invalid([Problem("text", f"The note has {len(note):,} characters; at most {LONGEST:,} are kept.")])
    work.record(NOTE, "order", str(order_id), None, {"text": note.replace("\x00", "\ufffd")})


def set_status(work: Work, clock: Clock, order_ids: Sequence[int], status: str, tell: bool) -> int:
    """Sets the status of orders by hand; gives how many it changed. With `tell`, routes that wait for the change, or
    for what it means, hear of it. Raises Invalid and NotFound.
    """
    status, changed = " ".join(status.split())[:100], 0
    if not status:
        raise Invalid([Problem("status", "The status is empty.", "Choose one of the store’s, or write another.")])
    made: list[NewEvent] = []
    for order_id in dict.fromkeys(order_ids):
        order = found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
        if order.status == status:
            continue
        changed += 1
        was, order.seen = order.status, [*(order.seen or []), [status, work.now.isoformat()]]
        order.status = status
        work.record(STATUS_SET, "order", str(order_id), None, {"text": f"Status {was or 'unknown'} → {status}"})
        newest = events.newest_of(work.connection, order_id) if tell else None
        source = work.live.setup.sources.get(work.live.source_key(order.source_id))
        meaning = source.meanings("status").get(status, "") if source is not None else ""
        for type_ in dict.fromkeys(["order.status_changed", meaning] if newest is not None else []):
            if type_:
                id_ = clock.new_id("ev", work.now)
                key = f"{BY_HAND}{order_id}>{type_}>{work.now:%Y%m%d%H%M%S%f}"
                made.append(NewEvent.derived(newest, id_, key, status, type_, work.now, order_id, was, status))
    if made:
        events.derive(work.connection, made)
    work.wake()
    return changed


def join(work: Work, live: LiveSetup, order_id: int, number: str) -> int:
    """Makes an order one with another of the store, whose number is given: one story, told once. The older one is kept;
    gives its id. Raises NotFound and Invalid.
    """
    one = found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    named = orders.numbered(work.session, work.store_id, number)
    others = [row for row in named if row.id != order_id]
    if len(others) != 1:
        what = (
            "Several other orders have that number." if others else f"There is no other order “{number.strip()[:60]}”."
        )
        hint = "Write the reference by which its source knows it." if others else "Look it up under Orders."
        raise Invalid([Problem("number", what, hint)])
    kept, other = sorted((one, others[0]), key=lambda row: row.id or 0)
    kept_id, other_id = kept.id or 0, other.id or 0
    _hold(work, kept, other)
    told = [*_read(work, live, kept_id), *_read(work, live, other_id)]
    stopped = suppressions.of_address(work.session, work.store_id, of_order(other_id))
    orders.take_together(work.connection, work.store_id, kept, other, work.now)
    if stopped:
        key, old = of_order(kept_id), stopped[0]
        suppressions.add(work.session, work.store_id, key, old.why, work.now, old.scope, old.origin)
    _retell(work, live, kept_id, told)
    text = f"Joined with order {other.number} of “{_name(live, other.source_id)}”."
    work.record(JOINED, "order", str(kept_id), None, {"text": text})
    return kept_id


def part(work: Work, live: LiveSetup, order_id: int, source: str) -> int:
    """Makes what a source tells of an order an order of its own, with all that was sent because of it; gives its id.
    Raises NotFound and Invalid.
    """
    order = found(orders.get(work.session, work.store_id, order_id), "There is no such order.")
    calls = [calls for id_, calls in orders.tellers(work.session, order)[1:] if live.source_key(id_) == source]
    if not calls:
        raise Invalid([Problem("source", "That source reports nothing of this order that could be split off.")])
    _hold(work, order)
    source_id = live.source_ids[source]
    events = _read(work, live, order_id)
    made = orders.take_apart(work.connection, order, source_id, calls[0])
    for name in calls[1:]:
        orders.call_the_same(work.connection, source_id, name, made, False)
    _retell(work, live, order_id, [one for one in events if one[0].source_id != source_id])
    _retell(work, live, made, [one for one in events if one[0].source_id == source_id])
    name = _name(live, source_id)
    work.record(PARTED, "order", str(order_id), None, {"text": f"What “{name}” reports is an order of its own again."})
    work.record(PARTED, "order", str(made), None, {"text": f"Parted from order {order.number}."})
    return made


def _name(live: LiveSetup, source_id: int) -> str:
    source = live.setup.sources.get(live.source_key(source_id))
    return source.name if source else "a source that is gone"


def _hold(work: Work, *rows: OrderRow) -> None:
    """Keeps planning from these orders meanwhile. Raises Invalid where one has too many events."""
    locks.hold(work.connection, locks.of_store(work.store_id))
    for row in rows:
        if len(orders.delivered_events(work.connection, int(row.id or 0), MOST_EVENTS + 1)) > MOST_EVENTS:
            what = f"Order {row.number} has more than {MOST_EVENTS} events; that is not done by hand."
            raise Invalid(
                [Problem("number", what, "Look whether its mapping takes every delivery for the same order.")]
            )


def _read(work: Work, live: LiveSetup, order_id: int) -> list[tuple[EventRecord, Reading | None]]:
    """An order's events and what each says; none where it can't be read any more."""
    made: list[tuple[EventRecord, Reading | None]] = []
    for row in orders.delivered_events(work.connection, order_id, MOST_EVENTS):
        try:
            made.append((row, read_event(work.session, live, row).reading))
        except NotReadable:
            made.append((row, None))
    return made


def _retell(work: Work, live: LiveSetup, order_id: int, events: Sequence[tuple[EventRecord, Reading | None]]) -> None:
    """Takes in once more what events say of an order, in the order in which they came. Where some can't be read any
    more, what is known stays and the others are taken into it.
    """
    read = sorted(
        ((row, said) for row, said in events if said is not None), key=lambda one: (one[0].received_at, one[0].id)
    )
    if not read:
        return
    seen = [seen_of(row, said) for row, said in read]
    ledger = OrderBatch(work.connection, work.store_id, (), seen)
    if len(read) == len(events):
        ledger.begin_anew(seen[0].key)
    for row, said in read:
        if (ledger.of((row.source_id, reference(said))) or {}).get("id") == order_id:
            project(ledger, live.setup.store.locale, row, said)
    ledger.write()
