"""What tries came to, kept until it is stored: what is out must never go out again."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from decimal import Decimal

import structlog
from sqlalchemy import Connection, Dialect

from angelon.db.database import Database, is_database_failure
from angelon.db.log import sends, sent_files
from angelon.db.records import NewAttempt, NewContent, Settlement
from angelon.db.upkeep import gateway_use, test_answers
from angelon.engine import tracing
from angelon.engine.feedback.call_answers import CallAnswer
from angelon.engine.feedback.suppressing import Refusal, take_back
from angelon.engine.sending.breakers import Breakers

log = structlog.get_logger()

GIVE_UP_STORING = 10.0
"""Seconds for which a worker that is to stop goes on trying to store what it has done."""
NOT_IN_FULL = "What was sent could not be stored in full. The log says more."


@dataclass
class _Kept:
    """What there is to store about sends."""

    settled: list[Settlement] = field(default_factory=list)
    attempts: list[NewAttempt] = field(default_factory=list)
    contents: list[NewContent] = field(default_factory=list)
    files: dict[str, bytes] = field(default_factory=dict)
    """The files that went out, by their content's digest."""
    refused: list[Refusal] = field(default_factory=list)
    taken_back: list[tuple[int, str]] = field(default_factory=list)
    """(store, address key) of those who were suppressed by a gateway that refuses everybody."""
    spent: list[tuple[str, int, Decimal]] = field(default_factory=list)
    """(send, gateway id, cost) of what was accepted."""
    answers: list[CallAnswer] = field(default_factory=list)
    tests: list[tuple[str, int, bytes, dt.datetime]] = field(default_factory=list)
    """(send, gateway id, what was answered, when) of tests."""

    def of_one(self, settled: Settlement) -> _Kept:
        """What there is about one send, with all of the files."""
        return _Kept(
            [settled],
            [one for one in self.attempts if one.send_id == settled.id],
            [one for one in self.contents if one.send_id == settled.id],
            self.files,
            [one for one in self.refused if one.send_id == settled.id],
            self.taken_back,
            [one for one in self.spent if one[0] == settled.id],
            [one for one in self.answers if one.send_id == settled.id],
            [one for one in self.tests if one[0] == settled.id],
        )

    def converted(self, dialect: Dialect) -> sends.Outcomes:
        """Its rows as they are stored, made before anybody waits for them."""
        return sends.converted(dialect, self.settled, self.attempts, self.contents)

    def store(self, connection: Connection, made: sends.Outcomes) -> None:
        sends.settle(connection, made.settled)
        sends.add_attempts(connection, made.attempts)
        if self.contents:
            sent_files.keep(connection, self.files, self.contents[-1].at)
        sends.keep_content(connection, self.contents, made.contents)
        for one in self.refused:
            one.suppress(connection)
        take_back(connection, self.taken_back)
        spent: dict[int, Decimal] = {}
        for _, gateway_id, cost in self.spent:
            spent[gateway_id] = spent.get(gateway_id, Decimal(0)) + cost
        gateway_use.spend(connection, spent)
        for answer in self.answers:
            answer.keep(connection)
        for _, gateway_id, body, at in self.tests:
            test_answers.keep(connection, gateway_id, body, at)


class Results:
    """One thread's results. Not for several threads."""

    def __init__(self, database: Database, breakers: Breakers, stopped: Callable[[], bool], in_hand: set[str]) -> None:
        """`in_hand` is where the ids of sends stand that are being tried, or whose outcome is not stored yet."""
        self._database = database
        self._breakers = breakers
        self._stopped = stopped
        self._in_hand = in_hand
        self._kept = _Kept()
        self.balances: dict[int, Decimal] = {}
        """What providers have said is left, by gateway."""
        self.references: list[tuple[int, str]] = []
        """(gateway id, the provider's own id) of what was accepted and is not looked at yet."""

    def add_spent(self, send_id: str, gateway_id: int, cost: Decimal) -> None:
        """What an accepted send has cost."""
        self._kept.spent.append((send_id, gateway_id, cost))

    def add(self, settled: Settlement) -> None:
        """How a send stands after its turn."""
        self._kept.settled.append(settled)

    def add_answer(self, answer: CallAnswer) -> None:
        """What another system answered to a call, where that is kept."""
        self._kept.answers.append(answer)

    def add_test(self, send_id: str, gateway_id: int, body: bytes, at: dt.datetime) -> None:
        """What a provider answered to a test."""
        self._kept.tests.append((send_id, gateway_id, body, at))

    def add_attempt(self, attempt: NewAttempt) -> None:
        self._kept.attempts.append(attempt)

    def add_content(self, content: NewContent, files: dict[str, bytes]) -> None:
        """What a send said at its last try, and the files that went with it."""
        self._kept.contents.append(content)
        self._kept.files |= files

    def add_taken_back(self, wronged: list[tuple[int, str]]) -> None:
        """Those who were suppressed, and should not have been."""
        self._kept.taken_back += wronged

    def add_refused(self, refusal: Refusal) -> None:
        """A gateway has refused a send for good."""
        self._kept.refused.append(refusal)

    def tried(self, send_id: str) -> bool:
        return any(attempt.send_id == send_id for attempt in self._kept.attempts)

    def ids(self) -> set[str]:
        """The sends whose results are not stored yet."""
        return {settled.id for settled in self._kept.settled}

    def store(self) -> bool:
        """Stores what tries have come to, however often that has to be tried; says whether there was anything.

        Where the worker is to stop it gives up after a while; the sends are then given back when their lease runs out,
        marked as unknown.
        """
        if not self._kept.settled:
            return False
        began, wait, together = time.monotonic(), 0.05, True
        while self._kept.settled:
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
                    sends=len(self._kept.settled),
                    why=str(error)[:200],
                )
            time.sleep(wait)
            wait = min(wait * 2, 2.0)
        self._kept = _Kept()
        return True

    def any(self) -> bool:
        """Whether anything is not stored yet."""
        return bool(self._kept.settled)

    def _store_all(self) -> None:
        with self.storing():
            pass

    @contextmanager
    def storing(self) -> Iterator[Connection]:
        """A transaction that stores all that tries have come to, and what else is done within it."""
        made = self._kept.converted(self._database.engine.dialect)
        with self._database.connection() as connection:
            self._kept.store(connection, made)
            for gateway_id, balance in self.balances.items():
                gateway_use.set_balance(connection, gateway_id, balance)
            changed = self._breakers.save(connection)
            yield connection
        self._breakers.saved(changed)
        self.balances = {}
        stored = self.ids()
        self._in_hand.difference_update(stored)
        self._kept = _Kept()
        tracing.settled(stored)

    def _store_each(self) -> None:
        """Stores one by one what could not be stored together; of what the database refuses, the outcome at the least.

        Raises where the database fails: what is not stored by then is kept.
        """
        while self._kept.settled:
            settled = self._kept.settled[0]
            for kept in (self._kept.of_one(settled), _Kept([settled.bare(NOT_IN_FULL)])):
                try:
                    made = kept.converted(self._database.engine.dialect)
                    with self._database.connection() as connection:
                        kept.store(connection, made)
                    break
                except Exception as error:
                    if is_database_failure(error):
                        raise
                    log.exception("an outcome could not be stored", send=settled.id)
            self._in_hand.discard(settled.id)
            tracing.settled([settled.id])
            self._kept.settled.pop(0)
