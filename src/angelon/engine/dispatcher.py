"""Takes due sends to their gateways: claim, guard again, render, deliver, settle."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import structlog
from sqlalchemy import Connection

from angelon.core.specs.gateway import Gateway
from angelon.core.states import State, move
from angelon.db import sends as queries
from angelon.db.database import Database
from angelon.db.secrets import Vault
from angelon.db.setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.planner import needs_followup
from angelon.engine.preparing import Held, NoMore, NotNow, Preparing, route_of
from angelon.engine.setups import Setups
from angelon.gateways.interface import Outcome, Way
from angelon.gateways.ways import way_for

log = structlog.get_logger()

LEASE = dt.timedelta(minutes=10)
"""How long a claim lasts. It is extended where less than half is left, which is more than the slowest try can take
(connecting and five answers, each at most the gateway's 40 s)."""
ENOUGH, FEWEST, MOST = 0.25, 2, 32
"""What one thread takes at a time: what goes out in so many seconds, within bounds. Nobody else can send what it holds, so a
gateway that grows slow in the middle holds up no more than that."""
UNKNOWN = "The worker stopped while this send was in its hands. Whether the gateway took it is not known; it is tried again under the same Message-ID."


@dataclass
class _Results:
    """What a batch came to, stored in one transaction."""

    settled: list[dict[str, Any]] = field(default_factory=list)
    attempts: list[dict[str, Any]] = field(default_factory=list)
    contents: list[dict[str, Any]] = field(default_factory=list)


def fitting(number: int, took: float) -> int:
    """How many sends to take at once after `number` of them took so many seconds."""
    return max(FEWEST, min(MOST, int(number * ENOUGH / max(took, 0.001))))


MakeWay = Callable[[Gateway, str], Way]


class Dispatcher:
    """One thread's worth of delivering, with its own connection to each gateway."""

    def __init__(self, name: str, database: Database, setups: Setups, vault: Vault, clock: Clock, make_way: MakeWay = way_for) -> None:
        self.name = name
        self._database = database
        self._setups = setups
        self._vault = vault
        self._clock = clock
        self._make_way = make_way
        self._ways: dict[int, tuple[str, Way]] = {}
        self._preparing = Preparing(database)
        self.followed = False
        """Whether something that it settled has something to follow; whoever looks at that sets it back."""

    def run_batch(self, limit: int = 16, more: Callable[[], None] | None = None) -> int:
        """Takes up to `limit` due sends through; gives how many.

        `more` is called where there may be more than that, before these are delivered.
        """
        return self._deliver(self._next(_Results(), limit), limit, more)[0]

    def run(self, limit: int, more: Callable[[], None], stopped: Callable[[], bool]) -> int:
        """Takes due sends through until none is left, storing one batch's outcomes and claiming the next in one commit.

        It begins with `limit` sends and then takes as many as go out in about `ENOUGH`: many by a quick gateway, few by a slow one.
        """
        done, results = 0, _Results()
        while True:
            claimed = self._next(results, limit if not stopped() else 0)
            if not claimed:
                return done
            began = time.monotonic()
            number, results = self._deliver(claimed, limit, more, keep=True)
            limit = fitting(number, time.monotonic() - began)
            done += number

    def _next(self, results: _Results, limit: int) -> list[Any]:
        """Stores outcomes and claims what is due, in one transaction."""
        with self._database.connection() as connection:
            _store(connection, results)
            claimed = queries.claim(connection, self.name, self._clock.now(), LEASE, limit) if limit else []
            self._preparing.begin(connection, claimed, self._clock.now())
            return claimed

    def _deliver(self, claimed: list[Any], limit: int, more: Callable[[], None] | None, keep: bool = False) -> tuple[int, _Results]:
        """Delivers claimed sends; stores their outcomes unless the caller keeps them for its next commit."""
        if more and len(claimed) == limit:
            more()
        results = _Results()
        lease_until = claimed[0].lease_until if claimed else None
        try:
            for position, row in enumerate(claimed):
                if lease_until - self._clock.now() < LEASE / 2:
                    lease_until = self._flush_and_extend(results, [r.id for r in claimed[position:]])
                    results = _Results()
                self._one(row, results)
        except BaseException:
            self._flush(results)
            raise
        if not keep:
            self._flush(results)
        return len(claimed), results

    def close(self) -> None:
        for _, way in self._ways.values():
            way.close()
        self._ways.clear()

    def _flush_and_extend(self, results: _Results, rest: list[str]) -> dt.datetime:
        until = self._clock.now() + LEASE
        self._flush(results)
        with self._database.connection() as connection:
            queries.extend(connection, rest, self.name, until)
        return until

    def _flush(self, results: _Results) -> None:
        if results.settled:
            with self._database.connection() as connection:
                _store(connection, results)

    def _one(self, row: Any, results: _Results) -> None:
        live = self._setups.get(row.store_id)
        settled: dict[str, Any] = {
            "b_id": row.id, "b_worker": self.name, "reason": "", "due_at": row.due_at, "settled_at": None, "subject": row.subject,
            "revision_id": row.revision_id, "tries": row.tries, "values": None, "reference": row.reference, "cost": row.cost, "fall_at": row.fall_at,
        }  # fmt: skip
        results.settled.append(settled)
        try:
            ready = self._preparing.ready(row, live, self._clock.now())
        except NotNow as error:
            ready = None
            outcome, began = Outcome("temporary", "", error.reason), self._clock.now()
            gateway = self._preparing.gateway(row, live)
        except NoMore as error:
            settled |= {"state": move(State.SENDING, State.SKIPPED), "settled_at": self._clock.now(), "reason": error.reason, "tries": row.tries - 1}
            return
        except Held as error:
            settled |= {"state": move(State.SENDING, State.HELD), "reason": error.reason, "tries": row.tries - 1} | self._follow(row, live)
            return
        except Exception as error:
            log.exception("a send could not be prepared", send=row.id)
            settled |= {"state": move(State.SENDING, State.HELD), "reason": f"The message could not be made: {type(error).__name__}. The log says more.", "tries": row.tries - 1} | self._follow(row, live)
            return
        if ready is not None:
            gateway = ready.gateway
            settled |= ready.settled
            results.contents.append(ready.content)
            began = self._clock.now()
            outcome = self._way(live, row, gateway).deliver(ready.mail, row.id)
        ended = self._clock.now()
        results.attempts.append(
            {"send_id": row.id, "number": row.tries, "began_at": began, "ended_at": ended, "outcome": outcome.kind, "code": outcome.code, "answer": outcome.answer}
        )
        self._settle(row, gateway, outcome, ended, settled)
        settled |= self._follow(row, live) if settled["state"] is State.FAILED else {"fall_at": None} if settled["state"] is State.SENT and gateway.receipts is None else {}

    def _follow(self, row: Any, live: LiveSetup) -> dict[str, Any]:
        """When what follows a send that is held or has failed is to be looked at: now, where anything does."""
        if row.test or not needs_followup(live, route_of(row, live)):
            return {"fall_at": None}
        self.followed = True
        return {"fall_at": self._clock.now()}

    def _settle(self, row: Any, gateway: Gateway, outcome: Outcome, now: dt.datetime, settled: dict[str, Any]) -> None:
        said = " ".join(part for part in (outcome.code, outcome.answer) if part)
        if outcome.kind == "accepted":
            settled |= {"state": move(State.SENDING, State.SENT), "settled_at": now, "reference": outcome.reference}
        elif outcome.kind == "permanent":
            settled |= {"state": move(State.SENDING, State.FAILED), "settled_at": now, "reason": f"Refused for good: {said}"}
        else:
            at = gateway.retry.next_try(row.tries, row.first_try_at or now, now, self._clock.dice.random, outcome.retry_after)
            if at is None:
                settled |= {"state": move(State.SENDING, State.FAILED), "settled_at": now, "reason": f"Given up after {row.tries} tries: {said}"}
            else:
                settled |= {"state": move(State.SENDING, State.RETRYING), "due_at": at, "reason": said}

    def _way(self, live: LiveSetup, row: Any, gateway: Gateway) -> Way:
        """This thread's connection to a gateway, made anew when its settings have changed."""
        mark = f"{live.version}"
        held = self._ways.get(row.gateway_id)
        if held and held[0] == mark:
            return held[1]
        if held:
            held[1].close()
        with self._database.reading() as session:
            secrets = self._vault.get(session, "gateway", row.gateway_id, self._clock.now())
        way = self._make_way(gateway, secrets[0].text if secrets else "")
        self._ways[row.gateway_id] = (mark, way)
        return way


def _store(connection: Connection, results: _Results) -> None:
    queries.settle(connection, results.settled)
    queries.add_attempts(connection, results.attempts)
    queries.keep_content(connection, results.contents)


def recover(database: Database, clock: Clock, dead: list[str]) -> int:
    """Gives back sends whose worker is gone; their last try is logged as unknown. Says how many."""
    now = clock.now()
    with database.reading() as session:
        if not queries.abandoned(session.connection(), now, dead):
            return 0
    with database.connection() as connection:
        rows = queries.abandoned(connection, now, dead)
        queries.add_attempts(
            connection,
            [
                {"send_id": r.id, "number": r.tries, "began_at": (r.lease_until or now) - LEASE, "ended_at": now, "outcome": "unknown", "code": "", "answer": UNKNOWN}
                for r in rows
            ],
        )
        queries.give_back(connection, [r.id for r in rows], now, UNKNOWN)
    return len(rows)
