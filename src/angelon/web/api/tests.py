"""What would come of an event, and whether the checks pass. Nothing is stored and nothing is sent."""

from __future__ import annotations

import json
from typing import Any

from angelon.client import models
from angelon.core.deliveries import read_delivery
from angelon.core.payload.body import NotReadable
from angelon.core.planning.checking import text_of
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Event, Facts
from angelon.core.planning.plan import decide, work_out
from angelon.core.problems import NotFound
from angelon.core.specs.source import Source
from angelon.engine.operations import checks
from angelon.web.api.operation import Refused, operation
from angelon.web.services import live, services, work


@operation("POST", "/rehearsals", "tests", "Rehearse an event", models.Rehearsed, body=models.Rehearse, refusals=(404,))
def rehearse(body: models.Rehearse) -> models.Rehearsed:
    """What each live route, or the one named, would make of a delivery if it came now, as the first of its order."""
    source = live().sources.get(body.source)
    if source is None:
        raise NotFound(f"There is no source “{body.source}”.")
    routes = live().routes
    if body.route and body.route not in routes:
        raise NotFound(f"There is no live route “{body.route}”.")
    headers = {"content-type": "application/json"} | named(source, body.name)
    try:
        received = read_delivery(source, headers, json.dumps(body.payload).encode())[0]
    except NotReadable as error:
        raise Refused(422, "Not readable", str(error.problem), [error.problem]) from None
    at = body.at or services().clock.now()
    reading, variables = work_out(source, live().setup, received.payload)
    event = Event("rehearsed", body.type or received.type, received.name, source.key, received.payload, at)
    active = [one.route for one in live().setup.routes]
    chosen = [routes[body.route]] if body.route else active
    made = []
    for route in chosen:
        decision = decide(event, reading, variables, ActiveRoute(route, ALWAYS), live().setup, Facts(), at)
        made.append(_decision(decision))
    return models.Rehearsed(type=event.type, decisions=made)


def _decision(decision: Any) -> models.RehearsedDecision:
    sends = [
        models.RehearsedSend(
            state=send.state.value,
            reason=send.reason,
            channel=send.channel,
            recipient=send.recipient,
            message=send.message,
            gateway=send.gateway,
            locale=send.locale,
            due_at=send.due_at,
            text=text_of(send, live().setup),
        )
        for send in decision.sends
    ]
    trace = [models.TraceLine(**line._asdict()) for line in decision.trace]
    return models.RehearsedDecision(
        route=decision.route, outcome=decision.outcome, reason=decision.reason, trace=trace, sends=sends
    )


def named(source: Source, name: str) -> dict[str, str]:
    """The header that says an event’s name, where the source looks for it in one."""
    return {source.event_name.header.lower(): name} if name and source.event_name and source.event_name.header else {}


@operation("POST", "/checks/run", "tests", "Run every check", models.Checked)
def run_checks() -> models.Checked:
    """With the routes as they are drafted. For a pipeline: it goes on where `passed` is true."""
    with work() as unit:
        return models.Checked.of(outcome for _, outcome in checks.run_all(unit))
