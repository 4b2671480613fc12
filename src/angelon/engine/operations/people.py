"""Customers: the tags that they are marked with, and all that is kept about one, to give out or to erase."""

from __future__ import annotations

import datetime as dt
from typing import Any

from pydantic import TypeAdapter, ValidationError
from sqlalchemy import Connection

from angelon.core.payload.body import NotReadable
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs.base import Tag
from angelon.core.specs.marks import Marks
from angelon.core.values import locale_of, show
from angelon.db.derived import searching
from angelon.db.log import events
from angelon.db.people import contact_tags, contact_values, customers, people, personal
from angelon.db.rows import EventRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import ContactRow
from angelon.engine.archive import Archive
from angelon.engine.arrivals.event_reader import Payloads
from angelon.engine.orders.marking import mark, problems_of
from angelon.engine.unit import Work

_TAG: TypeAdapter[str] = TypeAdapter(Tag)
MADE_WITHIN = dt.timedelta(minutes=10)
"""How long after its moment a send may be stored, at the most."""
MOST = 50
"""Tags that one customer may have."""


def get(work: Work, contact_id: int) -> ContactRow:
    """A customer of the store. Raises NotFound."""
    row = work.session.get(ContactRow, contact_id)
    if row is None or row.store_id != work.store_id:
        raise NotFound("There is no such person.")
    return row


def tag(work: Work, contact_id: int, text: str, on: bool = True) -> tuple[str, ...]:
    """Sets a tag on a customer, or takes it off; gives those that are set then. Raises NotFound and Invalid."""
    get(work, contact_id)
    try:
        word = _TAG.validate_python(text.strip())
    except ValidationError:
        raise Invalid(
            [Problem("tag", f"“{text.strip()[:60]}” is no tag.", "Write one or two words of at most 40 characters.")]
        ) from None
    known = contact_tags.of(work.connection, [contact_id]).get(contact_id, ())
    if on and word not in known and len(known) >= MOST:
        raise Invalid([Problem("tag", f"There are {MOST} tags already.", "Take one off first.")])
    made = contact_tags.change(work.connection, contact_id, {word: on}, known, work.actor.name, work.now)
    if made != known:
        work.record("tag set" if on else "tag removed", "person", str(contact_id), None, {"tag": word})
    return made


def note(work: Work, contact_id: int, name: str, text: str) -> None:
    """Notes a value of a variable that is kept with customers. Raises NotFound and Invalid."""
    get(work, contact_id)
    marks = Marks(values={name: " ".join(text.split())[:500]}) if name and text.strip() else Marks()
    found = problems_of(marks, work.live.setup, "value")
    if found or not marks:
        raise Invalid(
            found or [Problem("value", "There is nothing to note.", "Choose a variable, and write its value.")]
        )
    mark(work.connection, work.live, contact_id, marks, work.actor.name, work.now)
    work.record("value noted", "person", str(contact_id), None, {"variable": name})


def known(connection: Connection, live: LiveSetup, row: ContactRow) -> dict[str, Any]:
    """Values for conditions of a customer, as people read it: what was bought, and the values that are kept (name,
    value, since when).
    """
    id_, locale = row.id or 0, live.setup.store.locale
    bought = customers.summary(customers.contacts(connection, [id_])[0][id_])
    kept = contact_values.newest(connection, [id_]).get(id_, {})
    return {
        "country": locale_of(locale).territories.get(row.country, row.country),
        "spent": [show(one, locale) for one in bought.spent],
        "products": bought.products,
        "kept": [(name, show(one.value, locale), one.since) for name, one in sorted(kept.items())],
    }


def everything(connection: Connection, live: LiveSetup, row: ContactRow, archive: Archive) -> dict[str, Any]:
    """All that is kept about a customer, as plain data. Of a delivery that brought several orders, theirs alone."""
    about = personal.About(connection, live.store_id, row, people.address_keys(row))
    told = personal.collect(about, archive.read)
    rows = events.in_order(connection, about.event_ids)
    payloads = Payloads()
    payloads.load(connection, live, rows)
    told["events"] = [
        {"received_at": row.received_at, "type": row.type or row.name, "payload": _payload(payloads, row)}
        for row in rows
    ]
    return told


def _payload(payloads: Payloads, row: EventRecord) -> Any:
    try:
        return payloads.of(row, None)
    except NotReadable:
        return None


def found_before(connection: Connection, row: ContactRow, now: dt.datetime) -> personal.Found:
    """The sends to a customer's addresses, for `erase`: looked for while others may write, since it may take long."""
    addresses = [one for one in (row.email, row.phone) if one]
    return personal.Found(personal.found_to(connection, row.store_id, addresses), now - MADE_WITHIN)


def erase(work: Work, contact_id: int, typed: str, before: personal.Found | None = None) -> dict[str, int]:
    """Erases what says who a customer is, where `typed` is the name or address that asks for it; says how much.
    `before` is what `found_before` gave.

    Raises NotFound; and Invalid, where it is another or something is on its way at this moment.
    """
    row = get(work, contact_id)
    wanted = {one.casefold() for one in (row.name, row.email, row.phone) if one}
    if not wanted:
        raise Invalid([Problem("person", "This person’s data is erased already.")])
    if typed.strip().casefold() not in wanted:
        raise Invalid([Problem("typed", "That is not the person’s name or address.", "Write it exactly as above.")])
    about = personal.About(work.connection, work.store_id, row, people.address_keys(row), before)
    why = personal.in_the_way(about)
    if why:
        raise Invalid([Problem("person", why, "Try again in a moment; nothing was erased.")])
    found = personal.erase(about, work.now)
    searching.want_tidy(work.connection)
    work.session.expire(row)
    work.record("erased", "person", str(contact_id), None, found)
    return found
