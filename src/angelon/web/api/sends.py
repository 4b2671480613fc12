"""Sends: listed, read, retried, held and cancelled."""

from __future__ import annotations

from typing import Any

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.core.states import State
from angelon.db.derived import searching
from angelon.db.log import archive, sends
from angelon.engine.operations import sends as operations
from angelon.web.api.operation import Refused, cursor_of, operation, read_cursor
from angelon.web.gateways.states import waits_for
from angelon.web.services import services, session, store_id, work


@operation("GET", "/sends", "sends.read", "List sends", models.Sends, query=models.SendsQuery)
def list_sends(query: models.SendsQuery) -> models.Sends:
    """The newest first."""
    before = read_cursor(query.cursor)
    at = (before[0], str(before[1])) if before is not None else None
    rows = sends.listed(session(), store_id(), filter_of(query), query.limit + 1, at)
    shown = rows[: query.limit]
    last = shown[-1].send if len(rows) > query.limit else None
    return models.Sends(
        items=[send_of(row) for row in shown], next=cursor_of(last.created_at, last.id) if last is not None else None
    )


@operation("GET", "/sends/{id}", "sends.read", "Read a send", models.SendDetails, refusals=(404,))
def read_send(id: str) -> models.SendDetails:
    """A send with every try, what it said, and why it was made."""
    found = sends.details(session(), store_id(), id)
    if found is None:
        raise NotFound(f"There is no send “{id[:60]}”.")
    found = archive.with_content(session(), found, services().archive.read)
    trace = [
        models.TraceLine(**{part: line.get(part, "") for part in ("part", "verdict", "saw", "why")})
        for line in found.listed.send.trace or []
    ]
    attempts = [
        models.Attempt(**{name: getattr(one, name) for name in models.Attempt.model_fields}) for one in found.attempts
    ]
    return models.SendDetails(
        **send_of(found.listed).model_dump(),
        attempts=attempts,
        text=found.content.text if found.content is not None else "",
        trace=trace,
    )


@operation("POST", "/sends/act", "sends.write", "Retry, hold or cancel sends", models.Acted, body=models.Act)
def act_on_sends(body: models.Act) -> models.Acted:
    """With `ids`, those; with `filter`, up to 200 of those that fit at a time: ask again with `after` until `next` is
    empty. A send in a worker’s hands, or one that its state does not let, is passed over.
    """
    if bool(body.ids) == (body.filter is not None):
        raise Refused(422, "Not readable", "Give either ids or a filter.")
    with work() as unit:
        if body.filter is None:
            done = operations.ticked(unit, body.act, body.ids)
        else:
            done = operations.in_bulk(unit, body.act, filter_of(body.filter), body.after)
    return models.Acted(seen=done.seen, moved=done.moved, next=done.next)


def filter_of(query: models.SendsQuery) -> sends.Filter:
    """Raises Refused for a state that is none."""
    states = _split(query.state)
    unknown = next((state for state in states if state not in {one.value for one in State}), "")
    if unknown:
        known = ", ".join(one.value for one in State)
        raise Refused(422, "Not readable", f"“{unknown[:40]}” is no state of a send: there are {known}.")
    return sends.Filter(
        states=states,
        channels=_split(query.channel),
        messages=_split(query.message),
        routes=_split(query.route),
        gateways=_split(query.gateway),
        recipient=query.recipient,
        words=query.words,
        store_id=store_id(),
        most=searching.ALL,
        since=query.since,
        order_id=query.order,
    )


def _split(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(",") if part.strip())


def send_of(row: sends.ListedSend) -> models.Send:
    send: Any = row.send
    return models.Send(
        **{name: getattr(send, name) for name in _SAME},
        message=row.message,
        route=row.route,
        gateway=row.gateway,
        order=row.order_id,
        order_number=row.order_number,
        amount=row.amount,
        currency=row.currency,
        event=send.event_id,
        waits_for=waits_for(row),
    )


_SAME = (
    "id", "state", "reason", "channel", "recipient", "recipient_name", "subject", "created_at", "due_at", "tries",
    "settled_at", "cost",
)  # fmt: skip
