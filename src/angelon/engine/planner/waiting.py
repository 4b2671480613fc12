"""What waits for an answer from elsewhere, as a batch of planning sees it: which decisions, which events, behind what;
and the inquiries that its events give rise to.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import Connection

from angelon.core.enriching import wanted
from angelon.core.planning.awaiting import pending
from angelon.core.planning.plan import Decision
from angelon.core.reading import Reading
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.origins import origin
from angelon.core.specs.source import Source
from angelon.db.log import events, inquiries
from angelon.db.log.inquiries import HANDLER, LOOK_UP, MINE, AboutEvent
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup

CALLED_FOR = dt.timedelta(minutes=15)
"""How long a handler's answer is waited for, its tries and a breaker that is open included."""
ORDER = "order:"
"""How `event.waits_for` begins where an answer says which order it is about."""
ANSWERS = "answers"


def place(row: EventRecord) -> tuple[dt.datetime, bool, str]:
    """By which an event (a row of the event table) comes before another of the same order."""
    return row.received_at, row.parent_id is not None, row.id


@dataclass(slots=True)
class _Pending:
    """An event with decisions that wait."""

    place: tuple[dt.datetime, bool, str]
    order_id: int | None
    contact_id: int | None
    routes: set[str]


class Waiting:
    """Made for one batch of one store."""

    def __init__(self, connection: Connection, live: LiveSetup, now: dt.datetime) -> None:
        self._connection, self._live, self._now = connection, live, now
        self._asking = live.asking
        self._listening = {type_ for active in live.setup.routes if active.route.handler for type_ in active.route.when}
        self._about: dict[str, AboutEvent] = {}
        self._pending: dict[str, _Pending] = {}
        self._blocked: list[EventRecord | _Blocked] = []
        self._new: list[dict[str, Any]] = []
        self._poked: set[str] = set()
        self._released: set[str] = set()
        self._batch: set[str] = set()

    def load(self, rows: Sequence[EventRecord]) -> None:
        """Reads what was asked about these events."""
        self._batch = {row.id for row in rows}
        ids = {row.parent_id or row.id for row in rows if row.source_id in self._asking or row.waits_for}
        ids |= {row.id for row in rows if row.type in self._listening or row.waits_for}
        self._about = inquiries.about(self._connection, ids)
        sources = {row.source_id for row in rows if self._identifying(row.source_id) or row.waits_for.startswith(ORDER)}
        self._blocked = [*events.blocked(self._connection, sources)]

    def load_pending(self, order_ids: Collection[int], contact_ids: Collection[int]) -> None:
        """Reads which decisions about these orders wait; those of their customers' other orders, too, where a route
        sends once a customer.
        """
        if not self._asking and not self._listening and not any(self._about):
            return
        once = any(active.route.once == "customer" for active in self._live.setup.routes)
        for row in events.awaiting(self._connection, order_ids, contact_ids if once else ()):
            routes = {one["route"] for one in row.decisions or [] if one["outcome"] == "waits"}
            self._pending[row.id] = _Pending(place(row), row.order_id, row.contact_id, routes)

    def _identifying(self, source_id: int) -> frozenset[str]:
        return self._live.identifying(self._live.source_key(source_id)) if source_id in self._asking else frozenset()

    def of(self, row: EventRecord) -> AboutEvent:
        """What was asked about an event: look-ups about its delivery, handlers about itself."""
        own = self._about.get(row.id)
        if row.parent_id is None:
            return own or AboutEvent()
        root = self._about.get(row.parent_id) or AboutEvent()
        mine = own or AboutEvent()
        return AboutEvent(root.answered, root.unanswered, root.open, mine.asked, mine.called)

    def ask(self, row: EventRecord, source: Source) -> None:
        """Makes the inquiries that an event gives rise to and that are not made yet; handlers are called once every
        look-up is settled.
        """
        about = self._about.setdefault(row.id, AboutEvent())
        known, open_ = about.known, self.of(row).open
        if row.parent_id is None:
            for one in wanted(source.enrichments, row.name):
                if (LOOK_UP, one.name) not in known:
                    until = self._now + dt.timedelta(hours=one.retry.give_up_after_hours)
                    self._add(row, LOOK_UP, one.name, origin(one.url), self._now, until)
                    about.open[one.name] = inquiries.waits_for(LOOK_UP, one.name)
        handlers = self._live.handlers_for(row.type, source.key, row.received_at) if self._listening else []
        for name in dict.fromkeys(route.handler for route in handlers):
            if (HANDLER, name) in known:
                continue
            until = self._now + CALLED_FOR + (_longest(source.enrichments) if open_ else dt.timedelta())
            self._add(row, HANDLER, name, MINE + name, until if open_ else self._now, until)
            about.called[name] = inquiries.waits_for(HANDLER, name)

    def _add(
        self, row: EventRecord, kind: str, name: str, target: str, due_at: dt.datetime, until: dt.datetime
    ) -> None:
        self._new.append(inquiries.new(row.id, kind, name, row.source_id, target, due_at, until))

    def behind(self, row: EventRecord, reading: Reading, source: Source) -> str:
        """What keeps an event from being planned at all, as `event.waits_for` has it; empty where nothing does."""
        if row.parent_id is not None:
            return ""
        open_ = self.of(row).open.keys() & self._identifying(row.source_id)
        unsaid = bool(open_ & self._live.naming(source.key))
        mine = ORDER + ("" if unsaid else reading.reference)
        earlier = any(
            one.source_id == row.source_id
            and (one.received_at, one.id) < (row.received_at, row.id)
            and (one.waits_for == ORDER or unsaid or one.waits_for == mine)
            for one in self._blocked
        )
        return mine if open_ or earlier else ""

    def block(self, row: EventRecord, waits_for: str) -> None:
        """An event is not processed yet: what comes later about its order stays behind it."""
        self._blocked = [one for one in self._blocked if one.id != row.id] + [
            _Blocked(row.id, row.source_id, row.received_at, waits_for)
        ]

    def unblock(self, row: EventRecord) -> None:
        """An event that was waited for is planned: those behind it are looked at again."""
        self._blocked = [one for one in self._blocked if one.id != row.id]
        if not row.waits_for.startswith(ORDER):
            return
        for one in self._blocked:
            same = one.waits_for == row.waits_for or ORDER in (one.waits_for, row.waits_for)
            if one.source_id == row.source_id and same and one.id not in self._batch:
                self._released.add(one.id)

    def awaits(self, row: EventRecord, source: Source, order_id: int | None, contact_id: int | None) -> dict[str, str]:
        """The routes whose decision about an event waits, by key, and what each waits for."""
        about = self.of(row)
        if not about.open and not about.called and not self._pending:
            return {}
        found = {}
        for active in self._live.listening(row.type):
            route = active.route
            if source.key not in route.sources:
                continue
            earlier = self._earlier(row, order_id, contact_id if route.once == "customer" else None)
            uses = self._live.look_ups_of(route, source.key) if about.open else ()
            why = pending(route, uses, about.open, about.called.get(route.handler, ""), earlier)
            if why:
                found[route.key] = why
        return found

    def _earlier(self, row: EventRecord, order_id: int | None, contact_id: int | None) -> Mapping[str, str]:
        if not self._pending:
            return {}
        zone = ZoneInfo(self._live.setup.store.timezone)
        mine = place(row)
        return {
            route: f"{one.place[0].astimezone(zone):%-d %B %H:%M}"
            for one in self._pending.values()
            if one.place < mine
            and (
                (order_id is not None and one.order_id == order_id)
                or (contact_id is not None and one.contact_id == contact_id)
            )
            for route in one.routes
        }

    def decided(
        self, row: EventRecord, decisions: Sequence[Decision], order_id: int | None, contact_id: int | None
    ) -> bool:
        """Takes what was decided about an event; says whether something waits. Where a decision no longer waits, those
        that wait for it are looked at again.
        """
        routes = {one.route for one in decisions if one.outcome == "waits"}
        before = self._pending.pop(row.id, None)
        if routes:
            self._pending[row.id] = _Pending(place(row), order_id, contact_id, routes)
        if before is not None and before.routes - routes:
            later = (id_ for id_, one in self._pending.items() if one.place > before.place)
            self._poked |= {id_ for id_ in later if id_ not in self._batch}
        return bool(routes)

    def write(self) -> bool:
        """Stores the inquiries that were made, and has those looked at again that no longer wait for another. Says
        whether any were made.
        """
        inquiries.add(self._connection, self._new)
        events.look_again(self._connection, self._poked, self._now)
        events.release(self._connection, self._released)
        return bool(self._new)


@dataclass(frozen=True, slots=True)
class _Blocked:
    id: str
    source_id: int
    received_at: dt.datetime
    waits_for: str


def _longest(asked: Sequence[Enrichment]) -> dt.timedelta:
    return dt.timedelta(hours=max((one.retry.give_up_after_hours for one in asked), default=0))
