"""Threads for each gateway, so that one that hangs holds up nobody but itself."""

from __future__ import annotations

import datetime as dt
import itertools
import threading
import time
from collections.abc import Callable

import structlog

from angelon.db.database import Database
from angelon.db.log import sends
from angelon.db.upkeep import gateway_use
from angelon.engine.clock import Clock
from angelon.engine.sending.breakers import Breakers
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.engine.setups import Setups

log = structlog.get_logger()

BATCH = 8
"""How many sends a thread takes at first; then as many as the gateway's speed allows."""
POLL = 2.0
"""Seconds between looks at the database where nobody notifies."""
IDLE = 30.0
"""Seconds after which a thread that has nothing to do closes its connection, and ends."""

MakeDispatcher = Callable[[str], Dispatcher]


class GatewayPool:
    """The threads of one gateway: started when sends are due, at most `most` (asked each time, so that a limit that is
    lowered counts at once), ended when nothing is for a while.
    """

    def __init__(
        self,
        gateway_id: int | None,
        most: Callable[[], int],
        name: Callable[[], str],
        make: MakeDispatcher,
        fallback_due: Callable[[], None],
        stopped: threading.Event,
    ) -> None:
        self.gateway_id = gateway_id
        self._most = most
        self._name = name
        self._make = make
        self._fallback_due = fallback_due
        self._stopped = stopped
        self._due = threading.Condition()
        self._wanted = 0
        self._waiting = 0
        self._threads: set[threading.Thread] = set()

    def wake(self) -> None:
        """Lets one more thread look at what is due."""
        with self._due:
            if self._wanted < self._waiting:
                self._wanted += 1
                self._due.notify()
            elif len(self._threads) < self._most() and not self._stopped.is_set():
                thread = threading.Thread(
                    target=self._run, args=(self._name(),), name=f"deliver-{self.gateway_id}", daemon=True
                )
                self._threads.add(thread)
                thread.start()

    def _run(self, name: str) -> None:
        dispatcher = self._make(name)
        try:
            while not self._stopped.is_set() and not self._too_many():
                try:
                    dispatcher.run(BATCH, self.wake, self._stopped.is_set, self.gateway_id)
                except Exception:
                    log.exception("delivering failed; trying again", gateway=self.gateway_id)
                    self._stopped.wait(1)
                if dispatcher.fallback_due:
                    dispatcher.fallback_due = False
                    self._fallback_due()
                if not self._wait():
                    return
        finally:
            with self._due:
                self._threads.discard(threading.current_thread())
            dispatcher.close()

    def _too_many(self) -> bool:
        """Whether this thread is one more than there may be by now: it ends, then."""
        with self._due:
            if len(self._threads) <= self._most():
                return False
            self._threads.discard(threading.current_thread())
            return True

    def _wait(self) -> bool:
        """False where nothing was due for so long that the thread may end."""
        with self._due:
            self._waiting += 1
            try:
                until = time.monotonic() + IDLE
                while not self._wanted and not self._stopped.is_set():
                    if not self._due.wait(max(0.0, until - time.monotonic())):
                        self._threads.discard(threading.current_thread())
                        return False
                self._wanted = max(0, self._wanted - 1)
                return True
            finally:
                self._waiting -= 1

    def stop(self) -> None:
        with self._due:
            self._due.notify_all()

    def join(self, until: float) -> None:
        for thread in list(self._threads):
            thread.join(max(0.1, until - time.monotonic()))


class GatewayPools:
    """Looks when which gateway's next send is due, and wakes its lane."""

    def __init__(
        self,
        database: Database,
        clock: Clock,
        breakers: Breakers,
        name: str,
        make: MakeDispatcher,
        fallback_due: Callable[[], None],
        each: int = 4,
        setups: Setups | None = None,
    ) -> None:
        self._setups = setups
        self._database = database
        self._clock = clock
        self._breakers = breakers
        self._make = make
        self._fallback_due = fallback_due
        self._each = each
        self._stopped = threading.Event()
        self._changed = threading.Condition()
        self._notified = False
        self._pools: dict[int | None, GatewayPool] = {}
        self._processes = 1
        """How many processes send, this one among them."""
        number = itertools.count()
        self._name = lambda: f"{name}-{next(number)}"

    def notify(self) -> None:
        """Sends were made, or a gateway may be tried again."""
        with self._changed:
            self._notified = True
            self._changed.notify()

    def run(self) -> None:
        """Works until `stop`."""
        while not self._stopped.is_set():
            try:
                wait = self._check_due()
            except Exception:
                log.exception("what is due could not be looked at; trying again")
                wait = 1.0
            with self._changed:
                if not self._notified and not self._stopped.is_set():
                    self._changed.wait(wait)
                self._notified = False

    def _check_due(self) -> float:
        """Wakes the lanes for which something is due; gives the seconds until the next is."""
        with self._database.reading() as session:
            connection = session.connection()
            due = sends.due_by_gateway(connection)
            limited = gateway_use.waiting(connection, self._clock.now())
            self._breakers.refresh(connection)
            self._processes = max(1, sends.at_work(session, sends.SENDS, self._clock.now()))
        now = self._clock.now()
        next_at = now + dt.timedelta(seconds=POLL)
        for gateway_id, at in due.items():
            health = self._breakers.of(gateway_id)
            if health.admits(now) == "none":
                at = max(at, health.probe_at or at)
            if gateway_id is not None:
                at = max(at, limited.get(gateway_id, at))
            if at <= now:
                self._pool(gateway_id).wake()
            else:
                next_at = min(next_at, at)
        return max(0.005, (next_at - now).total_seconds())

    def _most(self, gateway_id: int | None) -> int:
        """Threads for a gateway: as many as it takes connections, over all processes that send."""
        found = self._setups.gateway(gateway_id) if self._setups is not None and gateway_id is not None else None
        wanted = found[1].quota.connections if found is not None else 0
        return min(self._each, max(1, wanted // self._processes)) if wanted else self._each

    def _pool(self, gateway_id: int | None) -> GatewayPool:
        lane = self._pools.get(gateway_id)
        if lane is None:
            lane = self._pools[gateway_id] = GatewayPool(
                gateway_id, lambda: self._most(gateway_id), self._name, self._make, self._fallback_due, self._stopped
            )
        return lane

    def stop(self) -> None:
        """Ends after the tries that are under way."""
        self._stopped.set()
        with self._changed:
            self._changed.notify_all()
        for lane in list(self._pools.values()):
            lane.stop()

    def join(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        for lane in list(self._pools.values()):
            lane.join(until)
