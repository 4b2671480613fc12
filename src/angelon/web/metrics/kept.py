"""What this process has counted since it began: deliveries and pages, how they were answered, how long it took.

A scrape of it costs the same at any size.
"""

from __future__ import annotations

from prometheus_client import CollectorRegistry, Counter, Histogram

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
MOST_SOURCES = 200
_sources: set[str] = set()


def delivered(source: str, status: int, seconds: float) -> None:
    """Counts a delivery. What anybody may ask for has no name of its own here: only what was taken once has."""
    if status < 300 and len(_sources) < MOST_SOURCES:
        _sources.add(source)
    _DELIVERIES.labels(source if source in _sources else "", str(status)).inc()
    _DELIVERY.observe(seconds)


def shown(part: str, status: int, seconds: float) -> None:
    """Counts a page, or an answer of the API."""
    _PAGES.labels(part, f"{status // 100}xx").inc()
    _PAGE.labels(part).observe(seconds)
