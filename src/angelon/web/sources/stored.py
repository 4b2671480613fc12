"""A source by its address on a page, and where a store delivers to it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from flask import abort

from angelon.core.deliveries import UNNAMED
from angelon.core.naming_guesses import NameGuess, guess_name
from angelon.core.payload.body import NotReadable
from angelon.core.specs import Source
from angelon.core.suggestions import orders_in
from angelon.db.log import events
from angelon.db.tables import EventRow
from angelon.engine.arrivals.event_reader import parts_of
from angelon.web.services import live, public_address, session


def source_of(key: str) -> tuple[Source, int]:
    """A source as it is live, and its row's id; 404 where there is none."""
    setup_now = live()
    if key not in setup_now.sources:
        abort(404, f"There is no source “{key}”. It may have been deleted.")
    return setup_now.setup.sources[key], setup_now.source_ids[key]


def name_guess(source: Source, newest: EventRow | None) -> NameGuess | None:
    """Where the event's name seems to stand, where the newest delivery of a source was found to have none."""
    if newest is None or newest.name != UNNAMED:
        return None
    headers, parts = _parts(source, newest)
    return guess_name(headers, parts[0]) if parts else None


def several_at(source: Source, newest: EventRow | None) -> str | None:
    """Where a list of orders stands in the newest delivery of a source that takes each for one order."""
    parts = _parts(source, newest)[1] if newest is not None and not source.orders_at else []
    return orders_in(parts[:1])


def _parts(source: Source, newest: EventRow) -> tuple[Mapping[str, str], list[Any]]:
    """A delivery's headers and its orders; none where it can't be read any more."""
    try:
        kept = events.delivery_of(session(), newest)
        headers = kept.headers or {}
        return headers, parts_of(source, kept.body, kept.content_type, headers)
    except (LookupError, NotReadable):
        return {}, []


def address(key: str) -> str:
    """Where a store delivers to."""
    return f"{public_address()}/in/{key}"
