"""Events: handed in, and read with what was decided."""

from __future__ import annotations

from typing import Any

from flask import request

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db.log import sends
from angelon.db.tables import EventRow
from angelon.engine.arrivals.intake import Answer as Taken
from angelon.web.api.operation import Answer, Refused, operation
from angelon.web.intake.views import MOST_READ, headers_of
from angelon.web.services import live, services, session


@operation(
    "POST",
    "/sources/{source}/events",
    "events.write",
    "Hand in an event",
    models.Accepted,
    status=202,
    raw=True,
    refusals=(404, 413, 503),
    headers=("Idempotency-Key",),
)
def deliver(source: str) -> Any:
    """A delivery as the source’s store would send it: JSON, form data, or CloudEvents in either mode. The token stands
    in place of a signature. `name` is the store’s own name of the event, where the payload does not say it. A second
    request with the same `Idempotency-Key` is the same event, and answered with 200.
    """
    raw = request.get_data(cache=False)
    if len(raw) > MOST_READ:
        raise Refused(413, "Too large", f"A delivery may have {MOST_READ:,} bytes.")
    key = request.headers.get("Idempotency-Key", "")[:200]
    if source not in live().sources:
        raise NotFound(f"There is no source “{source[:60]}”.")
    name = request.args.get("name", "")[:200]
    taken: Taken = services().intake.accept(source, headers_of(request.environ), raw, name, key)
    if taken.status >= 400:
        raise Refused(
            taken.status, taken.body["title"], f"{taken.body['detail']} {taken.body['hint']}", (), taken.headers
        )
    return Answer(models.Accepted(**taken.body), status=taken.status)


@operation("GET", "/events/{id}", "events.read", "Read an event", models.Event, refusals=(404,))
def event(id: str) -> models.Event:
    """An event with what each route and handler decided, and why."""
    row = session().get(EventRow, id)
    if row is None or row.source_id not in live().source_ids.values():
        raise NotFound(f"There is no event “{id[:60]}”.")
    return event_of(row)


def event_of(row: EventRow) -> models.Event:
    decisions = []
    short = any("trace" not in one for one in row.decisions or [])
    of_sends = sends.traces_of(session(), row.id) if short else {}
    for one in row.decisions or []:
        lines = one["trace"] if "trace" in one else of_sends.get(one["route"], [])
        trace = [models.TraceLine(**{part: line.get(part, "") for part in _LINE}) for line in lines]
        settled = next((line for line in trace if line.verdict in ("no", "problem")), None)
        reason = settled.why if settled is not None and one["outcome"] != "send" else ""
        decisions.append(models.Decision(route=one["route"], outcome=one["outcome"], reason=reason, trace=trace))
    return models.Event(
        id=row.id,
        type=row.type,
        name=row.name,
        source=live().source_key(row.source_id),
        received_at=row.received_at,
        was=row.was,
        now=row.now,
        planned_at=row.planned_at,
        order=row.order_id,
        problem=row.problem,
        decisions=decisions,
    )


_LINE = ("part", "verdict", "saw", "why")
