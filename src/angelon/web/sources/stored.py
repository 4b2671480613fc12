"""A source by its address on a page, and where a store delivers to it."""

from __future__ import annotations

from flask import abort

from angelon.core.specs import Source
from angelon.web.services import live, public_address


def source_of(key: str) -> tuple[Source, int]:
    """A source as it is live, and its row's id; 404 where there is none."""
    setup_now = live()
    if key not in setup_now.setup.sources:
        abort(404, f"There is no source “{key}”. It may have been taken away.")
    return setup_now.setup.sources[key], setup_now.source_ids[key]


def address(key: str) -> str:
    """Where a store delivers to."""
    return f"{public_address()}/in/{key}"
