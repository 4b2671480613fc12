"""The event in hand: chosen once, kept from page to page, so that every page shows what things are for it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from flask import request
from flask import session as cookie
from sqlmodel import col, select

from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.source import Source
from angelon.db.events import newest, recent
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow
from angelon.engine.event_reader import payload_of
from angelon.web.services import session

REACH = 40


@dataclass
class Hand:
    """An event with its neighbours. Without an event there is nothing to show values of."""

    event: EventRow | None = None
    previous: str = ""
    next: str = ""
    position: int = 0
    total: int = 0
    number: str = ""
    payload: Any = None
    source: Source | None = None
    reading: Reading | None = None
    variables: Variables | None = None


def take(
    live: LiveSetup,
    sources: Collection[str] | None = None,
    types: Collection[str] | None = None,
    changed: Source | None = None,
) -> Hand:
    """The event in hand among the newest of these sources and types; the newest where the one in hand is not among
    them.

    `changed` is a source's spec as it is being edited, read in place of the stored one.
    """
    keys = [key for key in (sources if sources is not None else live.source_ids) if key in live.source_ids]
    wanted = request.args.get("hand") or cookie.get("hand")
    ids = newest(session(), [live.source_ids[key] for key in keys], sorted(types) if types else None, REACH)
    at = ids.index(wanted) if wanted in ids else 0
    event = session().get(EventRow, ids[at]) if ids else None
    if event is None:
        return Hand()
    if request.args.get("hand"):
        cookie["hand"] = event.id
    hand = Hand(event, ids[at + 1] if at + 1 < len(ids) else "", ids[at - 1] if at else "", at + 1, len(ids))
    key = live.source_key(event.source_id)
    source = changed if changed is not None and changed.key == key else live.setup.sources[key]
    hand.source = source
    return fill(hand, live, source)


def recent_of(source_id: int) -> list[EventRow]:
    """The newest delivery of a source, as a list of at most one."""
    return recent(session(), source_id, 1)


def samples(live: LiveSetup, source: Source, source_id: int, most: int = 14) -> list[Hand]:
    """A source's pinned and newest deliveries, each read as the source stands: what the bench looks across. Names take
    turns.
    """
    rows = session().exec(
        select(EventRow)
        .where(EventRow.source_id == source_id, col(EventRow.parent_id).is_(None))
        .order_by(col(EventRow.pinned).desc(), col(EventRow.received_at).desc(), col(EventRow.id).desc())
        .limit(most * 2)
    )
    found = []
    of_name: dict[str, int] = {}
    for row in rows:
        of_name[row.name] = of_name.get(row.name, 0) + 1
        if len(found) < most and (of_name[row.name] <= most * 2 // 3 or len(of_name) == 1):
            found.append(fill(Hand(row), live, source))
    return found


def fill(hand: Hand, live: LiveSetup, source: Source) -> Hand:
    """Reads the event in hand."""
    assert hand.event is not None
    try:
        hand.payload = payload_of(session(), live, hand.event, source)
    except NotReadable:
        hand.number = "can’t be read"
        return hand
    hand.reading, hand.variables = work_out(source, live.setup, hand.payload)
    hand.number = hand.reading.number or hand.event.name
    return hand
