"""A source by its address on a page, and where a store delivers to it."""

from __future__ import annotations

from flask import abort

from angelon.core.deliveries import UNNAMED
from angelon.core.naming_guesses import NameGuess, guess_name
from angelon.core.payload.body import NotReadable
from angelon.core.specs import Source
from angelon.db import events
from angelon.db.tables import EventRow
from angelon.engine.event_reader import parts_of
from angelon.web.services import live, public_address, session


def source_of(key: str) -> tuple[Source, int]:
    """A source as it is live, and its row's id; 404 where there is none."""
    setup_now = live()
    if key not in setup_now.sources:
        abort(404, f"There is no source “{key}”. It may have been taken away.")
    return setup_now.setup.sources[key], setup_now.source_ids[key]


def name_guess(source: Source, newest: EventRow | None) -> NameGuess | None:
    """Where the event's name seems to stand, where the newest delivery of a source was found to have none."""
    if newest is None or newest.name != UNNAMED:
        return None
    try:
        kept = events.delivery_of(session(), newest)
        headers = kept.headers or {}
        parts = parts_of(source, kept.body, kept.content_type, headers)
    except (LookupError, NotReadable):
        return None
    return guess_name(headers, parts[0] if parts else None)


def address(key: str) -> str:
    """Where a store delivers to."""
    return f"{public_address()}/in/{key}"
