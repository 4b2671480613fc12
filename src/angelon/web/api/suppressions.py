"""Addresses that must not be written to."""

from __future__ import annotations

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db.people import suppressions
from angelon.engine.operations import suppressions as operations
from angelon.web.api.operation import Answer, cursor_of, operation, read_cursor
from angelon.web.services import actor, read_anew, services, session, store_id, work


@operation(
    "GET", "/suppressions", "suppressions.read", "List suppressions", models.Suppressions, query=models.ListQuery
)
def list_suppressions(query: models.ListQuery) -> models.Suppressions:
    """The newest first."""
    after = read_cursor(query.cursor)
    begin = (after[0], int(after[1])) if after is not None and isinstance(after[1], int) else None
    rows = suppressions.listed(session(), store_id(), query.words, query.limit + 1, begin)
    shown = rows[: query.limit]
    last = shown[-1] if len(rows) > query.limit else None
    items = [
        models.Suppression(id=row.id or 0, address=row.address_key, why=row.why, since=row.since, scope=row.scope)
        for row in shown
    ]
    return models.Suppressions(items=items, next=cursor_of(last.since, last.id or 0) if last is not None else None)


@operation("POST", "/suppressions", "suppressions.write", "Suppress addresses", models.Suppressed, body=models.Suppress)
def suppress(body: models.Suppress) -> models.Suppressed:
    """Email addresses and phone numbers that nothing is sent to any more; one that is there gets the new reason."""
    wanted = [(address, body.why or "By the API.", body.scope) for address in body.addresses]
    added, unknown = operations.add_list(services().installation, store_id(), actor(), wanted, "api")
    read_anew()
    return models.Suppressed(added=added, unknown=[text[:320] for text in unknown])


@operation(
    "DELETE",
    "/suppressions/{number}",
    "suppressions.write",
    "Let an address be written to again",
    None,
    status=204,
    refusals=(404,),
)
def unsuppress(number: int) -> Answer:
    """By its id."""
    with work() as unit:
        if not operations.remove(unit, number):
            raise NotFound("There is no such suppression.")
    return Answer(None)
