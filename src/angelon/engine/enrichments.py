"""Asks addresses and handlers about events before these are planned: outside any transaction, tried again, given up in
the end.
"""

from __future__ import annotations

import datetime as dt
from typing import Any

import structlog
from sqlmodel import Session

from angelon.core.enriching import answer, look_up_request, wanted
from angelon.core.payload.body import NotReadable
from angelon.core.planning.plan import work_out
from angelon.core.problems import Invalid
from angelon.core.specs.enrichment import Enrichment
from angelon.db import answers
from angelon.db.database import Database, is_database_failure
from angelon.db.live_setup import LiveSetup
from angelon.db.secrets import Vault
from angelon.engine.clock import Clock
from angelon.engine.event_reader import Payloads
from angelon.engine.handlers.runner import HandlerRunner
from angelon.engine.planner import describe_fault
from angelon.engine.setups import Setups
from angelon.gateways.fetching import CantFetch, fetch

log = structlog.get_logger()

CLAIM = dt.timedelta(minutes=3)
"""How long an event is kept from others while it is asked about."""


class Enricher:
    """Asks about events that wait for it. What goes wrong with one event is kept as its answer's problem."""

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        worker: str = "",
        runner: HandlerRunner | None = None,
        vault: Vault | None = None,
    ) -> None:
        self._vault = vault
        self._runner = runner or HandlerRunner(database, clock, None)
        self._database = database
        self._setups = setups
        self._clock = clock
        self._worker = worker
        self._payloads = Payloads()

    def run_due(self, limit: int = 8) -> int:
        """Asks about up to `limit` events that wait; gives how many may be planned now."""
        now = self._clock.now()
        without = self._setups.unreadable_sources()
        with self._database.reading() as session:
            if not answers.waiting(session.connection(), now, 1, without):
                return 0
        with self._database.connection() as connection:
            rows = answers.waiting(connection, now, limit, without)
            answers.claim(connection, [row.id for row in rows], now + CLAIM, self._worker)
        return sum(self._guarded(row) for row in rows)

    def _guarded(self, row: Any) -> bool:
        try:
            return self._one(row)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("an event could not be asked about; it is planned without", event_id=row.id)
            fault = f"It could not be asked: {describe_fault(error)}"
        live = self._setups.of_source(row.source_id)
        now = self._clock.now()
        with self._database.connection() as connection:
            for one in _asked_about(live, row):
                answers.keep(connection, row.id, one.name, 1, now, "", None, fault)
            answers.wait(connection, row.id, None)
        return True

    def _one(self, row: Any) -> bool:
        """Asks everything about one event that has not been answered; says whether it needs nothing more."""
        live = self._setups.of_source(row.source_id)
        with self._database.reading() as session:
            done = {kept.name: kept for kept in answers.all_of(session.connection(), row.id)}
            self._payloads.load(session.connection(), live, [row])
            secrets = {
                one.name: secret_of(self._vault, session, row.source_id, one, self._clock.now())
                for one in _asked_about(live, row)
                if one.name not in done or done[one.name].problem
            }
        again: list[dt.datetime] = []
        for one in _asked_about(live, row):
            kept = done.get(one.name)
            if kept is not None and not kept.problem:
                continue
            tries = (kept.tries if kept else 0) + 1
            url, value, problem, for_good = self._ask(live, row, one, secrets[one.name])
            now = self._clock.now()
            with self._database.connection() as connection:
                answers.keep(connection, row.id, one.name, tries, now, url, value, problem)
            if problem and not for_good:
                at = one.retry.next_try(tries, row.received_at, now, self._clock.rng.random)
                if at is not None:
                    again.append(at)
        until = min(again) if again else self._runner.run(live, row, self._payloads)
        self._payloads.trim()
        with self._database.connection() as connection:
            answers.wait(connection, row.id, until)
        return until is None

    def _ask(self, live: LiveSetup, row: Any, one: Enrichment, secret: str) -> tuple[str, Any, str, bool]:
        """(address, value, problem, whether another try would come to the same)."""
        source = live.setup.sources[live.source_key(row.source_id)]
        try:
            payload = self._payloads.of(row)
        except NotReadable as error:
            return "", None, str(error), True
        return ask(live, one, work_out(source, live.setup, payload)[0].context, secret)


def _asked_about(live: LiveSetup, row: Any) -> list[Enrichment]:
    """What is asked about an event: about a delivery itself, not about what follows from it."""
    source = live.setup.sources[live.source_key(row.source_id)]
    return [] if row.parent_id else wanted(source.enrichments, row.name)


def secret_kind(name: str) -> str:
    """What the credentials of a look-up are kept as, by its source."""
    return f"look-up:{name}"


def secret_of(vault: Vault | None, session: Session, source_id: int, one: Enrichment, now: dt.datetime) -> str:
    """The password or token of a look-up; empty where it needs or has none. Raises WrongKey."""
    if vault is None or one.auth.scheme == "none":
        return ""
    kept = vault.get(session, secret_kind(one.name), source_id, now)
    return kept[0].text if kept else ""


def ask(live: LiveSetup, one: Enrichment, context: Any, secret: str = "") -> tuple[str, Any, str, bool]:
    """One try: (address, value, problem, whether another try would come to the same)."""
    url = ""
    try:
        request = look_up_request(one, context, secret)
        url = request.url
        body = request.body if one.method == "POST" else None
        hosts = live.setup.store.private_hosts
        found = fetch(url, hosts, one.max_bytes, one.timeout_seconds, request.headers, body)
        return url, answer(one, found), "", False
    except Invalid as error:
        return url, None, error.problems[0].what, True
    except CantFetch as error:
        return url, None, str(error), error.for_good
    except Exception as error:
        log.exception("an address could not be asked", url=url)
        return url, None, f"It could not be asked: {type(error).__name__}.", False
