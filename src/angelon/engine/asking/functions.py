"""Handlers: one call of a function about one event, in a process apart."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from angelon.core.planning.plan import work_out
from angelon.db.log import orders
from angelon.db.people import contact_tags
from angelon.db.rows import EventRecord, InquiryRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads, event_of, identity_of
from angelon.engine.asking.lanes import Job, Reply
from angelon.engine.clock import Clock
from angelon.engine.handlers.about import as_plain
from angelon.engine.handlers.runner import RETRY, HandlerRunner
from angelon.engine.orders.parcels import know

NO_FOLDER = "No folder of handlers is set: ANGELON_HANDLERS names it."


class Functions:
    """The functions of one folder, as they are called about events."""

    def __init__(self, runner: HandlerRunner, clock: Clock) -> None:
        self._runner, self._clock = runner, clock
        self._digest = ""

    def changed(self) -> bool:
        """Whether the folder was loaded anew since this was asked last."""
        now = self._runner.handlers.digest if self._runner.handlers is not None else ""
        before, self._digest = self._digest, now
        return now != before

    def job(
        self,
        connection: Connection,
        live: LiveSetup,
        event: EventRecord,
        row: InquiryRecord,
        payloads: Payloads,
        answered: dict[str, Any],
    ) -> Job:
        """One call, ready to be made. Raises LookupError where there is no such function, which no second try mends."""
        if self._runner.handlers is None:
            raise LookupError(NO_FOLDER)
        own = self._runner.handlers
        why = own.missing(row.name)
        if why:
            raise LookupError(why)
        plain = self._plain(connection, live, event, payloads, answered)

        def call() -> Reply:
            asked, result = own.call(row.name, plain)
            value = None if asked.problem else asked.plain()
            gone = result.took == 0 and bool(own.missing(row.name))
            return Reply(value, asked.problem, gone, "", result.output, result.took, own.digest)

        return Job(
            row,
            call,
            own.timeout(row.name),
            lambda tries, at: RETRY.next_try(tries, at, at, self._clock.rng.random),
        )

    def _plain(
        self, connection: Connection, live: LiveSetup, event: EventRecord, payloads: Payloads, answered: dict[str, Any]
    ) -> dict[str, Any]:
        """The event as handlers have it, with what look-ups have answered about it. Raises NotReadable."""
        source = live.setup.sources[live.source_key(event.source_id)]
        payload = payloads.of(event, answered)
        reading, variables = work_out(source, live.setup, payload)
        know(connection, live, [(event, event.order_id, reading)])
        identity = identity_of(event, reading)
        number = reading.reference[:200]
        so_far = orders.orders_of_person(connection, live.store_id, identity, event.source_id, number)
        tags = contact_tags.of_identity(connection, live.store_id, identity)
        return as_plain(event_of(event, source, payload), reading, variables, so_far, tags)
