"""A worker process: it plans events, or delivers sends, or both; each gateway has threads of its own."""

from __future__ import annotations

import datetime as dt
import os
import signal
import threading
import time
from collections.abc import Callable
from functools import partial
from importlib.metadata import version
from pathlib import Path
from typing import Any

import structlog

from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import inquiries, sends
from angelon.engine import tracing
from angelon.engine.archive import Archive
from angelon.engine.arrivals.event_reader import Readings
from angelon.engine.arrivals.fetching import Fetcher
from angelon.engine.arrivals.importing import Importer
from angelon.engine.arrivals.table_fetching import TableFetcher
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.clock import Clock
from angelon.engine.feedback.answers import Questions
from angelon.engine.feedback.receipts import match_early
from angelon.engine.followers import indexing
from angelon.engine.followers.alerts import Alarm
from angelon.engine.followers.archiving import Archiver
from angelon.engine.followers.clock_jumps import ClockWatch
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.followers.nightly import Nightly, Wanted
from angelon.engine.followers.reviews import ReviewService
from angelon.engine.handlers.runner import HandlerRunner
from angelon.engine.installation import Installation
from angelon.engine.long_lived import tell_ready, tune_interpreter
from angelon.engine.notifications import PLANNING, SENDING, Listener, Notifier
from angelon.engine.orders.parcels import LateParcels
from angelon.engine.planner import Planner
from angelon.engine.postgresql_notices import NoticeReceiver, notice_sender
from angelon.engine.sending.breakers import Breakers
from angelon.engine.sending.dispatcher import Dispatcher, recover
from angelon.engine.sending.fallbacks import Fallbacks
from angelon.engine.sending.gateway_pools import POLL, GatewayPools
from angelon.engine.setups import Setups

log = structlog.get_logger()

HEARTBEAT_SECONDS = 5.0
"""Seconds between signs of life."""
FETCHING_EVERY = 1.0
"""Seconds between looks at what is to be fetched."""
FALLBACKS_EVERY = 0.5
"""Seconds between looks at what follows sends while there is planning to do."""
BOTH = frozenset({sends.PLANS, sends.SENDS})
SILENT_FOR = dt.timedelta(seconds=30)
"""Since when a worker of this machine that no longer runs has given no sign of life, when it is taken over from."""
STOPPING = 8.0
"""Seconds that tries under way are waited for at the end. What hangs then is given back at the next start, marked as
unknown.
"""


class Worker:
    def __init__(
        self,
        database: Database,
        home: Path,
        vault: Vault,
        clock: Clock | None = None,
        threads: int = 4,
        base_url: str = "",
        roles: frozenset[str] = BOTH,
        handlers: Path | None = None,
        returns: tuple[str, int] | Path | None = None,
        inbox: Path | None = None,
        nightly: Wanted | None = None,
        archive: Archive | None = None,
    ) -> None:
        """`threads` deliver for each gateway, at most. `roles` is what the process is for: planning, sending or both.
        Each may be done by several processes. `handlers` is the folder of the shop's own functions; `returns` is where
        mail that comes back is taken, `inbox` where files are put that sources take; `nightly` is what is
        written each night, `archive` where what was sent is moved.
        """
        self._archive = archive
        self._nightly = nightly
        self._inbox = inbox
        self._handlers = handlers
        self._returns = returns
        self._listening: Any = None
        self._trouble = ""
        """What can't be done as it is set up, as a sentence."""
        self._roles = roles
        self._planner: Planner | None = None
        self._readings = Readings()
        self._database = database
        self._home = home
        self._vault = vault
        self._clock = clock or Clock()
        self._setups = Setups(database)
        self._stop = threading.Event()
        self._base_url = base_url
        self._fallbacks_due = threading.Event()
        self._inquiries_due: Callable[[], None] = lambda: None
        self.name = f"{os.uname().nodename}-{os.getpid()}"
        self._breakers = Breakers()
        self._in_hand: set[str] = set()
        self._pools = GatewayPools(
            database,
            self._clock,
            self._breakers,
            self.name,
            self._dispatcher,
            self._fallback_due,
            threads,
            self._setups,
        )
        self._notices = notice_sender(database)
        self._notifier = Notifier(home, self._notices)
        self._threads: list[threading.Thread] = []

    def run(self) -> int:
        """Works until `stop`, or until the process is asked to end; 1 where it ends because a thread of its own did."""
        tune_interpreter()
        if threading.current_thread() is threading.main_thread():
            for number in (signal.SIGTERM, signal.SIGINT):
                signal.signal(number, lambda *_: self.stop())
        self._until_done("taking over from workers that are gone", self._recover_dead)
        planning = (
            ("plan", self._plan),
            ("ask", self._ask),
            ("review", self._review),
            ("fetch", self._fetch),
            ("import", self._import),
            ("alerts", self._alarm),
            *([("archive", partial(self._archiving, self._archive))] if self._archive is not None else ()),
        )
        sending = (("deliver", self._pools.run), ("wait", self._wait_for_sends))
        alive = (("alive", self._live),)
        for name, work in (*alive, *(planning if self._plans else ()), *(sending if self._sends else ())):
            thread = threading.Thread(target=work, name=name, daemon=True)
            self._threads.append(thread)
            thread.start()
        tell_ready()
        died = False
        receiver = None
        if self._notices is not None and self._database.listens_at is not None:
            receiver = NoticeReceiver(self._database, self._notices.me, self._notifier.notify_here)
        tracer = tracing.begin(self._database, version("angelon")) if self._sends else None
        try:
            died = self._maintain()
        finally:
            self.stop()
            if receiver is not None:
                receiver.stop()
            if self._listening is not None:
                self._listening.stop()
            until = time.monotonic() + STOPPING
            for thread in self._threads:
                thread.join(max(0.1, until - time.monotonic()))
            self._pools.join(max(0.1, until - time.monotonic()))
            if tracer is not None:
                tracer.stop()
        return 1 if died else 0

    @property
    def _plans(self) -> bool:
        return sends.PLANS in self._roles

    @property
    def _sends(self) -> bool:
        return sends.SENDS in self._roles

    def stop(self) -> None:
        """Ends after the tries under way."""
        self._stop.set()
        self._pools.stop()

    def _dispatcher(self, name: str) -> Dispatcher:
        return Dispatcher(
            name,
            self._database,
            self._setups,
            self._vault,
            self._clock,
            breakers=self._breakers,
            stopped=self._stop.is_set,
            in_hand=self._in_hand,
            base_url=self._base_url,
        )

    def _fallback_due(self) -> None:
        self._fallbacks_due.set()
        self._notifier.notify(PLANNING)

    def _sends_due(self) -> None:
        """Sends were made: those who deliver look at once, in this process or another."""
        self._pools.notify()
        self._notifier.notify(SENDING)

    def _wait_for_sends(self) -> None:
        """Lets the pools look when another process has made sends, or a person wants one tried."""
        listener = Listener(self._home, SENDING)
        while not self._stop.is_set():
            if listener.wait(POLL):
                self._pools.notify()
                self._setups.forget()
        listener.close()

    def _until_done(self, what: str, work: Callable[[], object]) -> None:
        """Does a thing that the worker can't begin without, as often as it takes."""
        while not self._stop.is_set():
            try:
                work()
                return
            except Exception:
                log.exception(f"{what} failed; trying again")
                self._stop.wait(1)

    def _plan(self) -> None:
        self._planner = planner = Planner(
            self._database, self._setups, self._clock, self._base_url, readings=self._readings
        )
        fallbacks = Fallbacks(self._database, self._setups, self._clock, self._base_url)
        questions = Questions(self._database, self._setups, self._clock)
        late_parcels = LateParcels(self._database, self._setups, self._clock)
        listener = Listener(self._home, PLANNING)
        looked = 0.0
        while not self._stop.is_set():
            planned = made = 0
            failed = False
            try:
                planned, made = planner.run_batch()
            except Exception:
                log.exception("planning failed; trying again")
                failed = True
            try:
                late = time.monotonic() - looked > FALLBACKS_EVERY
                if not planned or late or self._fallbacks_due.is_set():
                    self._fallbacks_due.clear()
                    looked = time.monotonic()
                    made += fallbacks.run_due()
                    planned += questions.run_due() + late_parcels.run_due()  # what follows is planned next
            except Exception:
                log.exception("what follows sends could not be looked at; trying again")
                failed = True
            if planner.asked:
                planner.asked = False
                self._inquiries_due()
            if made:
                self._sends_due()
            if failed:
                self._stop.wait(1)
            elif not planned:
                listener.wait(POLL)
                self._setups.forget()
        listener.close()

    def _ask(self) -> None:
        """Asks elsewhere about events; the planner is notified of what was answered."""
        runner = HandlerRunner(self._database, self._clock, self._handlers)
        due = threading.Event()
        name = f"{self.name}-ask"
        inquirer = Inquirer(
            self._database, self._setups, self._clock, name, runner, self._vault, due.set, self._readings
        )
        self._inquiries_due = due.set
        while not self._stop.is_set():
            due.clear()
            settled = 0
            try:
                if runner.look():
                    self._setups.forget()
                settled = inquirer.step()
            except Exception:
                log.exception("asking elsewhere failed; trying again")
                self._stop.wait(1)
            if settled:
                self._notifier.notify(PLANNING)
            if due.wait(0.5):
                inquirer.gather()
        try:
            inquirer.end()
        except Exception:
            log.exception("what was answered at the end could not be stored; it is asked again")
        if runner.handlers is not None:
            runner.handlers.end()

    def _fetch(self) -> None:
        """Fetches the orders of stores that call nobody, and tables, each in a thread of its own."""
        wake = partial(self._notifier.notify, PLANNING)
        fetcher = Fetcher(self._database, self._setups, self._clock, self._vault, wake, self._stop)
        tables = TableFetcher(Installation(self._database, self._setups, self._vault, self._clock, self._notifier))
        while not self._stop.wait(FETCHING_EVERY):
            for what in (fetcher, tables):
                try:
                    what.step()
                except Exception:
                    log.exception("what is due could not be fetched; trying again")

    def _alarm(self) -> None:
        """Looks how the installation is, and tells whom the shop names of what is wrong."""
        here = Installation(self._database, self._setups, self._vault, self._clock, self._notifier)
        Alarm(here, self._home, self._base_url).run(self._stop)

    def _archiving(self, archive: Archive) -> None:
        """Moves what was sent to the archive."""
        Archiver(archive, self._database, self._setups, self._clock).run(self._stop)

    def _import(self) -> None:
        """Takes the rows of files."""
        wake = partial(self._notifier.notify, PLANNING)
        importer = Importer(self._database, self._setups, self._clock, wake, self._inbox, self._stop)
        while not self._stop.wait(FETCHING_EVERY):
            try:
                importer.run_due()
            except Exception:
                log.exception("files could not be taken; trying again")
                self._stop.wait(5)

    def _review(self) -> None:
        """Asks chat providers about texts in review, each in a thread of its own."""
        service = ReviewService(self._database, self._setups, self._vault, self._clock)
        while not self._stop.wait(HEARTBEAT_SECONDS):
            try:
                service.check_apart()
            except Exception:
                log.exception("providers could not be asked about reviews; trying again")

    def _live(self) -> None:
        """Signs of life, and nothing else: whatever takes long elsewhere, this goes on."""
        while not self._stop.is_set():
            try:
                self._heartbeat()
            except Exception:
                log.exception("giving a sign of life failed; trying again")
            self._stop.wait(HEARTBEAT_SECONDS)

    def _maintain(self) -> bool:
        """What must be done now and then; says whether it ended because a thread did."""
        watch = ClockWatch(self._database, self._clock)
        housekeeper = Housekeeper(self._database, self._setups, self._clock)
        search = indexing.Follower(self._database, self._stop, self._has_backlog)
        nightly = Nightly(self._nightly, self._database, self._clock) if self._nightly is not None else None
        seen: dict[str, tuple[int, float]] = {}
        planning: tuple[tuple[str, Callable[[], object]], ...] = (
            ("looking for a clock that was put on or back", lambda: self._watch_clock(watch)),
            ("matching early receipts", lambda: match_early(self._database, self._setups, self._clock)),
            ("taking mail that came back", self._take_returns),
            ("taking away what is old", housekeeper.look),
            ("taking what is new into the search", search.look),
            ("adding up what was counted", lambda: indexing.fold(self._database)),
            *([("writing the nightly export", nightly.look)] if nightly is not None else ()),
        )
        sending: tuple[tuple[str, Callable[[], object]], ...] = (
            (
                "taking back sends of workers that are gone",
                lambda: recover(self._database, self._clock, [], self._in_hand, seen, f"{self.name}-"),
            ),
        )
        recovering: tuple[tuple[str, Callable[[], object]], ...] = (
            ("taking over from workers that are gone", lambda: self._recover_dead(silent=True)),
        )
        steps = (*recovering, *(sending if self._sends else ()), *(planning if self._plans else ()))
        while not self._stop.is_set():
            dead = [thread.name for thread in self._threads if not thread.is_alive()]
            if dead:
                log.error("a thread has ended; the worker ends, so that another is started", threads=dead)
                return True
            for what, step in steps:
                try:
                    step()
                except Exception:
                    log.exception(f"{what} failed; trying again")
            self._stop.wait(HEARTBEAT_SECONDS)
        if nightly is not None:
            nightly.stop()
        return False

    def _take_returns(self) -> None:
        """Listens for mail that comes back, or looks for it in its maildir."""
        if self._returns is None:
            return
        from angelon.engine.arrivals.mails_in import MailsIn  # these only where it is set
        from angelon.engine.feedback.returns import Returns, ReturnsListener, from_maildir

        returns = Returns(self._database, self._setups, self._vault, self._clock)
        mails = MailsIn(self._database, self._setups, self._clock)
        if isinstance(self._returns, Path):
            from_maildir(returns, self._returns, mails)
            self._notifier.notify(PLANNING)
        elif self._listening is None:
            listener = ReturnsListener(returns, *self._returns, mails)
            try:
                listener.start()
            except OSError as error:  # tried again: another planner of ours may have the port, and end
                host, port = self._returns
                told = f"Returned mail can’t be received: {host}:{port} can’t be listened on ({error.strerror})."
                if told != self._trouble:
                    log.error("mail that comes back can't be taken", host=host, port=port, why=error.strerror)
                self._trouble = told
            else:
                self._listening, self._trouble = listener, ""

    def _watch_clock(self, watch: ClockWatch) -> None:
        if watch.look():
            self._sends_due()

    def _heartbeat(self) -> None:
        now = self._clock.now()
        with self._database.connection() as connection:
            sends.heartbeat(
                connection, self.name, now, " ".join(sorted(self._roles)), self._trouble, self._planned_rate()
            )
            sends.forget_workers(connection, now - dt.timedelta(minutes=10))

    def _has_backlog(self) -> bool:
        return self._planner is not None and self._planner.has_backlog

    def _planned_rate(self) -> float:
        return self._planner.rate if self._planner is not None else 0.0

    def _recover_dead(self, silent: bool = False) -> None:
        """Takes over what workers of this machine held when they were killed: at the start at once, later of those that
        are `silent` for longer than a sign of life can be late.
        """
        now = self._clock.now()
        with self._database.reading() as session:
            holding, asking = sends.held_by(session), inquiries.askers(session.connection())
            alive = sends.heard_of(session, now - SILENT_FOR) if silent else set()

        def dead(workers: list[str]) -> list[str]:
            return [one for one in workers if _gone(one) and not any(one.startswith(f"{name}-") for name in alive)]

        if self._sends and (given_up := dead(holding)):
            given_back = recover(self._database, self._clock, given_up, self._in_hand)
            log.info("took over from workers that are gone", sends=given_back)
            self._sends_due()
        if self._plans and (given_up := dead(asking)):
            with self._database.connection() as connection:
                inquiries.give_back(connection, given_up, now)


def _gone(worker: str) -> bool:
    """Whether a worker of this machine no longer runs; false for other machines' workers, whose leases run out
    instead.
    """
    node, _, rest = worker.rpartition("-")[0].rpartition("-")
    if node != os.uname().nodename:
        return False
    try:
        os.kill(int(rest), 0)
    except ProcessLookupError:
        return True
    except (PermissionError, ValueError, OverflowError):
        return False
    return int(rest) == os.getpid()
