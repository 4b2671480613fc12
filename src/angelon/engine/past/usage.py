"""What may use a thing of a store's set-up: everything that is live, and every draft."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, select

from angelon.core import usage
from angelon.core.specs import Message, Route, Source
from angelon.core.specs.mapping import Mapping, with_mapping
from angelon.core.specs.stored import from_stored
from angelon.db.setup import mappings
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import MessageRow, RouteRow


def among(session: Session, live: LiveSetup) -> usage.Specs:
    """Live specs and drafts, in two queries. A draft that can't be read uses nothing."""
    setup = live.setup
    return usage.Specs(
        (*setup.messages.values(), *_drafts(session, live.store_id, MessageRow, Message)),
        (*(active.route for active in setup.routes), *_drafts(session, live.store_id, RouteRow, Route)),
        (*setup.sources.values(), *_mappings(session, live)),
        setup.store,
    )


def _mappings(session: Session, live: LiveSetup) -> list[Source]:
    """Sources as their mappings are drafted."""
    found = []
    for key, data in mappings.drafts(session, live.store_id).items():
        try:
            found.append(with_mapping(live.setup.sources[key], from_stored(Mapping, data)))
        except (KeyError, ValueError):
            continue
    return found


def _drafts(session: Session, store_id: int, table: Any, kind: Any) -> list[Any]:
    found = []
    for data in session.exec(select(table.draft).where(table.store_id == store_id, col(table.draft).is_not(None))):
        try:
            found.append(from_stored(kind, data))
        except ValueError:
            continue
    return found
