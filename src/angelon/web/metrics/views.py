"""`/metrics`: how it runs, in the text format of Prometheus. By a token with the scope `metrics`; without any account
also from this machine itself.
"""

from __future__ import annotations

import datetime as dt
import shutil
import time
from collections import Counter as Counted
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from flask import Blueprint, Flask, Response, g, request
from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, HistogramMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.registry import Collector

from angelon.db.access import accounts
from angelon.db.derived import metrics
from angelon.db.write_turn import Held
from angelon.engine import counters
from angelon.engine.operations import tokens
from angelon.web.access.guard import is_local
from angelon.web.services import services, session

pages = Blueprint("metrics", __name__)
SPAN = dt.timedelta(hours=1)
BOUNDS = (0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)
"""Seconds that a try took, as the histogram parts them."""


@pages.get("/metrics")
def show() -> Response:
    if not _may():
        challenge = {"WWW-Authenticate": 'Bearer realm="angelon"'}
        return Response("Send a token with the scope metrics.\n", 401, challenge, mimetype="text/plain")
    registry = CollectorRegistry()
    registry.register(_Numbers(services().clock.now()))
    return Response(generate_latest(registry) + counters.told(), content_type=CONTENT_TYPE_LATEST)


def install(app: Flask) -> None:
    """Counts every request that this application answers."""

    @app.before_request
    def _begin() -> None:
        g.began = time.perf_counter()

    @app.after_request
    def _count(response: Response) -> Response:
        part = (request.endpoint or "none").partition(".")[0]
        counters.shown(part, response.status_code, time.perf_counter() - g.get("began", time.perf_counter()))
        return response


def _may() -> bool:
    scheme, _, text = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        try:
            row = tokens.valid(session(), text, services().clock.now())
        except tokens.NotValid:
            return False
        return "metrics" in (row.scopes or [])
    return is_local() and not accounts.there_are_any(session())


def _held(held: list[Held]) -> Iterator[Any]:
    """Who has kept others from writing, and for how long."""
    longest = GaugeMetricFamily("angelon_write_longest_seconds", "The longest write", labels=["purpose"])
    seconds = CounterMetricFamily("angelon_write_seconds", "Seconds of writing in all", labels=["purpose"])
    writes = CounterMetricFamily("angelon_writes", "Writes", labels=["purpose"])
    long = CounterMetricFamily("angelon_writes_long", "Writes over a quarter of a second", labels=["purpose"])
    for one in held:
        longest.add_metric([one.purpose], one.longest)
        seconds.add_metric([one.purpose], one.seconds)
        writes.add_metric([one.purpose], one.holds)
        long.add_metric([one.purpose], one.long)
    yield from (longest, seconds, writes, long)


def _room(home: Path) -> Iterator[Any]:
    """Room on the disk of the data folder, and what the database and its log take there."""
    yield _one("angelon_disk_free_bytes", "Free where the data folder is", shutil.disk_usage(home).free)
    for name, file in (("database", "angelon.db"), ("wal", "angelon.db-wal")):
        if (home / file).exists():
            yield _one(f"angelon_{name}_bytes", f"Size of {file}", (home / file).stat().st_size)


class _Numbers(Collector):
    """Asked of the database when they are scraped: every process has written there."""

    def __init__(self, now: dt.datetime) -> None:
        self._now = now

    def collect(self) -> Iterator[Any]:
        now, reading = self._now, session()
        yield from _held(services().database.held())
        yield from _room(services().settings.home)
        number, oldest = metrics.waiting_events(reading)
        yield _one("angelon_events_waiting", "Events that wait to be planned", number)
        yield _one("angelon_events_waiting_oldest_seconds", "Since when the oldest waits", _since(now, oldest))
        yield _one(
            "angelon_events_unplanned_problems", "Events that could not be planned", metrics.problem_events(reading)
        )
        due = metrics.oldest_due(reading, now)
        yield _one("angelon_sends_overdue_oldest_seconds", "How late the send is that waits longest", _since(now, due))
        states = GaugeMetricFamily(
            "angelon_sends", "Sends that are not settled, or need a person", labels=["store", "gateway", "state"]
        )
        for gateway, state, sends in metrics.open_sends(reading):
            states.add_metric([*gateway, state], sends)
        yield states
        yield from self._tries(reading)
        closed = GaugeMetricFamily(
            "angelon_gateway_unreachable", "Whether a gateway is taken to be unreachable", labels=["store", "gateway"]
        )
        for gateway, unreachable in metrics.unreachable(reading):
            closed.add_metric([*gateway], int(unreachable))
        yield closed
        seen = GaugeMetricFamily(
            "angelon_worker_seen_seconds", "Since the newest sign of life of a worker", labels=["role"]
        )
        for role, at in metrics.workers(reading):
            seen.add_metric([role], _since(now, at))
        yield seen
        calls = GaugeMetricFamily(
            "angelon_handler_calls_last_hour", "Calls of handlers in the last hour", labels=["handler", "outcome"]
        )
        for handler, failed, made, _ in metrics.handler_calls(reading, now - SPAN):
            calls.add_metric([handler, "failed" if failed else "done"], made)
        yield calls

    def _tries(self, reading: Any) -> Iterator[Any]:
        found = metrics.tries(reading, self._now - SPAN)
        labels = ["store", "gateway", "outcome"]
        outcomes = GaugeMetricFamily("angelon_tries_last_hour", "Tries in the last hour", labels=labels)
        for (gateway, outcome), number in Counted((key, outcome) for key, outcome, _ in found).items():
            outcomes.add_metric([*gateway, outcome], number)
        yield outcomes
        took = HistogramMetricFamily(
            "angelon_try_seconds_last_hour", "How long tries of the last hour took", labels=["store", "gateway"]
        )
        for gateway in sorted({key for key, _, _ in found}):
            own = [seconds for key, _, seconds in found if key == gateway]
            buckets = [(str(bound), sum(1 for one in own if one <= bound)) for bound in BOUNDS]
            took.add_metric([*gateway], buckets=[*buckets, ("+Inf", len(own))], sum_value=sum(own))
        yield took


def _one(name: str, about: str, value: float) -> GaugeMetricFamily:
    return GaugeMetricFamily(name, about, value=value)


def _since(now: dt.datetime, at: dt.datetime | None) -> float:
    return max(0.0, (now - at).total_seconds()) if at is not None else 0.0
