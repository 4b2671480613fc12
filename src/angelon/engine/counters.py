"""What happens, counted as it happens, by every process of this machine: deliveries, pages, planning, tries.

Processes that share a data folder keep their counts in one folder (`cli/holding.py` says which), where whoever is
scraped reads all of them: the client library's way for several processes. A scrape costs the same at any size. What
goes wrong with counting harms nothing that is counted.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from functools import wraps
from typing import ParamSpec

from prometheus_client import CollectorRegistry, Counter, Histogram, generate_latest
from prometheus_client.multiprocess import MultiProcessCollector

FOLDER = "PROMETHEUS_MULTIPROC_DIR"
"""Read by the library when it is imported (`cli/holding.py` sets it); without it a process counts for itself."""

KEPT = CollectorRegistry()
_BOUNDS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 30.0)
_DELIVERIES = Counter(
    "angelon_deliveries", "Deliveries that were answered, by status", ["source", "status"], registry=KEPT
)
_DELIVERY = Histogram(
    "angelon_delivery_seconds", "From a delivery's last byte to its answer", buckets=_BOUNDS, registry=KEPT
)
_PAGES = Counter(
    "angelon_http_requests", "Other requests, by part and kind of status", ["part", "status"], registry=KEPT
)
_PAGE = Histogram("angelon_http_seconds", "How long they took", ["part"], buckets=_BOUNDS, registry=KEPT)
_PLANNED = Counter("angelon_events_planned", "Events that were planned", registry=KEPT)
_PLANNING = Histogram(
    "angelon_planning_seconds", "How long a batch of events took to plan", buckets=_BOUNDS, registry=KEPT
)
_MADE = Counter("angelon_sends_planned", "Sends that were made by planning", registry=KEPT)
_TRIES = Counter("angelon_tries", "Tries to hand a message over", ["store", "gateway", "outcome"], registry=KEPT)
_TRY = Histogram("angelon_try_seconds", "How long a try took", ["store", "gateway"], buckets=_BOUNDS, registry=KEPT)
_WAITED = Histogram(
    "angelon_send_wait_seconds",
    "From when a send was due to its first try",
    ["store", "gateway"],
    buckets=(0.1, 0.5, 1.0, 5.0, 15.0, 60.0, 300.0, 900.0, 3600.0),
    registry=KEPT,
)
MOST_SOURCES = 200
_sources: set[str] = set()
P = ParamSpec("P")


def _optional(count: Callable[P, None]) -> Callable[P, None]:
    """Counting that raises for nobody: its folder may be gone or full."""

    @wraps(count)
    def counted(*given: P.args, **named: P.kwargs) -> None:
        with suppress(Exception):
            count(*given, **named)

    return counted


@_optional
def delivered(source: str, status: int, seconds: float) -> None:
    """Counts a delivery. What anybody may ask for has no name of its own here: only what was taken once has."""
    if status < 300 and len(_sources) < MOST_SOURCES:
        _sources.add(source)
    _DELIVERIES.labels(source if source in _sources else "", str(status)).inc()
    _DELIVERY.observe(seconds)


@_optional
def shown(part: str, status: int, seconds: float) -> None:
    """Counts a page, or an answer of the API."""
    _PAGES.labels(part, f"{status // 100}xx").inc()
    _PAGE.labels(part).observe(seconds)


@_optional
def planned(events: int, sends: int, seconds: float) -> None:
    """Counts a batch that was planned."""
    _PLANNED.inc(events)
    _MADE.inc(sends)
    _PLANNING.observe(seconds)


@_optional
def tried(store: str, gateway: str, outcome: str, seconds: float, waited: float | None) -> None:
    """Counts a try through a gateway (keys); `waited` is how late a first try was, in seconds."""
    _TRIES.labels(store, gateway, outcome).inc()
    _TRY.labels(store, gateway).observe(max(0.0, seconds))
    if waited is not None:
        _WAITED.labels(store, gateway).observe(max(0.0, waited))


def told() -> bytes:
    """All of it, in the text format of Prometheus; of this process alone where nothing is shared."""
    if not os.path.isdir(os.environ.get(FOLDER, "")):
        return generate_latest(KEPT)
    registry = CollectorRegistry()
    MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    return generate_latest(registry)
