"""Takes due sends to their gateways: claim, guard again, render, deliver, settle."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from typing import Any

import structlog
from sqlalchemy import Connection

from angelon.core.deliveries import storable_text
from angelon.core.specs.gateway import Gateway
from angelon.core.states import State, move
from angelon.db import sends as queries
from angelon.db.database import Database, is_database_failure
from angelon.db.secrets import Vault, WrongKey
from angelon.db.sends import EVERY_GATEWAY
from angelon.db.setup import LiveSetup
from angelon.engine.breakers import Breakers
from angelon.engine.clock import Clock
from angelon.engine.planner import needs_followup
from angelon.engine.preparing import Held, NoMore, NotNow, Preparing, route_of
from angelon.engine.receipts import match_early
from angelon.engine.setups import Setups
from angelon.gateways.interface import Outcome, Way
from angelon.gateways.ways import way_for

log = structlog.get_logger()

LEASE = dt.timedelta(minutes=10)
"""How long a claim lasts. It is extended where less than half is left, which is more than the slowest try can take."""
ENOUGH, FEWEST, MOST = 0.25, 1, 32
"""What one thread takes at a time: what goes out in so many seconds, within bounds."""
SLOW = 1.0
"""Seconds that one try may take before what was claimed with it and not begun is given back, for other threads to take.
"""
GIVE_UP_STORING = 10.0
"""Seconds for which a worker that is to stop goes on trying to store what it has done."""
UNKNOWN = (
    "The worker stopped while this send was in its hands. Whether the gateway took it is not known; it is "
    "tried again under the same Message-ID."
)


@dataclass
class _Results:
    """What tries came to, kept until it is stored."""

    settled: list[dict[str, Any]] = field(default_factory=list)
    attempts: list[dict[str, Any]] = field(default_factory=list)
    contents: list[dict[str, Any]] = field(default_factory=list)
    references: list[tuple[int, str]] = field(default_factory=list)
    """(gateway id, the provider's own id) of what was accepted."""

    def of_one(self, settled: dict[str, Any]) -> _Results:
        """What there is about one send."""
        id_ = settled["b_id"]
        return _Results(
            [settled],
            [row for row in self.attempts if row["send_id"] == id_],
            [row for row in self.contents if row["send_id"] == id_],
        )


def fitting(number: int, took: float) -> int:
    """How many sends to take at once after `number` of them took so many seconds."""
    return max(FEWEST, min(MOST, int(number * ENOUGH / max(took, 0.001))))


MakeWay = Callable[[Gateway, str], Way]


class Dispatcher:
    """One thread's worth of delivering, with its own connection to each gateway."""

    def __init__(
        self,
        name: str,
        database: Database,
        setups: Setups,
        vault: Vault,
        clock: Clock,
        make_way: MakeWay = way_for,
        breakers: Breakers | None = None,
        stopped: Callable[[], bool] = lambda: False,
        in_hand: set[str] | None = None,
    ) -> None:
        """`in_hand` is where the ids of sends stand that are being tried, or whose outcome is not stored yet."""
        self.name = name
        self._database = database
        self._setups = setups
        self._vault = vault
        self._clock = clock
        self._make_way = make_way
        self._breakers = breakers or Breakers()
        self._stopped = stopped
        self._ways: dict[int, tuple[str, Way]] = {}
        self._preparing = Preparing(database)
        self._results = _Results()
        self._in_hand = in_hand if in_hand is not None else set()
        self.followed = False
        """Whether something that it settled has something to follow; whoever looks at that sets it back."""

    def run_batch(
        self, limit: int = 16, more: Callable[[], None] | None = None, gateway_id: int | None = EVERY_GATEWAY
    ) -> int:
        """Takes up to `limit` due sends through; gives how many.

        `more` is called where there may be more than that, before these are delivered.
        """
        done = self._deliver(self._claim(limit, gateway_id), limit, more)
        self.store()
        return done

    def run(
        self, limit: int, more: Callable[[], None], stopped: Callable[[], bool], gateway_id: int | None = EVERY_GATEWAY
    ) -> int:
        """Takes due sends through until none is left, or their gateway turns out to be unreachable.

        What a batch came to is stored before the next is claimed. It begins with `limit` sends and then takes as many
        as go out in about `ENOUGH`: many by a quick gateway, few by a slow one.
        """
        done = 0
        while True:
            self.store()
            admitted = self._breakers.of(None if gateway_id == EVERY_GATEWAY else gateway_id).admits(self._clock.now())
            if stopped() or admitted == "none":
                return done
            claimed = self._claim(1 if admitted == "one" else limit, gateway_id)
            if not claimed:
                return done
            began = time.monotonic()
            number = self._deliver(claimed, limit, more)
            limit = fitting(number, time.monotonic() - began)
            done += number

    def store(self) -> None:
        """Stores what tries have come to, however often that has to be tried: what is out must never go out again.

        Where the worker is to stop it gives up after a while; the sends are then given back when their lease runs out,
        marked as unknown.
        """
        if not self._results.settled:
            return
        began, wait, together = time.monotonic(), 0.05, True
        references = self._results.references
        while self._results.settled:
            try:
                if together:
                    self._store_all()
                else:
                    self._store_each()
                continue
            except Exception as error:
                if together and not is_database_failure(error):
                    log.exception("outcomes could not be stored together; storing them one by one")
                    together = False
                    continue
                if self._stopped() and time.monotonic() - began > GIVE_UP_STORING:
                    raise
                log.warning(
                    "what sends came to could not be stored yet; trying again",
                    sends=len(self._results.settled),
                    why=str(error)[:200],
                )
            time.sleep(wait)
            wait = min(wait * 2, 2.0)
        if references:
            match_early(self._database, self._setups, self._clock, references)

    def _store_all(self) -> None:
        with self._database.connection() as connection:
            _store(connection, self._results)
            changed = self._breakers.save(connection)
        self._breakers.saved(changed)
        self._in_hand.difference_update(settled["b_id"] for settled in self._results.settled)
        self._results = _Results()

    def _store_each(self) -> None:
        """Stores one by one what could not be stored together; of what the database refuses, the outcome at the least.

        Raises where the database fails: what is not stored by then is kept.
        """
        while self._results.settled:
            settled = self._results.settled[0]
            one = self._results.of_one(settled)
            bare = _Results(
                [
                    settled
                    | {
                        "values": None,
                        "subject": "",
                        "reason": "What was sent could not be stored in full. The log says more.",
                    }
                ]
            )
            for results in (one, bare):
                try:
                    with self._database.connection() as connection:
                        _store(connection, results)
                    break
                except Exception as error:
                    if is_database_failure(error):
                        raise
                    log.exception("an outcome could not be stored", send=settled["b_id"])
            self._in_hand.discard(settled["b_id"])
            self._results.settled.pop(0)

    def _claim(self, limit: int, gateway_id: int | None) -> list[Any]:
        with self._database.connection() as connection:
            claimed = queries.claim(connection, self.name, self._clock.now(), LEASE, limit, gateway_id)
            self._preparing.begin(connection, claimed, self._clock.now())
        self._in_hand.update(row.id for row in claimed)
        return claimed

    def _deliver(self, claimed: list[Any], limit: int, more: Callable[[], None] | None) -> int:
        """Delivers claimed sends; gives how many. What is not begun when it takes too long is given back."""
        try:
            return self._deliver_in_turn(claimed, limit, more)
        finally:  # what was neither begun nor given back is no longer ours: its lease runs out
            self._in_hand.difference_update(
                {row.id for row in claimed} - {settled["b_id"] for settled in self._results.settled}
            )

    def _deliver_in_turn(self, claimed: list[Any], limit: int, more: Callable[[], None] | None) -> int:
        if more and len(claimed) >= limit:
            more()
        lease_until = claimed[0].lease_until if claimed else None
        for position, row in enumerate(claimed):
            if lease_until - self._clock.now() < LEASE / 2:
                self.store()
                lease_until = self._extend([r.id for r in claimed[position:]])
            began = time.monotonic()
            self._one(row)
            rest = claimed[position + 1 :]
            if rest and (
                time.monotonic() - began > SLOW
                or self._stopped()
                or self._breakers.of(rest[0].gateway_id).opened_at is not None
            ):
                self.store()
                self._release(rest)
                return position + 1
        return len(claimed)

    def _release(self, rest: list[Any]) -> None:
        try:
            with self._database.connection() as connection:
                queries.release(connection, rest, self.name)
        except Exception:
            log.exception(
                "sends that were not begun could not be given back; their lease will run out", sends=len(rest)
            )

    def _extend(self, rest: list[str]) -> dt.datetime:
        until = self._clock.now() + LEASE
        with self._database.connection() as connection:
            queries.extend(connection, rest, self.name, until)
        return until

    def close(self) -> None:
        for _, way in self._ways.values():
            way.close()
        self._ways.clear()

    def _one(self, row: Any) -> None:
        """Takes one send through. Whatever is raised on the way concerns this send alone."""
        settled: dict[str, Any] = {
            "b_id": row.id,
            "b_worker": self.name,
            "reason": "",
            "due_at": row.due_at,
            "settled_at": None,
            "subject": row.subject,
            "state": State.HELD,
            "revision_id": row.revision_id,
            "tries": row.tries,
            "values": None,
            "reference": row.reference,
            "cost": row.cost,
            "fall_at": row.fall_at,
        }
        live: LiveSetup | None = None
        try:
            live = self._setups.get(row.store_id)
            gateway, outcome, began = self._try(row, live, settled)
            if outcome is not None:
                ended = self._clock.now()
                self._results.attempts.append(
                    {
                        "send_id": row.id,
                        "number": row.tries,
                        "began_at": began,
                        "ended_at": ended,
                        "outcome": outcome.kind,
                        "code": outcome.code,
                        "answer": storable_text(outcome.answer),
                    }
                )
                if gateway is not None:
                    self._settle(row, gateway, outcome, ended, settled)
                    if outcome.kind == "accepted" and outcome.reference and row.gateway_id is not None:
                        self._results.references.append((row.gateway_id, outcome.reference))
            settled |= self._following(row, live, gateway, settled["state"])
        except Exception as error:
            log.exception("a send could not be taken through", send=row.id)
            tried = any(attempt["send_id"] == row.id for attempt in self._results.attempts)
            at = self._clock.now() + dt.timedelta(minutes=5)
            reason = f"It could not be taken through: {type(error).__name__}. The log says more."
            settled |= (
                {"state": State.RETRYING, "due_at": at, "reason": reason}
                if tried
                else {"state": State.HELD, "reason": reason, "tries": row.tries - 1}
            )
        self._results.settled.append(settled)

    def _try(
        self, row: Any, live: LiveSetup, settled: dict[str, Any]
    ) -> tuple[Gateway | None, Outcome | None, dt.datetime]:
        """(gateway, outcome of the try, when it began); no outcome where none was made, `settled` says why then."""
        began = self._clock.now()
        try:
            ready = self._preparing.ready(row, live, began)
            way = self._way(live, row, ready.gateway)
        except NotNow as error:
            return self._preparing.gateway(row, live), Outcome("temporary", "", error.reason), began
        except NoMore as error:
            settled |= {
                "state": move(State.SENDING, State.SKIPPED),
                "settled_at": began,
                "reason": error.reason,
                "tries": row.tries - 1,
            }
            return None, None, began
        except (Held, WrongKey) as error:
            settled |= {"state": move(State.SENDING, State.HELD), "reason": str(error), "tries": row.tries - 1}
            return None, None, began
        except Exception as error:
            if is_database_failure(error):
                log.warning("a send could not be prepared yet", send=row.id, why=str(error)[:200])
                settled |= {
                    "state": move(State.SENDING, State.RETRYING),
                    "due_at": began + dt.timedelta(seconds=10),
                    "reason": "The database could not be read.",
                    "tries": row.tries - 1,
                }
                return None, None, began
            log.exception("a send could not be prepared", send=row.id)
            settled |= {
                "state": move(State.SENDING, State.HELD),
                "reason": f"The message could not be made: {type(error).__name__}. The log says more.",
                "tries": row.tries - 1,
            }
            return None, None, began
        settled |= ready.settled
        self._results.contents.append(ready.content)
        began = self._clock.now()
        try:
            outcome = way.deliver(ready.mail, row.id)
        except Exception as error:
            log.exception("a gateway raised", send=row.id, gateway=ready.gateway.key)
            self._drop_way(row.gateway_id)
            outcome = Outcome(
                "unknown",
                "",
                f"The connection broke off inside Angelon: {type(error).__name__}. Whether the gateway took it is "
                "not known.",
                unreachable=True,
            )
        if row.gateway_id is not None:
            self._breakers.note(
                row.gateway_id, not outcome.unreachable, storable_text(outcome.answer), self._clock.now()
            )
        return ready.gateway, outcome, began

    def _following(self, row: Any, live: LiveSetup, gateway: Gateway | None, state: State) -> dict[str, Any]:
        """When what follows this send is to be looked at: now, where it is held or has failed and anything follows."""
        if state is State.SENT:
            return {"fall_at": None} if gateway is not None and gateway.receipts is None else {}
        if state not in (State.HELD, State.FAILED):
            return {}
        if row.test or not needs_followup(live, route_of(row, live)):
            return {"fall_at": None}
        self.followed = True
        return {"fall_at": self._clock.now()}

    def _settle(self, row: Any, gateway: Gateway, outcome: Outcome, now: dt.datetime, settled: dict[str, Any]) -> None:
        said = storable_text(" ".join(part for part in (outcome.code, outcome.answer) if part))
        if outcome.kind == "accepted":
            settled |= {"state": move(State.SENDING, State.SENT), "settled_at": now, "reference": outcome.reference}
        elif outcome.kind == "permanent":
            settled |= {
                "state": move(State.SENDING, State.FAILED),
                "settled_at": now,
                "reason": f"Refused for good: {said}",
            }
        else:
            at = gateway.retry.next_try(
                row.tries, row.first_try_at or now, now, self._clock.dice.random, outcome.retry_after
            )
            if at is None:
                settled |= {
                    "state": move(State.SENDING, State.FAILED),
                    "settled_at": now,
                    "reason": f"Given up after {row.tries} tries: {said}",
                }
            else:
                settled |= {"state": move(State.SENDING, State.RETRYING), "due_at": at, "reason": said}

    def _way(self, live: LiveSetup, row: Any, gateway: Gateway) -> Way:
        """This thread's connection to a gateway, made anew when its settings have changed."""
        version = f"{live.version}"
        held = self._ways.get(row.gateway_id)
        if held and held[0] == version:
            return held[1]
        self._drop_way(row.gateway_id)
        with self._database.reading() as session:
            secrets = self._vault.get(session, "gateway", row.gateway_id, self._clock.now())
        way = self._make_way(gateway, secrets[0].text if secrets else "")
        self._ways[row.gateway_id] = (version, way)
        return way

    def _drop_way(self, gateway_id: int) -> None:
        held = self._ways.pop(gateway_id, None)
        if held is not None:
            try:
                held[1].close()
            except Exception:
                log.exception("a connection could not be closed", gateway=gateway_id)


def _store(connection: Connection, results: _Results) -> None:
    queries.settle(connection, results.settled)
    queries.add_attempts(connection, results.attempts)
    queries.keep_content(connection, results.contents)


def recover(
    database: Database,
    clock: Clock,
    dead: list[str],
    in_hand: Collection[str] = (),
    seen: dict[str, tuple[int, float]] | None = None,
) -> int:
    """Gives back sends whose worker is gone; their last try is logged as unknown. Says how many.

    `dead` are workers that are known to be gone. Sends `in_hand` are never taken: the caller is trying them, or holds
    what they came to and could not store it yet. With `seen`, which the caller keeps, a lease counts as run out
    when it was found so at two looks that lie LONGEST_TRY apart by the machine's running time: a clock that was put
    forward lets every lease end at once, while the tries go on.
    """
    now = clock.now()

    def found(connection: Connection) -> list[Any]:
        rows = queries.abandoned(connection, now, dead)
        return [row for row in rows if row.worker in dead or (row.id not in in_hand and _long_over(row, seen))]

    with database.reading() as session:
        if not found(session.connection()):
            return 0
    with database.connection() as connection:
        rows = found(connection)
        queries.add_attempts(
            connection,
            [
                {
                    "send_id": r.id,
                    "number": r.tries,
                    "began_at": (r.lease_until or now) - LEASE,
                    "ended_at": now,
                    "outcome": "unknown",
                    "code": "",
                    "answer": UNKNOWN,
                }
                for r in rows
            ],
        )
        queries.give_back(connection, [r.id for r in rows], now, UNKNOWN)
    return len(rows)


LONGEST_TRY = 150.0
"""Seconds that no try takes longer than."""


def _long_over(row: Any, seen: dict[str, tuple[int, float]] | None) -> bool:
    if seen is None:
        return True
    moment = time.monotonic()
    tries, first = seen.setdefault(row.id, (row.tries, moment))
    if tries != row.tries:
        seen[row.id] = (row.tries, moment)
        return False
    return moment - first >= LONGEST_TRY
