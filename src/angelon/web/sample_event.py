"""The sample event: chosen once, kept from page to page, so that every page shows what things are for it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from flask import request
from flask import session as cookie

from angelon.core import event_types
from angelon.core.enriching import with_answers
from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.sending.due import EventFacts
from angelon.core.specs.source import Source
from angelon.db.log import events, inquiries, orders
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import EventRow
from angelon.engine.arrivals.event_reader import GONE, event_of, parts_of
from angelon.engine.orders.parcels import know
from angelon.web.numbers import whole
from angelon.web.services import session

REACH = 40
"""Events among which a sample event is chosen."""
OF_ORDER = 60
"""Events of one order that are looked at for one that fits."""
SHOWN = 12
"""Events that are offered where one is looked for."""
A_SOURCE = 14
"""Deliveries of a source that its mapping is shown for."""


@dataclass
class SampleEvent:
    """An event with its neighbours. Without an event there is nothing to show values of."""

    event: EventRow | None = None
    previous: str = ""
    next: str = ""
    position: int = 0
    total: int = 0
    number: str = ""
    find: str = ""
    """What was looked for, where an event was looked for by its order, customer or kind."""
    choices: list[events.OfOrder] = field(default_factory=list)
    """What was found."""
    payload: Any = None
    source: Source | None = None
    reading: Reading | None = None
    variables: Variables | None = None

    def facts(self) -> EventFacts | None:
        """The event as it is read; None where there is none, or it can't be read."""
        if self.event is None or self.source is None or self.reading is None or self.variables is None:
            return None
        return EventFacts(event_of(self.event, self.source, self.payload), self.reading, self.variables)


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which events a sample is chosen from: None for all sources, and for whatever was delivered."""

    sources: Collection[str] | None = None
    types: Collection[str] | None = None


def select(
    live: LiveSetup,
    sources: Collection[str] | None = None,
    types: Collection[str] | None = None,
    changed: Source | None = None,
) -> SampleEvent:
    """The sample event among the newest of these sources and types; the newest where the one that was chosen is not
    among them.

    `changed` is a source's spec as it is being edited, read in place of the stored one.
    """
    sample = select_many(live, {"": Wanted(sources, types)}, changed)[""]
    if sample.event is not None and (request.args.get("sample") or request.args.get("order")):
        cookie["sample"] = sample.event.id
    sample.find = request.args.get("find", "").strip()[:100]
    if sample.find:
        sample.choices = _found(live, sample.find, Wanted(sources, types))
    return sample


def select_many(live: LiveSetup, wanted: Mapping[str, Wanted], changed: Source | None = None) -> dict[str, SampleEvent]:
    """Sample events for several purposes at once, by the name given to each; as many queries as for one."""
    source_ids = sorted(live.source_ids.values())
    types = sorted({type_ for one in wanted.values() for type_ in one.types or ()})
    found = events.newest_of_each(
        session(), source_ids, types, any(not one.types for one in wanted.values()), REACH, True
    )
    asked = _asked(live)
    chosen = {name: _choose(live, one, found, asked) for name, one in wanted.items()}
    rows = events.rows_by_ids(session(), {sample.event_id for sample in chosen.values() if sample.event_id})
    samples = {}
    for name, choice in chosen.items():
        sample = samples[name] = SampleEvent(rows.get(choice.event_id))
        if sample.event is not None:
            sample.previous, sample.next = choice.previous, choice.next
            sample.position, sample.total = choice.position, choice.total
            key = live.source_key(sample.event.source_id)
            sample.source = changed if changed is not None and changed.key == key else live.setup.sources[key]
    read(live, samples.values())
    return samples


@dataclass(frozen=True, slots=True)
class _Choice:
    event_id: str = ""
    previous: str = ""
    next: str = ""
    position: int = 0
    total: int = 0


@dataclass(frozen=True, slots=True)
class _Asked:
    """The event that somebody asked for, and others of its order, newest first."""

    id: str = ""
    events: tuple[events.OfOrder, ...] = ()
    outright: bool = False
    """Whether it was asked for on this page, rather than on one before."""


def _asked(live: LiveSetup) -> _Asked:
    """By its id, or as whatever fits of an order; an event chosen on an earlier page is taken along."""
    outright = request.args.get("sample", "")
    source_ids = sorted(live.source_ids.values())
    order = whole(request.args.get("order"))
    if order is not None and not outright:
        found = events.found_of_orders(session(), [order], source_ids, (), OF_ORDER)
        return _Asked(found[0].id if found else "", tuple(found), True)
    id_ = outright or cookie.get("sample", "")
    row = events.rows_by_ids(session(), [id_]).get(id_) if id_ else None
    if row is None or row.source_id not in source_ids:
        return _Asked()
    one = events.OfOrder(row.id, row.source_id, row.type, row.name, row.received_at, "", "")
    others = (
        events.found_of_orders(session(), [row.order_id], source_ids, (), OF_ORDER) if row.order_id is not None else []
    )
    return _Asked(id_, (one, *(other for other in others if other.id != id_)), bool(outright))


def _choose(live: LiveSetup, wanted: Wanted, found: Sequence[events.Newest], asked: _Asked) -> _Choice:
    keys = live.source_ids if wanted.sources is None else wanted.sources
    source_ids = {live.source_ids[key] for key in keys if key in live.source_ids}
    types = set(wanted.types or ())
    fitting = [
        one.id for one in found if one.source_id in source_ids and (one.type in types if types else one.delivered)
    ]
    ids = list(dict.fromkeys(fitting))[:REACH]
    at = ids.index(asked.id) if asked.id in ids else None
    if at is None:
        of_source = [one for one in asked.events if one.source_id in source_ids]
        fits = next((one.id for one in of_source if not types or one.type in types), "")
        outright = asked.id if asked.outright and of_source and of_source[0].id == asked.id else ""
        if fits or outright:  # older than those that are gone through, or not of a kind that is waited for
            chosen = fits or outright
            if chosen in ids:
                return _at(ids, chosen)
            return _Choice(chosen, next=ids[0] if ids else "", total=len(ids))
    return _at(ids, ids[at or 0]) if ids else _Choice()


def _at(ids: Sequence[str], id_: str) -> _Choice:
    at = ids.index(id_)
    previous = ids[at + 1] if at + 1 < len(ids) else ""
    return _Choice(id_, previous, ids[at - 1] if at else "", at + 1, len(ids))


def _found(live: LiveSetup, words: str, wanted: Wanted) -> list[events.OfOrder]:
    """Events by the order's number, the customer, or what their kind is called: those that fit first."""
    keys = live.source_ids if wanted.sources is None else wanted.sources
    source_ids = sorted(live.source_ids[key] for key in keys if key in live.source_ids)
    known = [*event_types.LABELS, *(t for source in live.setup.sources.values() for t in source.event_names.values())]
    kinds = {type_ for type_ in known if words.lower() in event_types.label(type_).lower() or words.lower() == type_}
    if kinds:
        return events.newest_of_types(session(), source_ids, kinds, SHOWN)
    matching = [order.id for order, _, _ in orders.listed(session(), live.store_id, words, 20) if order.id is not None]
    found = events.found_of_orders(session(), matching, source_ids, wanted.types or (), SHOWN) if matching else []
    return found or (events.found_of_orders(session(), matching, source_ids, (), SHOWN) if matching else [])


def recent_of(source_id: int) -> list[EventRow]:
    """The newest delivery of a source, as a list of at most one."""
    return events.recent(session(), source_id, 1)


def samples(live: LiveSetup, source: Source, source_id: int, most: int = A_SOURCE) -> list[SampleEvent]:
    """A source's pinned and newest deliveries, each read as the source stands. Names take turns."""
    found: list[SampleEvent] = []
    of_name: dict[str, int] = {}
    for row in events.pinned_and_newest(session(), source_id, most * 2):
        of_name[row.name] = of_name.get(row.name, 0) + 1
        if len(found) < most and (of_name[row.name] <= most * 2 // 3 or len(of_name) == 1):
            found.append(SampleEvent(row, source=source))
    read(live, found)
    return found


def read(live: LiveSetup, found: Iterable[SampleEvent]) -> None:
    """Reads sample events as their sources stand, in two queries however many they are."""
    there = [one for one in found if one.event is not None and one.source is not None]
    rows = [one.event for one in there if one.event is not None]
    deliveries = events.deliveries(session().connection(), {row.delivery_id for row in rows})
    asking = any(row.source_id in live.asking for row in rows)
    answered = inquiries.values(session().connection(), {row.parent_id or row.id for row in rows}) if asking else {}
    parsed: dict[tuple[str, int], list[Any] | NotReadable] = {}
    for one in there:
        _read_one(live, one, deliveries, answered, parsed)
    known = [(one.event, one.reading) for one in there if one.event is not None and one.reading is not None]
    know(session().connection(), live, [(event, event.order_id, reading) for event, reading in known])


def _read_one(
    live: LiveSetup,
    sample: SampleEvent,
    deliveries: Mapping[str, Any],
    answered: Mapping[str, Mapping[str, Any]],
    parsed: dict[tuple[str, int], list[Any] | NotReadable],
) -> None:
    event, source = sample.event, sample.source
    assert event is not None
    assert source is not None
    key = (event.delivery_id, id(source))
    if key not in parsed:
        parsed[key] = _parts(source, deliveries.get(event.delivery_id))
    parts = parsed[key]
    if isinstance(parts, NotReadable):
        sample.number = "can’t be read"
        return
    part = parts[event.item] if event.item < len(parts) else parts[0]
    sample.payload = with_answers(part, answered.get(event.parent_id or event.id, {}))
    sample.reading, sample.variables = work_out(source, live.setup, sample.payload)
    sample.number = sample.reading.number or event.name


def _parts(source: Source, delivery: Any) -> list[Any] | NotReadable:
    if delivery is None:
        return GONE
    try:
        return parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})
    except NotReadable as error:
        return error
