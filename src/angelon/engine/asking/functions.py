"""Handlers: calls of functions about events, in processes apart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from sqlalchemy import Connection

from angelon.core.planning.plan import work_out
from angelon.db.rows import EventRecord, InquiryRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads, Read, Readings, event_of
from angelon.engine.asking.lanes import Job, Reply
from angelon.engine.clock import Clock
from angelon.engine.handlers.about import as_plain, people_of
from angelon.engine.handlers.runner import RETRY, HandlerRunner, Handlers
from angelon.engine.orders.parcels import know

NO_FOLDER = "No folder of handlers is set: ANGELON_HANDLERS names it."


class Call(NamedTuple):
    """A call that is due: its row, the event that it is about, and what look-ups have answered about that."""

    row: InquiryRecord
    event: EventRecord
    answered: dict[str, Any]


class Functions:
    """The functions of one folder, as they are called about events."""

    def __init__(self, runner: HandlerRunner, clock: Clock, readings: Readings) -> None:
        self._runner, self._clock, self._readings = runner, clock, readings
        self._digest = ""

    def changed(self) -> bool:
        """Whether the folder was loaded anew since this was asked last."""
        now = self._runner.handlers.digest if self._runner.handlers is not None else ""
        before, self._digest = self._digest, now
        return now != before

    def jobs(self, connection: Connection, live: LiveSetup, calls: Sequence[Call], payloads: Payloads) -> list[Job]:
        """Calls about events of one store, ready to be made, their facts read in a bounded number of queries. Raises
        LookupError where there is no such function, which no second try mends, and NotReadable.
        """
        own = self._runner.handlers
        if own is None:
            raise LookupError(NO_FOLDER)
        for call in calls:
            if why := own.missing(call.row.name):
                raise LookupError(why)
        plain = _plain(connection, live, calls, payloads, self._readings)
        return [self._job(own, call.row, one) for call, one in zip(calls, plain, strict=True)]

    def _job(self, own: Handlers, row: InquiryRecord, plain: dict[str, Any]) -> Job:
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
    connection: Connection, live: LiveSetup, calls: Sequence[Call], payloads: Payloads, readings: Readings
) -> Iterator[dict[str, Any]]:
    """Events as handlers have them, with what look-ups have answered about each. Raises NotReadable."""
    known = {call.event.id: readings.of(live, call.event) for call in calls}
    payloads.load(connection, live, [call.event for call in calls if known[call.event.id] is None])
    read = []
    for call in calls:
        source = live.setup.sources[live.source_key(call.event.source_id)]
        made = known[call.event.id]
        if made is None:
            payload = payloads.of(call.event, call.answered)
            made = Read(payload, *work_out(source, live.setup, payload))
        read.append((event_of(call.event, source, made.payload), made.reading, made.variables))
    know(connection, live, [(call.event, call.event.order_id, one[1]) for call, one in zip(calls, read, strict=True)])
    people = people_of(connection, live, [(call.event, one[1]) for call, one in zip(calls, read, strict=True)])
    for (event, reading, variables), (so_far, tags) in zip(read, people, strict=True):
        yield as_plain(event, reading, variables, so_far, tags)
