"""Asks what waits to be asked about events: claims a few of each target, has its lane ask them, and stores what came of
all lanes in one transaction, so that no target waits for another.
"""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import structlog
from sqlmodel import Session

from angelon.core.breaker import HEALTHY, Health
from angelon.core.enriching import wanted
from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.retries import RetryPolicy
from angelon.core.specs.enrichment import Enrichment
from angelon.db.access.secrets import Vault
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events, inquiries
from angelon.db.log.inquiries import HANDLER, MINE, Key, Outcome, key_of
from angelon.db.rows import EventRecord, InquiryRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads, Readings
from angelon.engine.asking.addresses import ask, secret_of
from angelon.engine.asking.functions import Call, Functions
from angelon.engine.asking.lanes import AT_ONCE, Job, Lane, Reply
from angelon.engine.clock import Clock
from angelon.engine.handlers.runner import HandlerRunner
from angelon.engine.planner.faults import describe_fault
from angelon.engine.setups import Setups

log = structlog.get_logger()

LONGEST = 30.0
"""Seconds that one inquiry may take."""
MARGIN = 30.0
"""Seconds by which a claim outlasts what asking may take."""
MOST_STORED = 200
"""Outcomes of one transaction."""
TOGETHER = 0.02
"""Seconds that replies are waited for, beside one that is there."""


class Inquirer:
    """One for each process that asks. `run_due` is for one thread; lanes have threads of their own."""

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        worker: str = "",
        runner: HandlerRunner | None = None,
        vault: Vault | None = None,
        wake: Callable[[], None] = lambda: None,
        readings: Readings | None = None,
    ) -> None:
        """`wake` is called when something was answered and has to be stored. `readings` are shared with the planner of
        the same process.
        """
        self._database, self._setups, self._clock, self._worker, self._vault = database, setups, clock, worker, vault
        self._functions = Functions(runner or HandlerRunner(database, clock, None), clock, readings or Readings())
        self._payloads = Payloads()
        self._lanes: dict[str, Lane] = {}
        self._wake = wake
        self._arrived = threading.Condition()
        self._replies: list[tuple[Job, Reply, dt.datetime]] = []
        self._unsaved: dict[str, Health] = {}
        self._refreshed = False

    def step(self) -> int:
        """Stores what was answered and claims what may be asked; waits for no answer. Gives how many inquiries are
        settled by it.
        """
        settled = self._store()
        if self._functions.changed():  # whoever was in doubt is asked as it is now
            for lane in self._lanes.values():
                if lane.target.startswith(MINE) and lane.health.opened_at is not None:
                    self._unsaved[lane.target] = lane.health = HEALTHY
        self._claim()
        return settled

    def gather(self) -> None:
        """Gives replies a moment to come together while more are to be asked, since each transaction costs as much as
        some of them; where nothing else waits, nothing is waited for.
        """
        if any(lane.waiting for lane in self._lanes.values()):
            time.sleep(TOGETHER)

    def run_due(self) -> int:
        """Asks all that is due, and waits for it; gives how many inquiries are settled."""
        settled = 0
        while True:
            settled += self.step()
            with self._arrived:
                if not self._replies and all(lane.idle for lane in self._lanes.values()):
                    return settled
                self._arrived.wait(0.02)  # a lane ends a moment after its last reply
            self.gather()

    def end(self) -> None:
        """Gives back what is in hand and was not begun."""
        left = [key_of(job.row) for lane in self._lanes.values() for job in lane.drop()]
        self._store()
        if left:
            log.info("inquiries are given back", number=len(left))

    def _note(self, job: Job, reply: Reply) -> None:
        with self._arrived:
            self._replies.append((job, reply, self._clock.now()))
            self._arrived.notify_all()
        self._wake()

    def _store(self) -> int:
        """What came of tries, in one transaction. They are kept until they are stored: nothing is asked twice since the
        database was away.
        """
        with self._arrived:
            replies = self._replies[:MOST_STORED]
        outcomes = [self._outcome(*one) for one in replies]
        if not outcomes and not self._unsaved:
            return 0
        with self._database.connection() as connection:
            inquiries.store(connection, outcomes, self._clock.now())
            inquiries.save_health(connection, self._unsaved)
        self._unsaved = {}
        with self._arrived:
            del self._replies[: len(replies)]
        self._payloads.trim()
        return sum(1 for one in outcomes if one.again is None)

    def _outcome(self, job: Job, reply: Reply, at: dt.datetime) -> Outcome:
        row, lane = job.row, self._lanes[job.row.target]
        before, after = lane.note(reply, at)
        if before.opened_at != after.opened_at or before.probe_at != after.probe_at:
            self._unsaved[lane.target] = after
            log.warning("a target", target=lane.target, unreachable=after.opened_at is not None, why=after.reason)
        tries = row.tries + 1
        again = job.next_try(tries, at) if reply.problem and not reply.for_good else None
        if again is not None:
            again = min(again, row.until) if at < row.until else None
        if reply.problem and row.kind == HANDLER:
            log.warning("a handler failed", event_id=row.event_id, handler=row.name, tries=tries)
        return Outcome(
            key_of(row),
            at,
            tries,
            round(reply.took * 1000),
            reply.url,
            reply.value,
            reply.output,
            reply.problem,
            reply.digest,
            again,
        )

    def _claim(self) -> None:
        now = self._clock.now()
        with self._database.reading() as session:
            waiting = inquiries.due(session.connection(), now)
            if not self._refreshed:
                for target, health in inquiries.unhealthy(session.connection()).items():
                    self._lane(target).health = health
                self._refreshed = True
        taken: list[InquiryRecord] = []
        due = [target for target, at in waiting.items() if at <= now]
        room = {target: number for target in due if (number := self._lane(target).room(now))}
        health_of = {target: self._lane(target).health for target in due}
        shut = {target: one.reason for target, one in health_of.items() if one.opened_at is not None}
        if not room and not shut:
            return
        if room:
            with self._database.connection() as connection:
                for target, number in room.items():
                    until = now + dt.timedelta(seconds=LONGEST * (number / AT_ONCE + 1) + MARGIN)
                    taken += inquiries.claim(connection, target, now, number, until, self._worker)
        late = shut.keys() - room.keys()
        if late:
            self._give_up(now, {target: shut[target] for target in late})
        by_target: dict[str, list[InquiryRecord]] = {}
        for row in taken:
            by_target.setdefault(row.target, []).append(row)
        jobs = self._prepared(taken)
        for target, rows in by_target.items():
            self._lane(target).put([jobs[key_of(row)] for row in rows])

    def _give_up(self, now: dt.datetime, shut: dict[str, str]) -> None:
        """Settles what waits for a target that is left alone, and whose time is over."""
        with self._database.reading() as session:
            if not inquiries.any_late(session.connection(), now, list(shut)):
                return
        with self._database.connection() as connection:
            inquiries.give_up_late(connection, now, shut)

    def _lane(self, target: str) -> Lane:
        lane = self._lanes.get(target)
        if lane is None:
            lane = self._lanes[target] = Lane(target, self._note)
        return lane

    def _prepared(self, rows: Sequence[InquiryRecord]) -> dict[Key, Job]:
        """What is asked, read in a bounded number of queries; what can't be read comes to that as its answer."""
        made: dict[Key, Job] = {}
        by_store: dict[tuple[int, str], list[Call]] = {}
        with self._database.reading() as session:
            connection = session.connection()
            found = events.by_ids(connection, {row.event_id for row in rows})
            about = inquiries.about(connection, {one.parent_id or one.id for one in found.values()})
            for row in rows:
                event = found.get(row.event_id)
                try:
                    if event is None:
                        raise LookupError("Its event is gone.")
                    live = self._setups.of_source(event.source_id)
                except LookupError as error:
                    made[key_of(row)] = _settled(row, str(error))
                    continue
                answered = about.get(event.parent_id or event.id, inquiries.AboutEvent()).answered
                by_store.setdefault((live.store_id, row.kind), []).append(Call(row, event, answered))
            for (store_id, kind), calls in by_store.items():
                made |= self._jobs(session, self._setups.get(store_id), kind, calls)
        return made

    def _jobs(self, session: Session, live: LiveSetup, kind: str, calls: Sequence[Call]) -> dict[Key, Job]:
        """All at once; each alone where one of them can't be made ready, so that it harms no other."""
        try:
            if kind == HANDLER:
                made = self._functions.jobs(session.connection(), live, calls, self._payloads)
            else:
                self._payloads.load(session.connection(), live, [call.event for call in calls])
                made = [self._look_up(session, live, call) for call in calls]
            return {key_of(job.row): job for job in made}
        except Exception as error:
            if is_database_failure(error):
                raise
            if len(calls) > 1:
                return {key: job for call in calls for key, job in self._jobs(session, live, kind, [call]).items()}
            row, why = calls[0].row, str(error)
            if not isinstance(error, LookupError | NotReadable):
                log.exception("an inquiry could not be made ready", event_id=row.event_id, name=row.name)
                why = f"It could not be asked: {describe_fault(error)}"
            return {key_of(row): _settled(row, why)}

    def _look_up(self, session: Session, live: LiveSetup, call: Call) -> Job:
        """Raises LookupError with why there is nothing to ask, NotReadable where the event can't be read."""
        row, event = call.row, call.event
        source = live.setup.sources[live.source_key(event.source_id)]
        one = next((found for found in wanted(source.enrichments, event.name) if found.name == row.name), None)
        if one is None:
            raise LookupError(f"The source has no look-up “{row.name}” any more.")
        secret = secret_of(self._vault, session, event.source_id, one, self._clock.now())
        context = work_out(source, live.setup, self._payloads.of(event))[0].context
        return Job(row, lambda: _asked(live, one, context, secret), one.timeout_seconds, self._next(one.retry, event))

    def _next(self, retry: RetryPolicy, event: EventRecord) -> Callable[[int, dt.datetime], dt.datetime | None]:
        return lambda tries, at: retry.next_try(tries, event.received_at, at, self._clock.rng.random)


def _asked(live: LiveSetup, one: Enrichment, context: Any, secret: str) -> Reply:
    began = time.monotonic()
    url, value, problem, for_good = ask(live, one, context, secret)
    return Reply(value, problem, for_good, url, took=time.monotonic() - began)


def _settled(row: InquiryRecord, problem: str) -> Job:
    """An inquiry that comes to nothing without being asked."""
    reply = Reply(problem=problem, for_good=True)
    return Job(row, lambda: replace(reply), 0.0, lambda tries, at: None)
