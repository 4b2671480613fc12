"""Handlers, the shop's own functions: switched on and off, rehearsed on an event."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Event, Facts
from angelon.core.planning.plan import Decision, decide
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.asked import Asked
from angelon.core.specs.route import Route
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import event_of
from angelon.engine.handlers.about import as_plain, people_of
from angelon.engine.handlers.pool import Result
from angelon.engine.handlers.runner import Handlers


@dataclass(frozen=True, slots=True)
class Tried:
    """One call, watched: what it asked for, how it ran, and what planning would make of that."""

    asked: Asked
    result: Result
    decision: Decision


def rehearse(
    connection: Connection,
    live: LiveSetup,
    own: Handlers,
    route: Route,
    row: EventRecord,
    payload: Any,
    reading: Reading,
    variables: Variables,
    facts: Facts,
) -> Tried:
    """Calls a handler on an event (a row of the event table), watched. Nothing is stored and nothing sent; what its
    code itself does elsewhere is done.
    """
    source = live.setup.sources[live.source_key(row.source_id)]
    ((so_far, tags),) = people_of(connection, live, [(row, reading)])
    plain = as_plain(event_of(row, source, payload), reading, variables, so_far, tags)
    asked, result = own.call(route.handler, plain, watch=True)
    event: Event = event_of(row, source, payload, asked={route.handler: asked})
    decision = decide(event, reading, variables, ActiveRoute(route, ALWAYS), live.setup, facts, row.received_at)
    return Tried(asked, result, decision)
