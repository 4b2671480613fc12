"""Traces by OpenTelemetry, from a delivery to the tries of its sends.

They are made of what is stored, once it is, by a thread of each process that sends: nothing that is traced waits, and
what can't be given away is dropped. Ids follow from those of deliveries and sends; a delivery with a `traceparent` (W3C
Trace Context) goes on with its sender's trace. No person's data is in them.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import os
import re
import threading
from collections import deque
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

import structlog

from angelon.db.database import Database
from angelon.db.log import traced

log = structlog.get_logger()
ENDPOINTS = ("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT", "OTEL_EXPORTER_OTLP_ENDPOINT")
"""What OpenTelemetry's own variables call the address that traces go to; without one nothing is traced."""
EVERY = 1.0
AT_ONCE = 200
MOST = 5000
"""Sends that wait to be traced at most; the oldest are dropped."""
SENT = ("sent", "delivered", "read")
_due: deque[str] = deque(maxlen=MOST)
_on = threading.Event()
_TRACEPARENT = re.compile(r"[0-9a-f]{2}-([0-9a-f]{32})-([0-9a-f]{16})-([0-9a-f]{2})")


def settled(ids: Collection[str]) -> None:
    """What has become of these sends is stored."""
    if _on.is_set():
        _due.extend(ids)


def begin(database: Database, version: str) -> Tracer | None:
    """Begins to trace, where an address is set and the library is installed."""
    if not any(os.environ.get(name) for name in ENDPOINTS):
        return None
    try:
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    except ImportError:
        log.error("nothing is traced: install it with pip install 'angelon[traces]'")
        return None
    return Tracer(database, OTLPSpanExporter(timeout=5).export, version)


class Tracer:
    """Gives away the spans of sends that were settled."""

    def __init__(self, database: Database, give: Callable[[Sequence[Any]], object], version: str = "") -> None:
        from opentelemetry.sdk.resources import Resource

        self._database, self._give = database, give
        own = {"service.name": "angelon", "service.version": version}
        self._resource = Resource.create({} if os.environ.get("OTEL_SERVICE_NAME") else own)
        self._known: deque[str] = deque(maxlen=MOST)
        """Deliveries that were given away already."""
        self._failed = False
        self._stop = threading.Event()
        _on.set()
        threading.Thread(target=self._run, name="tracing", daemon=True).start()

    def stop(self) -> None:
        """Gives away what is left, once."""
        self._stop.set()
        _on.clear()
        self.step()

    def step(self) -> int:
        """Gives away a part of what is due; says how many spans."""
        ids = [_due.popleft() for _ in range(min(AT_ONCE, len(_due)))]
        if not ids:
            return 0
        try:
            with self._database.reading() as session:
                rows = traced.of_sends(session.connection(), ids)
                tries = traced.tries_of(session.connection(), ids)
            spans = list(self._spans(rows, tries))
            said = self._give(spans)
            failed = getattr(said, "name", "SUCCESS") != "SUCCESS"
        except Exception as error:
            failed, spans = True, []
            log.warning("traces could not be given away", why=str(error)[:200])
        if failed and not self._failed:
            log.warning("traces are not taken; those of this time are lost")
        self._failed = failed
        return len(spans)

    def _run(self) -> None:
        while not self._stop.wait(EVERY):
            while self.step() and _due and not self._stop.is_set():
                pass

    def _spans(self, rows: Sequence[Any], tries: Sequence[Any]) -> Iterator[Any]:
        from opentelemetry.trace import SpanKind

        of: dict[str, list[Any]] = {}
        for one in tries:
            of.setdefault(one.send_id, []).append(one)
        for row in rows:
            trace, parent = _trace_of(row)
            above = None
            if row.delivery_id:
                above = _span_id(row.delivery_id)
                if row.delivery_id not in self._known:
                    self._known.append(row.delivery_id)
                    said = {"source": row.source, "event": row.type}
                    ended = row.planned_at or row.received_at
                    yield self._span(
                        "delivery", trace, above, parent, SpanKind.SERVER, (row.received_at, ended), said, True
                    )
            mine, made = _span_id(row.id), of.get(row.id, [])
            ended = made[-1].ended_at if made else row.created_at
            keys = {name: getattr(row, name) for name in ("store", "route", "message", "gateway", "channel", "state")}
            said = {**keys, "send": row.id, "tries": row.tries, "test": row.test}
            times = (row.created_at, max(ended, row.created_at))
            yield self._span(
                f"send {row.message or ''}".strip(), trace, mine, above, SpanKind.INTERNAL, times, said,
                row.state in SENT,
            )  # fmt: skip
            for one in made:
                said = {"outcome": one.outcome, "code": one.code, "gateway": row.gateway}
                id_, times = _span_id(f"{row.id}/{one.number}"), (one.began_at, max(one.ended_at, one.began_at))
                yield self._span(
                    f"try {one.number}", trace, id_, mine, SpanKind.CLIENT, times, said, one.outcome == "accepted"
                )

    def _span(
        self,
        name: str,
        trace: int,
        span: int,
        parent: int | None,
        kind: Any,
        times: tuple[dt.datetime, dt.datetime],
        said: Mapping[str, Any],
        good: bool,
    ) -> Any:
        from opentelemetry.sdk.trace import ReadableSpan
        from opentelemetry.trace import SpanContext, Status, StatusCode, TraceFlags

        def context(id_: int, remote: bool = False) -> Any:
            return SpanContext(trace, id_, is_remote=remote, trace_flags=TraceFlags(TraceFlags.SAMPLED))

        return ReadableSpan(
            name,
            context=context(span),
            parent=context(parent, kind.name == "SERVER") if parent is not None else None,
            resource=self._resource,
            attributes={f"angelon.{part}": value for part, value in said.items() if value not in (None, "")},
            kind=kind,
            status=Status(StatusCode.OK if good else StatusCode.ERROR),
            start_time=_nanoseconds(times[0]),
            end_time=_nanoseconds(times[1]),
        )


def _trace_of(row: Any) -> tuple[int, int | None]:
    """The trace of a send, and the span that its delivery was sent in, where its sender said so."""
    said = (row.headers or {}).get("traceparent", "") if row.delivery_id else ""
    found = _TRACEPARENT.fullmatch(said.strip().lower())
    if found and int(found[1], 16) and int(found[2], 16):
        return int(found[1], 16), int(found[2], 16)
    return int.from_bytes(_digest(row.delivery_id or row.id)[:16], "big"), None


def _span_id(of: str) -> int:
    return int.from_bytes(_digest(of)[-8:], "big") or 1


def _digest(of: str) -> bytes:
    return hashlib.sha256(of.encode()).digest()


def _nanoseconds(at: dt.datetime) -> int:
    return int(at.timestamp() * 1e6) * 1000
