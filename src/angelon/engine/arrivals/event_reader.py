"""Reads stored events: from a delivery's bytes to its payload, its order and its variables. Whoever needs that asks
here.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.deliveries import cloud_event, split
from angelon.core.enriching import with_answers
from angelon.core.payload.body import NotReadable, parse_body
from angelon.core.planning.inputs import Event
from angelon.core.planning.plan import work_out
from angelon.core.problems import Problem
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.asked import Asked
from angelon.core.specs.source import Source
from angelon.core.values import Value
from angelon.db.log import events, inquiries
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup

MOST_BYTES = 32_000_000
"""Bytes of deliveries whose parsed form is kept."""
MOST_KEPT = 512
MOST_READ = 20_000
"""Bytes of a delivery up to which an event is kept as it was read."""
GONE = NotReadable(Problem("body", "The delivery is no longer kept.", ""), 410)


@dataclass(frozen=True, slots=True)
class ReadEvent:
    """A stored event with all that its delivery says, as the source is mapped now."""

    event: Event
    reading: Reading
    variables: Variables


def parts_of(source: Source, body: bytes, content_type: str, headers: Mapping[str, str]) -> list[Any]:
    """The orders of a delivery, or its whole payload as the only one. Raises NotReadable."""
    return split(source, cloud_event({"content-type": content_type, **headers}, parse_body(body, content_type)))


class Payloads:
    """The payloads of stored deliveries, each parsed once however many of its events are read. Not for several
    threads.
    """

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self._most = most_bytes
        self._kept: OrderedDict[str, tuple[Source, list[Any] | NotReadable, int]] = OrderedDict()
        self._bytes = 0
        self.parsed = 0

    def load(self, connection: Connection, live: LiveSetup, rows: Collection[EventRecord]) -> None:
        """Fetches and parses the deliveries of these events that are not at hand, in one query."""
        wanted: dict[str, Source] = {}
        for row in rows:
            source = live.setup.sources[live.source_key(row.source_id)]
            held = self._kept.get(row.delivery_id)
            if held is not None and held[0] is source:
                self._kept.move_to_end(row.delivery_id)
            else:
                wanted[row.delivery_id] = source
        if not wanted:
            return
        found = events.deliveries(connection, wanted)
        for id_, source in wanted.items():
            delivery = found.get(id_)
            parts: list[Any] | NotReadable
            try:
                parts = (
                    GONE
                    if delivery is None
                    else parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})
                )
            except NotReadable as error:
                parts = error
            self.parsed += 1
            self._keep(id_, source, parts, len(delivery.body) if delivery is not None else 0)

    def _keep(self, id_: str, source: Source, parts: list[Any] | NotReadable, size: int) -> None:
        old = self._kept.pop(id_, None)
        self._bytes += size - (old[2] if old else 0)
        self._kept[id_] = (source, parts, size)

    def trim(self) -> None:
        """Lets go of what was used longest ago, down to the bounds."""
        while self._kept and (self._bytes > self._most or len(self._kept) > MOST_KEPT):
            _, (_, _, size) = self._kept.popitem(last=False)
            self._bytes -= size

    def size_of(self, row: EventRecord) -> int:
        """Bytes of an event's delivery, which was loaded."""
        return self._kept[row.delivery_id][2]

    def of(self, row: EventRecord, answered: Mapping[str, Any] | None = None) -> Any:
        """The value that an event's paths look at, with what was answered about it elsewhere. Raises NotReadable."""
        _, parts, _ = self._kept[row.delivery_id]
        if isinstance(parts, NotReadable):
            raise parts
        if row.item >= len(parts):
            raise NotReadable(
                Problem(
                    "body",
                    f"The delivery has no order number {row.item + 1}, as the source is set up now.",
                    "Check the path of its orders, on the source's page.",
                ),
                400,
            )
        return with_answers(parts[row.item], answered or {})


class Read(NamedTuple):
    """An event as it was read: its payload, the order that it is about, and its variables, worked out."""

    payload: Any
    reading: Reading
    variables: Variables


class Readings:
    """Events that a handler is asked about, as planning has read them: whoever looks at one next, in this process, need
    not read it again. For several threads: nothing of one is worked out later.
    """

    def __init__(self) -> None:
        self._kept: OrderedDict[str, tuple[LiveSetup, Read]] = OrderedDict()
        self._changing = threading.Lock()

    def keep(self, live: LiveSetup, row: EventRecord, read: Read) -> None:
        """Nothing is kept of an event for which look-ups are asked as well: their answers are read with it."""
        if row.source_id in live.asking:
            return
        read.variables.values(read.variables.names())
        with self._changing:
            self._kept[row.id] = live, Read(read.payload, read.reading.anew(), read.variables)
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)

    def of(self, live: LiveSetup, row: EventRecord) -> Read | None:
        """As it was read under the same set-up; None where it was not, or nobody waits for it any more."""
        waits = row.planned_at is None or any(one["outcome"] == "waits" for one in row.decisions or [])
        with self._changing:
            found, read = self._kept.get(row.id, (None, None))
        if read is None or found is not live or not waits:
            return None
        return Read(read.payload, read.reading.anew(), read.variables)


def payload_of(session: Session, live: LiveSetup, row: EventRecord, changed: Source | None = None) -> Any:
    """The value that one stored event's paths look at. `changed` stands in place of its source. Raises NotReadable."""
    source = changed if changed is not None else live.setup.sources.get(live.source_key(row.source_id))
    if source is None:
        raise NotReadable(Problem("source", "Its source is gone.", ""), 410)
    connection = session.connection()
    delivery = events.deliveries(connection, [row.delivery_id]).get(row.delivery_id)
    if delivery is None:
        raise GONE
    root = row.parent_id or row.id
    answered = inquiries.values(connection, [root]).get(root) if row.source_id in live.asking else None
    parts = parts_of(source, delivery.body, delivery.content_type, delivery.headers or {})
    return with_answers(parts[row.item] if row.item < len(parts) else parts[0], answered or {})


def event_of(
    row: EventRecord,
    source: Source,
    payload: Any,
    unanswered: Mapping[str, str] | None = None,
    asked: Mapping[str, Asked] | None = None,
) -> Event:
    """A row of the event table as planning takes it, with what handlers have asked for about it."""
    happened = (row.id, row.type, row.name, source.key, payload, row.received_at, row.was, row.now)
    return Event(*happened, unanswered or {}, asked or {})


def read_event(
    session: Session, live: LiveSetup, row: EventRecord, given: Mapping[str, Value] | None = None
) -> ReadEvent:
    """One stored event, read as its source is mapped now. `given` stand in place of recipes. Raises NotReadable."""
    payload = payload_of(session, live, row)
    source = live.setup.sources[live.source_key(row.source_id)]
    reading, variables = work_out(source, live.setup, payload, given)
    return ReadEvent(event_of(row, source, payload), reading, variables)


def within_bytes(
    sizes: Mapping[str, int], rows: Sequence[EventRecord], most: int = MOST_BYTES
) -> Sequence[EventRecord]:
    """The first of these events whose deliveries have so many bytes together, one at the least."""
    seen: set[str] = set()
    total = 0
    for number, row in enumerate(rows):
        if row.delivery_id in seen:
            continue
        seen.add(row.delivery_id)
        total += sizes.get(row.delivery_id, 0)
        if total > most and number:
            return rows[:number]
    return rows


def identity_of(row: EventRecord, reading: Reading) -> str:
    """What a customer is told apart by: email, else phone, else the source's own id; empty where the event
    names none.
    """
    email, phone, own = reading.text("email"), reading.text("phone"), reading.text("customer_id")
    return (
        f"email:{email.lower()}" if email else f"phone:{phone}" if phone else f"{row.source_id}:{own}" if own else ""
    )[:300]
