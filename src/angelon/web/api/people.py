"""People, their tags, and what they have said about being written to."""

from __future__ import annotations

from typing import Any

from angelon.client import models
from angelon.core.problems import NotFound
from angelon.db.people import consents, contact_tags, people, suppressions
from angelon.engine.operations import people as operations
from angelon.engine.operations import suppressions as permission
from angelon.web.api.operation import Answer, cursor_of, operation, read_cursor
from angelon.web.api.orders import order_of, person_of
from angelon.web.services import live, session, store_id, work


@operation("GET", "/people", "orders.read", "List people", models.People, query=models.ListQuery)
def list_people(query: models.ListQuery) -> models.People:
    """Customers, those who came last first; `words` looks in name, email and phone; of the newest
    1,000 that have them."""
    after = read_cursor(query.cursor)
    begin = (after[0], int(after[1])) if after is not None and isinstance(after[1], int) else None
    rows = people.listed(session(), store_id(), query.words, query.limit + 1, begin)
    shown = rows[: query.limit]
    last = shown[-1] if len(rows) > query.limit else None
    found = [person for row in shown if (person := person_of(row)) is not None]
    return models.People(items=found, next=cursor_of(last.first_seen, last.id or 0) if last is not None else None)


@operation("GET", "/people/{number}", "orders.read", "Read a person", models.PersonDetails, refusals=(404,))
def read_person(number: int) -> models.PersonDetails:
    """By their id here: a customer with tags, orders, suppressions, and all that they have said about being written
    to, newest first.
    """
    row = people.get(session(), store_id(), number)
    if row is None:
        raise NotFound("There is no such person.")
    return _details(row)


@operation(
    "POST",
    "/people/{number}/tags",
    "people.write",
    "Set or remove a tag",
    models.PersonDetails,
    body=models.SetTag,
    refusals=(404,),
)
def set_tag(number: int, body: models.SetTag) -> models.PersonDetails:
    """Marks a customer with a word or two, or takes the mark off."""
    with work() as unit:
        operations.tag(unit, number, body.tag, body.on)
    row = people.get(session(), store_id(), number)
    if row is None:
        raise NotFound("There is no such person.")
    return _details(row)


@operation("POST", "/consents", "people.write", "Note consent", None, status=204, body=models.NoteConsent)
def note_consent(body: models.NoteConsent) -> Answer:
    """What somebody has said about being written to by a channel: it counts from now on, before what an event says.
    Earlier ones are kept as proof.
    """
    with work() as unit:
        permission.note_consent(unit, body.address, body.channel, body.granted, body.where, body.words)
    return Answer(None)


def _details(row: Any) -> models.PersonDetails:
    keys = people.address_keys(row)
    person = person_of(row)
    assert person is not None
    what = operations.known(session().connection(), live(), row)
    return models.PersonDetails(
        **person.model_dump(),
        tags=list(contact_tags.of(session().connection(), [row.id]).get(row.id, ())),
        kept={name: value for name, value, _ in what["kept"]},
        spent=what["spent"],
        orders=[order_of(order, row) for order in people.orders_of(session(), row.id)],
        suppressions=[
            models.Suppression(id=one.id or 0, address=one.address_key, why=one.why, since=one.since, scope=one.scope)
            for key in keys
            for one in suppressions.of_address(session(), store_id(), key)
        ],
        consents=[
            models.Consent(
                channel=one.channel,
                address=one.address_key,
                granted=one.granted,
                at=one.at,
                where=one.given_at,
                words=one.words,
            )
            for one in consents.listed(session(), store_id(), keys)
        ],
    )
