"""Takes due sends to their gateways: claim, guard again, render, deliver, settle."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Collection
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import structlog
from sqlalchemy import Connection

from angelon.core.deliveries import storable_text
from angelon.core.messages.channels import address_key
from angelon.core.planning.follow_up import has_follow_up
from angelon.core.sending.outgoing import subject_of
from angelon.core.sending.prepare import Held, Later, Skipped
from angelon.core.specs.gateway import Gateway
from angelon.core.states import State, move
from angelon.db import locks
from angelon.db.access.secrets import Vault, WrongKey
from angelon.db.database import Database, is_database_failure
from angelon.db.log import sends as queries
from angelon.db.log.sends import EVERY_GATEWAY
from angelon.db.records import NewAttempt, Settlement
from angelon.db.rows import SendRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.upkeep import gateway_use
from angelon.engine import counters
from angelon.engine.clock import Clock
from angelon.engine.feedback.call_answers import CallAnswer
from angelon.engine.feedback.preferences import Links
from angelon.engine.feedback.receipts import match_early
from angelon.engine.feedback.suppressing import Refusal
from angelon.engine.sending.breakers import Breakers
from angelon.engine.sending.preparing import PreparedSend, Preparer
from angelon.engine.sending.results import Results
from angelon.engine.setups import Setups
from angelon.gateways.interface import Outcome, Transport
from angelon.gateways.transports import transport_for

log = structlog.get_logger()

LEASE = dt.timedelta(minutes=10)
"""How long a claim lasts. It is extended where less than half is left, which is more than the slowest try can take."""
ENOUGH, FEWEST, MOST = 0.25, 1, 32
"""What one thread takes at a time: what goes out in so many seconds, within bounds."""
SLOW = 1.0
"""Seconds that one try may take before what was claimed with it and not begun is given back, for other threads to take.
"""
UNKNOWN = (
    "The worker stopped while this send was in its hands. Whether the gateway took it is not known; it is "
    "tried again under the same Message-ID."
)


def fitting(number: int, took: float) -> int:
    """How many sends to take at once after `number` of them took so many seconds."""
    return max(FEWEST, min(MOST, int(number * ENOUGH / max(took, 0.001))))


MakeTransport = Callable[[Gateway, str], Transport]


class Dispatcher:
    """One thread's worth of delivering, with its own connection to each gateway."""

    def __init__(
        self,
        name: str,
        database: Database,
        setups: Setups,
        vault: Vault,
        clock: Clock,
        make_transport: MakeTransport = transport_for,
        breakers: Breakers | None = None,
        stopped: Callable[[], bool] = lambda: False,
        in_hand: set[str] | None = None,
        base_url: str = "",
    ) -> None:
        """`in_hand` is where the ids of sends stand that are being tried, or whose outcome is not stored yet."""
        self.name = name
        self._database = database
        self._setups = setups
        self._vault = vault
        self._clock = clock
        self._make_transport = make_transport
        self._breakers = breakers or Breakers()
        self._stopped = stopped
        self._transports: dict[int | None, tuple[str, Transport]] = {}
        self._preparer = Preparer(database, setups, Links(vault, base_url), clock)
        self._in_hand = in_hand if in_hand is not None else set()
        self._results = Results(database, self._breakers, stopped, self._in_hand)
        self.fallback_due = False
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

        What a batch came to is stored together with the claim of the next. It begins with `limit` sends and then takes
        as many as go out in about `ENOUGH`: many by a quick gateway, few by a slow one.
        """
        done = 0
        while True:
            admitted = self._breakers.of(None if gateway_id == EVERY_GATEWAY else gateway_id).admits(self._clock.now())
            if stopped() or admitted == "none":
                self.store()
                return done
            claimed = self._store_and_claim(1 if admitted == "one" else limit, gateway_id)
            if not claimed:
                return done
            began = time.monotonic()
            number = self._deliver(claimed, limit, more)
            limit = fitting(number, time.monotonic() - began)
            done += number

    def store(self) -> None:
        """Stores what tries have come to, and takes the receipts that were waiting for it."""
        if self._results.store():
            self._match_receipts()

    def _match_receipts(self) -> None:
        """Matches receipts that came before their send was stored. After a fault they wait: sends are in hand."""
        if self._results.references:
            try:
                match_early(self._database, self._setups, self._clock, self._results.references)
            except Exception as error:
                log.warning("early receipts could not be matched", why=str(error)[:200])
            else:
                self._results.references = []

    def _store_and_claim(self, limit: int, gateway_id: int | None) -> list[SendRecord]:
        """Stores what tries have come to and takes the next sends by one commit; by two where that fails."""
        if self._results.any():
            try:
                with self._results.storing() as connection:
                    claimed = self._claim_by(connection, limit, gateway_id)
                self._in_hand.update(row.id for row in claimed)
            except Exception as error:
                log.warning("what sends came to could not be stored with a claim", why=str(error)[:200])
            else:
                self._match_receipts()
                return claimed
        self.store()
        return self._claim(limit, gateway_id)

    def _claim(self, limit: int, gateway_id: int | None) -> list[SendRecord]:
        with self._database.connection() as connection:
            claimed = self._claim_by(connection, limit, gateway_id)
        self._in_hand.update(row.id for row in claimed)
        return claimed

    def _claim_by(self, connection: Connection, limit: int, gateway_id: int | None) -> list[SendRecord]:
        claimed = queries.claim(connection, self.name, self._clock.now(), LEASE, limit, gateway_id)
        return self._allowed(connection, claimed)

    def _allowed(self, connection: Connection, claimed: list[SendRecord]) -> list[SendRecord]:
        """Those of claimed sends that their gateways may take now; the others are given back at once, to wait."""
        kept: list[SendRecord] = []
        for gateway_id in dict.fromkeys(row.gateway_id for row in claimed):
            rows = [row for row in claimed if row.gateway_id == gateway_id]
            found = self._setups.gateway(gateway_id) if gateway_id is not None else None
            number = len(rows)
            live, gateway = found if found is not None else (None, None)
            if gateway_id is not None and live is not None and gateway is not None and gateway.is_counted:
                zone = ZoneInfo(live.setup.store.timezone)
                number = gateway_use.take(connection, gateway_id, gateway, len(rows), self._clock.now(), zone)
                queries.release(connection, rows[number:], self.name)
            kept += rows[:number]
        return kept

    def _deliver(self, claimed: list[SendRecord], limit: int, more: Callable[[], None] | None) -> int:
        """Delivers claimed sends; gives how many. What is not begun when it takes too long is given back."""
        try:
            return self._deliver_in_turn(claimed, limit, more)
        finally:  # what was neither begun nor given back is no longer ours: its lease runs out
            self._in_hand.difference_update({row.id for row in claimed} - self._results.ids())

    def _deliver_in_turn(self, claimed: list[SendRecord], limit: int, more: Callable[[], None] | None) -> int:
        if more and len(claimed) >= limit:
            more()
        if not claimed:
            return 0
        lease_until = claimed[0].lease_until or self._clock.now()
        self._gather(claimed)
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

    def _release(self, rest: list[SendRecord]) -> None:
        try:
            with self._database.connection() as connection:
                queries.release(connection, rest, self.name)
                gateway_id = rest[0].gateway_id
                found = self._setups.gateway(gateway_id) if gateway_id is not None else None
                if gateway_id is not None and found is not None:
                    gateway_use.put_back(connection, gateway_id, found[1], len(rest))
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
        for _, transport in self._transports.values():
            transport.close()
        self._transports.clear()

    def _gather(self, claimed: list[SendRecord]) -> None:
        """Reads what is known around a batch. What fails is tried again for each send when its turn comes."""
        try:
            self._preparer.gather(claimed, self._clock.now())
        except Exception as error:
            log.warning("what is known around sends could not be read yet", sends=len(claimed), why=str(error)[:200])

    def _one(self, row: SendRecord) -> None:
        """Takes one send through. Whatever is raised on the way concerns this send alone."""
        settled = Settlement.of(row, self.name)
        try:
            live = self._setups.get(row.store_id)
            gateway = live.setup.gateways.get(live.gateway_key(row.gateway_id))
            outcome = self._try(row, live, settled)
            if outcome is not None and gateway is not None:
                self._settle(row, gateway, outcome, settled)
                self._keep_answer(row, live, outcome)
                if outcome.kind == "permanent" and not row.test and not live.trial:
                    answer = f"{outcome.code} {storable_text(outcome.answer)}"
                    refusal = Refusal(row.id, live, row.channel, row.recipient, answer, self._clock.now())
                    self._results.add_refused(refusal)
            self._follow(row, live, gateway, settled)
        except Exception as error:
            if is_database_failure(error) and not self._results.tried(row.id):
                self._not_prepared(row, error, settled, self._clock.now())  # the set-up can't be read just now
            else:
                self._fell(row, error, settled)
        self._results.add(settled)

    def _keep_answer(self, row: SendRecord, live: LiveSetup, outcome: Outcome) -> None:
        """Keeps what a test was answered, and what a call was answered for good, where its message says so."""
        if row.test and outcome.body and row.gateway_id is not None:
            self._results.add_test(row.id, row.gateway_id, outcome.body, self._clock.now())
        if row.channel != "call" or outcome.kind not in ("accepted", "permanent") or not outcome.code:
            return
        now = self._clock.now()
        answer = CallAnswer.of(row, live, outcome, now, self._clock.new_id("ev", now))
        if answer is not None:
            self._results.add_answer(answer)

    def _fell(self, row: SendRecord, error: Exception, settled: Settlement) -> None:
        """Something raised that nobody expected: a person looks at it, unless the gateway has been handed it."""
        log.exception("a send could not be taken through", send=row.id)
        settled.reason = f"It could not be processed: {type(error).__name__}. The log says more."
        if self._results.tried(row.id):
            settled.state, settled.due_at = State.RETRYING, self._clock.now() + dt.timedelta(minutes=5)
        else:
            settled.state, settled.tries = State.HELD, row.tries - 1

    def _try(self, row: SendRecord, live: LiveSetup, settled: Settlement) -> Outcome | None:
        """How a try ended; None where none was made, and `settled` says why."""
        began = self._clock.now()
        try:
            prepared = self._preparer.prepare(row, live, began)
            goes = isinstance(prepared, PreparedSend) and not prepared.ready.kept
            transport = self._transport(live, row, prepared.ready.gateway) if goes else None  # type: ignore[union-attr]
        except Exception as error:
            self._not_prepared(row, error, settled, began)
            return None
        if isinstance(prepared, Held):
            settled.not_tried(State.HELD, prepared.reason)
            return None
        if isinstance(prepared, Skipped):
            route = live.routes.get(live.route_key(row.route_id))
            other_way = prepared.nobody_there and route is not None and len(route.fallback.options) > row.step
            settled.not_tried(State.FAILED if other_way else State.SKIPPED, prepared.reason, began)
            return None
        if isinstance(prepared, Later):
            return self._log_attempt(row, Outcome("temporary", "", prepared.reason), began)
        ready = prepared.ready
        settled.revision_id, settled.values = ready.revision_id, prepared.values
        settled.subject = subject_of(ready.rendered)
        settled.cost = ready.cost or settled.cost
        self._results.add_content(prepared.content, prepared.files)
        if ready.kept:
            settled.cost = ""
            settled.not_tried(State.SKIPPED, ready.kept, began)
            return None
        assert transport is not None
        settled.reason = ready.trial
        store = live.setup.store.key
        return self._hand_over(row, store, ready.gateway, transport, prepared.outgoing, settled)

    def _hand_over(
        self, row: SendRecord, store: str, gateway: Gateway, transport: Transport, outgoing: Any, settled: Settlement
    ) -> Outcome:
        began = self._clock.now()
        try:
            outcome = transport.deliver(outgoing, row.id)
        except Exception as error:
            log.exception("a gateway raised", send=row.id, gateway=gateway.key)
            self._drop_transport(row.gateway_id)
            what = f"The connection broke off inside Angelon: {type(error).__name__}."
            outcome = Outcome("unknown", "", f"{what} Whether the gateway took it is not known.", unreachable=True)
        if row.gateway_id is not None:
            if not row.test and not settled.reason:  # on trial it went to somebody else
                key = address_key(row.channel, row.recipient)
                outcome, wronged = self._breakers.judged(row.gateway_id, outcome, row.store_id, key)
                self._results.add_taken_back(wronged)
            reason = storable_text(outcome.reason)
            self._breakers.note(row.gateway_id, not outcome.unreachable, reason, self._clock.now())
        late = (began - row.due_at).total_seconds() if row.tries <= 1 else None
        took = (self._clock.now() - began).total_seconds()
        counters.tried(store, gateway.key, outcome.kind, took, late)
        return self._log_attempt(row, outcome, began)

    def _log_attempt(self, row: SendRecord, outcome: Outcome, began: dt.datetime) -> Outcome:
        answer = storable_text(outcome.answer)
        self._results.add_attempt(
            NewAttempt(row.id, row.tries, began, self._clock.now(), outcome.kind, outcome.code, answer)
        )
        return outcome

    def _not_prepared(self, row: SendRecord, error: Exception, settled: Settlement, now: dt.datetime) -> None:
        """Something raised before the gateway was handed anything."""
        if is_database_failure(error):
            log.warning("a send could not be prepared yet", send=row.id, why=str(error)[:200])
            settled.not_tried(State.RETRYING, "The database could not be read.")
            settled.due_at = now + dt.timedelta(seconds=10)
        elif isinstance(error, WrongKey):
            settled.not_tried(State.HELD, str(error))
        else:
            log.exception("a send could not be prepared", send=row.id)
            settled.not_tried(State.HELD, f"The message could not be made: {type(error).__name__}. The log says more.")

    def _follow(self, row: SendRecord, live: LiveSetup, gateway: Gateway | None, settled: Settlement) -> None:
        """Says when what follows this send is looked at: now, where it is held or has failed and anything follows."""
        if settled.state is State.SENT and gateway is not None and gateway.receipts is None:
            settled.fallback_at = None
        if settled.state is State.SKIPPED and row.instead_of:
            settled.fallback_at, self.fallback_due = self._clock.now(), True
        if settled.state not in (State.HELD, State.FAILED):
            return
        route = None if row.test else live.routes.get(live.route_key(row.route_id))
        settled.fallback_at = None
        if has_follow_up(route, live.setup.routes):
            settled.fallback_at = self._clock.now()
            self.fallback_due = True

    def _settle(self, row: SendRecord, gateway: Gateway, outcome: Outcome, settled: Settlement) -> None:
        """How a send stands after a try, by the gateway's retry policy."""
        now = self._clock.now()
        answer = storable_text(" ".join(part for part in (outcome.code, outcome.answer) if part))
        if outcome.kind == "accepted":
            settled.state, settled.settled_at = move(State.SENDING, State.SENT), now
            settled.reference = outcome.reference
            if settled.cost and row.gateway_id is not None:
                self._results.add_spent(row.id, row.gateway_id, Decimal(settled.cost))
            if outcome.balance is not None and row.gateway_id is not None:
                self._results.balances[row.gateway_id] = outcome.balance
            if outcome.reference and row.gateway_id is not None:
                self._results.references.append((row.gateway_id, outcome.reference))
            return
        if outcome.kind == "permanent":
            settled.state, settled.settled_at = move(State.SENDING, State.FAILED), now
            settled.reason = f"Permanent failure: {answer}"
            return
        first = row.first_try_at or now
        at = gateway.retry.next_try(row.tries, first, now, self._clock.rng.random, outcome.retry_after)
        if at is None:
            settled.state, settled.settled_at = move(State.SENDING, State.FAILED), now
            settled.reason = f"Failed after {row.tries} tries: {answer}"
        else:
            settled.state, settled.due_at, settled.reason = move(State.SENDING, State.RETRYING), at, answer

    def _transport(self, live: LiveSetup, row: SendRecord, gateway: Gateway) -> Transport:
        """This thread's connection to a gateway, made anew when its settings have changed."""
        version = f"{live.version}"
        held = self._transports.get(row.gateway_id)
        if held and held[0] == version:
            return held[1]
        self._drop_transport(row.gateway_id)
        with self._database.reading() as session:
            secrets = self._vault.get(session, "gateway", row.gateway_id or 0, self._clock.now())
        transport = self._make_transport(gateway, secrets[0].text if secrets else "")
        self._transports[row.gateway_id] = (version, transport)
        return transport

    def _drop_transport(self, gateway_id: int | None) -> None:
        held = self._transports.pop(gateway_id, None)
        if held is not None:
            try:
                held[1].close()
            except Exception:
                log.exception("a connection could not be closed", gateway=gateway_id)


def recover(
    database: Database,
    clock: Clock,
    dead: list[str],
    in_hand: Collection[str] = (),
    seen: dict[str, tuple[int, float]] | None = None,
    own: str = "",
) -> int:
    """Gives back sends whose worker is gone; their last try is logged as unknown. Says how many.

    `dead` are workers that are known to be gone. Sends `in_hand` are never taken: the caller is trying them, or holds
    what they came to and could not store it yet. With `seen`, which the caller keeps, a lease counts as run out
    when it was found so at two looks that lie LONGEST_TRY apart by the machine's running time: a clock that was put
    forward lets every lease end at once, while the tries go on. `own` is how the names of the caller's own workers
    begin: what they have claimed and nobody has in hand was lost with the answer to a commit, or to a fault.
    """
    now = clock.now()

    def over(row: SendRecord) -> bool:
        mine = bool(own) and row.worker.startswith(own)
        return row.id not in in_hand and _long_over(row, seen, LOST if mine else LONGEST_TRY)

    def found(connection: Connection) -> list[SendRecord]:
        return [row for row in queries.abandoned(connection, now, dead, own) if row.worker in dead or over(row)]

    with database.reading() as session:
        if not found(session.connection()):
            return 0
    with database.connection(locks.RECOVERING) as connection:
        rows = found(connection)
        queries.add_attempts(
            connection,
            [NewAttempt(r.id, r.tries, (r.lease_until or now) - LEASE, now, "unknown", "", UNKNOWN) for r in rows],
        )
        queries.give_back(connection, [r.id for r in rows], now, UNKNOWN)
    return len(rows)


LONGEST_TRY = 150.0
"""Seconds that no try takes longer than."""
LOST = 5.0
"""Seconds after which a claim of a worker's own that it has not in hand is lost: longer than taking it up lasts."""


def _long_over(row: SendRecord, seen: dict[str, tuple[int, float]] | None, seconds: float) -> bool:
    if seen is None:
        return True
    moment = time.monotonic()
    tries, first = seen.setdefault(row.id, (row.tries, moment))
    if tries != row.tries:
        seen[row.id] = (row.tries, moment)
        return False
    return moment - first >= seconds
