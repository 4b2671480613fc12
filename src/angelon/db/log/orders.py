"""Orders and contacts: what the events say so far."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Connection, bindparam, delete, func, insert, update
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.orders import Family, forms_of_number
from angelon.core.values import Money, unpack
from angelon.core.values import number_of as number_of_value
from angelon.db.bulk import Bulk
from angelon.db.derived import searching
from angelon.db.lists import not_by_index, older_than
from angelon.db.log import parcels, questions
from angelon.db.log.questions import QUESTION
from angelon.db.tables import ChangeRow, ContactRow, EventRow, OrderAliasRow, OrderRow, SendRow, SourceRow, table_of

ORDER = table_of(OrderRow)
EVENT = table_of(EventRow)
SEND = table_of(SendRow)
CHANGE = table_of(ChangeRow)
SOURCE = table_of(SourceRow)
CONTACT = table_of(ContactRow)
MOST_OF_ONE = 50
"""Orders of one customer that are looked at together."""


_ORDER_COLUMNS = (
    *("number", "status", "seen", "seen_others", "total", "placed_at", "last_event_at", "contact_id", "language"),
    *("read", "bought"),
)
_CONTACT_COLUMNS = ("name", "email", "phone", "country", "language")
_ORDERS = core_select(ORDER).where(
    ORDER.c.source_id.in_(bindparam("b_sources", expanding=True)),
    ORDER.c.reference.in_(bindparam("b_references", expanding=True)),
)
_CONTACTS = core_select(CONTACT).where(
    CONTACT.c.store_id == bindparam("b_store"), CONTACT.c.identity.in_(bindparam("b_identities", expanding=True))
)
ALIAS = table_of(OrderAliasRow)
_ALIASES = core_select(ALIAS.c.source_id, ALIAS.c.reference, ALIAS.c.order_id, ALIAS.c.apart).where(
    ALIAS.c.source_id.in_(bindparam("b_sources", expanding=True)),
    ALIAS.c.reference.in_(bindparam("b_references", expanding=True)),
)
_READ = core_select(ORDER.c.read).where(ORDER.c.id == bindparam("b_id"))
_INSERT_ORDERS = insert(ORDER).returning(ORDER.c.id, ORDER.c.source_id, ORDER.c.reference)
_UPDATE_ORDER = Bulk(
    update(ORDER).where(ORDER.c.id == bindparam("b_id")).values({name: bindparam(name) for name in _ORDER_COLUMNS})
)
_INSERT_CONTACT = insert(CONTACT).returning(CONTACT.c.id)
_INSERT_CONTACTS = insert(CONTACT).returning(CONTACT.c.id, CONTACT.c.identity)
_UPDATE_CONTACT = Bulk(
    update(CONTACT)
    .where(CONTACT.c.id == bindparam("b_id"))
    .values({name: bindparam(name) for name in _CONTACT_COLUMNS})
)


@dataclass(frozen=True, slots=True)
class Seen:
    """An event that a ledger is made for: whose order it is about, and what it says of the customer."""

    key: tuple[int, str]
    """(source id, the order's reference)"""
    identity: str
    customer: dict[str, str]
    at: dt.datetime
    number: str = ""


def aliases(
    connection: Connection, keys: Collection[tuple[int, str]], apart: bool = False
) -> dict[tuple[int, str], int]:
    """The orders that sources call otherwise than their first one does, by what they call them; with those that are
    kept apart, where that is asked.
    """
    if not keys:
        return {}
    sources, references = sorted({source for source, _ in keys}), sorted({reference for _, reference in keys})
    wanted = set(keys)
    rows = connection.execute(_ALIASES, {"b_sources": sources, "b_references": references})
    found = ((tuple(row[:2]), row) for row in rows)
    return {key: row.order_id for key, row in found if key in wanted and (apart or not row.apart)}


def references(connection: Connection, ids: Collection[int]) -> dict[int, tuple[int, str]]:
    """Source and reference of these orders, by id."""
    if not ids:
        return {}
    rows = connection.execute(core_select(ORDER.c.id, ORDER.c.source_id, ORDER.c.reference).where(ORDER.c.id.in_(ids)))
    return {row.id: (row.source_id, row.reference) for row in rows}


class OrderBatch:
    """The orders and contacts that one batch of events touches: read at once, changed in memory, written at once.

    Orders and contacts that are new are inserted together at the start, since others refer to their ids.
    """

    def __init__(
        self,
        connection: Connection,
        store_id: int,
        events: Sequence[Seen],
        derived: Sequence[Seen] = (),
        families: Mapping[int, tuple[Family, frozenset[int]]] | None = None,
    ) -> None:
        """`derived` events are about orders that are there already; they bring none. `families` are those of sources
        that tell of the same orders as others, by the sources' ids.
        """
        self._connection = connection
        self._store_id = store_id
        self._families = families or {}
        self._same: dict[tuple[int, str], tuple[int, str]] = {}
        """What an order is kept under here, by what other sources call it."""
        keys = sorted({event.key for event in (*events, *derived)})
        identities = sorted({event.identity for event in (*events, *derived) if event.identity})
        sources, references = sorted({source for source, _ in keys}), sorted({reference for _, reference in keys})
        found = connection.execute(_ORDERS, {"b_sources": sources, "b_references": references}) if keys else ()
        wanted = set(keys)
        rows = [row for row in found if (row.source_id, row.reference) in wanted]
        self.orders = {(row.source_id, row.reference): dict(row._mapping) for row in rows}
        named = {"b_store": store_id, "b_identities": identities}
        found = connection.execute(_CONTACTS, named) if identities else ()
        self._contacts = {row.identity: dict(row._mapping) for row in found}
        self._changed_orders: set[tuple[int, str]] = set()
        self._changed_contacts: set[str] = set()
        self._untouched: set[tuple[int, str]] = set()
        """Orders that were inserted for this batch, and of which nothing is known yet."""
        self.new_orders: Counter[int] = Counter()
        """How many orders of each contact this batch has brought so far."""
        fresh = [event for event in events if event.key not in self.orders]
        left = [event.key for event in (*events, *derived) if event.key not in self.orders]
        if left:
            self._take(aliases(connection, left))
            fresh = [event for event in fresh if event.key not in self._same]
        recognised = self._recognise(fresh) if self._families else []
        self._insert([event for event in fresh if event.key not in self._same])
        if recognised:
            new = [{"source_id": s, "reference": r, "order_id": self.at((s, r))["id"]} for s, r in recognised]
            connection.execute(insert(ALIAS), new)

    def _take(self, named: Mapping[tuple[int, str], int]) -> None:
        """Takes orders that others call otherwise."""
        if not named:
            return
        for row in self._connection.execute(core_select(ORDER).where(ORDER.c.id.in_(set(named.values())))):
            self.orders.setdefault((row.source_id, row.reference), dict(row._mapping))
        keys = {row["id"]: key for key, row in self.orders.items()}
        self._same |= {key: keys[id_] for key, id_ in named.items() if id_ in keys}

    def _recognise(self, fresh: Sequence[Seen]) -> list[tuple[int, str]]:
        """Finds the orders of which another source of the family has told; gives what is news of them."""
        mine = [event for event in dict((one.key, one) for one in reversed(fresh)).values() if self._mark(event)]
        apart = aliases(self._connection, [event.key for event in mine], apart=True)
        mine = [event for event in reversed(mine) if event.key not in apart]
        if not mine:
            return []
        numbers = {form for event in mine for form in forms_of_number(event.number)}
        sources = {id_ for event in mine for id_ in self._families[event.key[0]][1]}
        which = _called(sources, numbers, {event.key[1] for event in mine})
        there: dict[tuple[frozenset[int], str], list[tuple[int, str]]] = {}
        for row in self._connection.execute(core_select(ORDER).where(*which)):
            family, ids = self._families[row.source_id]
            if mark := family.mark(row.number, str((row.read or {}).get("email") or ""), row.reference):
                there.setdefault((ids, mark), []).append((row.source_id, row.reference))
                self.orders.setdefault((row.source_id, row.reference), dict(row._mapping))
        made = []
        for event in mine:
            ids, mark = self._families[event.key[0]][1], self._mark(event)
            known = there.setdefault((ids, mark), [])
            same = next((key for key in known if key[0] != event.key[0]), None)
            if same is not None and all(key[0] != event.key[0] for key in known):
                self._same[event.key] = same
                made.append(event.key)
            else:
                known.append(event.key)
        return made

    def _mark(self, event: Seen) -> str:
        family = self._families.get(event.key[0])
        return family[0].mark(event.number, event.customer.get("email", ""), event.key[1]) if family else ""

    def is_another_s(self, key: tuple[int, str]) -> bool:
        """Whether another source has told of this order first."""
        return key in self._same

    def of(self, key: tuple[int, str]) -> dict[str, Any] | None:
        """An order by what a source calls it."""
        return self.orders.get(self._same.get(key, key))

    def at(self, key: tuple[int, str]) -> dict[str, Any]:
        """The same, of one that is there."""
        return self.orders[self._same.get(key, key)]

    def _insert(self, fresh: Sequence[Seen]) -> None:
        contacts: dict[str, dict[str, Any]] = {}
        orders: dict[tuple[int, str], dict[str, Any]] = {}
        for event in fresh:  # the first event of each counts
            orders.setdefault(event.key, self._blank(event))
            if event.identity and event.identity not in self._contacts:
                row = {"store_id": self._store_id, "identity": event.identity, "first_seen": event.at}
                contacts.setdefault(event.identity, row | event.customer)
        if contacts:
            rows = self._connection.execute(_INSERT_CONTACTS, list(contacts.values()))
            for id_, identity in rows:
                self._contacts[identity] = contacts[identity] | {"id": id_}
        if orders:
            rows = self._connection.execute(_INSERT_ORDERS, list(orders.values()))
            for id_, source_id, reference in rows:
                self.orders[source_id, reference] = orders[source_id, reference] | {"id": id_}
            self._untouched = set(orders)

    def _blank(self, event: Seen) -> dict[str, Any]:
        """An order of which nothing is known but that it is there."""
        source_id, reference = event.key
        texts = {"number": reference, "status": "", "total": "", "language": ""}
        times = {"placed_at": event.at, "last_event_at": event.at}
        rest = {"store_id": self._store_id, "source_id": source_id, "reference": reference, "seen": []}
        rest["seen_others"] = rest["bought"] = None
        return {**rest, **texts, **times, "contact_id": None, "read": None}

    def known(self, key: tuple[int, str]) -> dict[str, Any] | None:
        """An order as the events so far have left it; None where this is its first."""
        key = self._same.get(key, key)
        return None if key in self._untouched else self.orders.get(key)

    def order(self, key: tuple[int, str], values: dict[str, Any]) -> int:
        """Takes an order's new values; gives its id."""
        key = self._same.get(key, key)
        row = self.orders[key]
        row.update(values)
        self._changed_orders.add(key)
        if key in self._untouched:
            self._untouched.discard(key)
            if row["contact_id"] is not None:
                self.new_orders[row["contact_id"]] += 1
        return int(row["id"])

    def earlier_order_ids(self) -> set[int]:
        """Those of the orders that were there before the batch, so that something may have been sent about them."""
        return {int(row["id"]) for key, row in self.orders.items() if key not in self._untouched}

    def contact_ids(self) -> set[int]:
        """Every customer of the batch that was known before it or is met in it."""
        ids = {row["contact_id"] for row in self.orders.values() if row["contact_id"] is not None}
        return ids | {int(row["id"]) for row in self._contacts.values()}

    def contact(self, identity: str, values: dict[str, str], now: dt.datetime) -> int:
        """Takes what an event says of a customer, keeping what it does not say; gives their id."""
        row = self._contacts.get(identity)
        if row is None:
            row = {"store_id": self._store_id, "identity": identity, "first_seen": now, **values}
            row["id"] = self._connection.execute(_INSERT_CONTACT, row).scalar_one()
            self._contacts[identity] = row
        else:
            said = {name: value for name, value in values.items() if value and row[name] != value}
            if said:
                row.update(said)
                self._changed_contacts.add(identity)
        return int(row["id"])

    def known_by(self, contact_id: int | None) -> tuple[str, str]:
        """The language and the country that a customer is known by."""
        if contact_id is None:
            return "", ""
        row = next((row for row in self._contacts.values() if row["id"] == contact_id), {})
        return row.get("language") or "", row.get("country") or ""

    def bought_by(self, contact_id: int) -> dict[int, Any]:
        """The histories of what was bought, of those of a customer's orders that this batch has changed, by order."""
        rows = (self.orders[key] for key in self._changed_orders)
        return {int(row["id"]): row["bought"] for row in rows if row["contact_id"] == contact_id}

    def begin_anew(self, key: tuple[int, str]) -> None:
        """Takes an order as one of which nothing is known yet: what its events say is taken in once more."""
        key = self._same.get(key, key)
        self.orders[key] |= {"seen": [], "seen_others": None, "bought": None, "read": None, "status": "", "total": ""}
        self._untouched.add(key)

    def write(self) -> None:
        """Writes what was changed."""
        if self._changed_orders:
            rows = (self.orders[key] for key in self._changed_orders)
            changed = [{"b_id": row["id"], **{name: row[name] for name in _ORDER_COLUMNS}} for row in rows]
            _UPDATE_ORDER.run(self._connection, changed)
        if self._changed_contacts:
            found = (self._contacts[identity] for identity in self._changed_contacts)
            changed = [{"b_id": row["id"], **{name: row[name] for name in _CONTACT_COLUMNS}} for row in found]
            _UPDATE_CONTACT.run(self._connection, changed)


SEEN_IN, MOST_VALUES = 200, 60
"""Newest orders that values are collected from, and how many different ones of each part."""
_PARTS_SEEN = ("status", "payment_status", "fulfilment_status", "return_status", "country", "language", "currency")


def values_seen(session: Session, store_id: int) -> dict[str, list[tuple[str, str]]]:
    """The values that parts of the newest orders have had, most frequent first: by `order.country`, or
    `order.lines.sku` for a field of their lines; each with a title where a code has one.
    """
    rows = session.exec(
        select(OrderRow.read, OrderRow.seen, OrderRow.seen_others)
        .where(OrderRow.store_id == store_id)
        .order_by(col(OrderRow.last_event_at).desc())
        .limit(SEEN_IN)
    )
    counted: dict[str, Counter[tuple[str, str]]] = {}

    def note(name: str, value: Any, title: Any = "") -> None:
        if isinstance(value, str) and value.strip():
            counted.setdefault(name, Counter())[value[:80], str(title or "")[:80]] += 1

    for read, seen, others in rows:
        for part in _PARTS_SEEN:
            note(f"order.{part}", (read or {}).get(part))
        for part, entries in {"status": seen, **(others or {})}.items():
            for word, _ in entries or []:
                note(f"history.{part}es", word)
                note("status" if part == "status" else part, word)
        for line in (read or {}).get("lines") or []:
            for name, value in line.items() if isinstance(line, dict) else ():
                note(f"order.lines.{name}", value, line.get("name") if name in ("sku", "code") else "")
    return {name: [pair for pair, _ in found.most_common(MOST_VALUES)] for name, found in counted.items()}


class Placed(NamedTuple):
    """An order, and who placed it (`ContactRow.identity`; empty where nobody is known)."""

    identity: str
    source_id: int
    reference: str


_OF_PEOPLE = (
    ORDER.join(CONTACT, CONTACT.c.id == ORDER.c.contact_id),
    CONTACT.c.store_id == bindparam("b_store"),
    CONTACT.c.identity.in_(bindparam("b_identities", expanding=True)),
)
_COUNTED = (
    core_select(CONTACT.c.identity, func.count())
    .select_from(_OF_PEOPLE[0])
    .where(*_OF_PEOPLE[1:])
    .group_by(CONTACT.c.identity)
)
_OWN = (
    core_select(CONTACT.c.identity, ORDER.c.source_id, ORDER.c.reference)
    .select_from(_OF_PEOPLE[0])
    .where(*_OF_PEOPLE[1:], ORDER.c.reference.in_(bindparam("b_references", expanding=True)))
)


def orders_of_people(connection: Connection, store_id: int, about: Collection[Placed]) -> dict[Placed, int]:
    """How many orders each of these people has placed so far, the one that is named counted, known yet or not."""
    identities = {one.identity for one in about if one.identity}
    if not identities:
        return dict.fromkeys(about, 1)
    given = {"b_store": store_id, "b_identities": list(identities)}
    counted = {identity: number for identity, number in connection.execute(_COUNTED, given)}
    references = {"b_references": list({one.reference for one in about})}
    own = {Placed(*row) for row in connection.execute(_OWN, given | references)}
    return {one: counted.get(one.identity, 0) + (one not in own) for one in about}


def is_customer(session: Session, store_id: int, address: str) -> bool:
    """Whether an email address is known as a customer's."""
    statement = select(ContactRow.id).where(
        ContactRow.store_id == store_id, ContactRow.identity == f"email:{address.lower()}"[:300]
    )
    return session.exec(statement).first() is not None


def by_ids(session: Session, store_id: int, ids: Collection[int]) -> list[OrderRow]:
    """Orders of a store by id, each once, in the order that they are asked for."""
    wanted = list(dict.fromkeys(ids))
    found: dict[int | None, OrderRow] = {}
    for start in range(0, len(wanted), 500):
        part = col(OrderRow.id).in_(wanted[start : start + 500])
        found.update(
            {
                row.id: row
                for row in session.exec(select(OrderRow).where(part, not_by_index(col(OrderRow.store_id)) == store_id))
            }
        )
    return [found[id_] for id_ in wanted if id_ in found]


def _with_words(connection: Connection, store_id: int, words: str, further: int = 0) -> list[int]:
    """The newest orders that have these words, before where another search has ended (`further`), and those that have
    just this number.
    """
    found = [int(ref) for ref in searching.refs(connection, "order", store_id, words, searching.MOST, further)]
    numbered = core_select(ORDER.c.id).where(
        ORDER.c.number == words.strip(), not_by_index(ORDER.c.store_id) == store_id
    )
    return [*found, *connection.execute(numbered.limit(100)).scalars()]


def end_of_search(session: Session, store_id: int, words: str, further: int = 0) -> int:
    """Where a search for orders has ended, for `listed` to go on from; 0 where it has met the oldest."""
    return searching.end_of(session.connection(), "order", store_id, words, searching.MOST, further)


def listed(
    session: Session,
    store_id: int,
    words: str = "",
    limit: int = 100,
    after: tuple[dt.datetime, int] | None = None,
    further: int = 0,
) -> list[tuple[OrderRow, ContactRow | None, str]]:
    """Orders with their customer and source key, the most recently touched first; those that come after one (the time
    of its last event, and its id). With words, of the newest that have them; `further` goes on with older ones.
    """
    statement = (
        select(OrderRow, ContactRow, SourceRow.key)
        .outerjoin(ContactRow, col(ContactRow.id) == col(OrderRow.contact_id))
        .join(SourceRow, col(SourceRow.id) == col(OrderRow.source_id))
        .where((not_by_index(ORDER.c.store_id) if words.strip() else ORDER.c.store_id) == store_id)
    )
    if words.strip():
        statement = statement.where(col(OrderRow.id).in_(_with_words(session.connection(), store_id, words, further)))
    if after is not None:
        statement = statement.where(older_than(col(OrderRow.last_event_at), col(OrderRow.id), after))
    newest_first = (col(OrderRow.last_event_at).desc(), col(OrderRow.id).desc())
    return [
        (order, contact, key) for order, contact, key in session.exec(statement.order_by(*newest_first).limit(limit))
    ]


def with_customers(session: Session, store_id: int, ids: Sequence[int]) -> list[tuple[OrderRow, ContactRow | None]]:
    """Orders of a store with their customers, in the order of these ids."""
    statement = (
        select(OrderRow, ContactRow)
        .outerjoin(ContactRow, col(ContactRow.id) == col(OrderRow.contact_id))
        .where(col(OrderRow.id).in_(list(ids)), not_by_index(col(OrderRow.store_id)) == store_id)
    )
    found = {order.id: (order, contact) for order, contact in session.exec(statement)} if ids else {}
    return [found[id_] for id_ in ids if id_ in found]


def events_of(session: Session, order_id: int, most: int, until: dt.datetime | None = None) -> list[EventRow]:
    """An order's newest events, or the newest before a moment (aware), oldest first."""
    when = [col(EventRow.order_id) == order_id, *([col(EventRow.received_at) < until] if until is not None else [])]
    order = (col(EventRow.received_at).desc(), col(EventRow.parent_id).is_(None), col(EventRow.id).desc())
    return list(session.exec(select(EventRow).where(*when).order_by(*order).limit(most)))[::-1]


def send_states(session: Session, order_ids: Collection[int]) -> dict[int, dict[str, int]]:
    """For each order how many of its sends stand in each state."""
    found: dict[int, dict[str, int]] = {}
    columns: Any = (SendRow.order_id, SendRow.state, func.count())
    statement = select(*columns).where(col(SendRow.order_id).in_(list(order_ids)))
    grouped = statement.group_by(col(SendRow.order_id), col(SendRow.state))
    for order_id, state, number in session.exec(grouped) if order_ids else ():
        found.setdefault(order_id, {})[state] = number
    return found


def customer_of(session: Session, order: OrderRow) -> ContactRow | None:
    return session.get(ContactRow, order.contact_id) if order.contact_id else None


def _sources_of(store_id: int) -> Any:
    return core_select(SOURCE.c.id).where(SOURCE.c.store_id == store_id)


def _called(sources: Any, numbers: Collection[str], references: Collection[str]) -> Sequence[ColumnElement[bool]]:
    """The orders of these sources that have one of these numbers, or of these references: each by an index of its own,
    since one condition for both would go through all of the sources' orders.
    """
    named = ORDER.c.source_id.in_(sources) & ORDER.c.reference.in_(list(references))
    either = ORDER.c.number.in_(list(numbers)) | named if numbers else named
    return not_by_index(ORDER.c.source_id).in_(sources), either


def newest_of_customers(session: Session, store_id: int, contact_ids: Sequence[int], limit: int) -> list[OrderRow]:
    """The newest order of each of these customers, or of every customer of the store where none is named: those with
    the newest ones first.
    """
    newest = func.max(ORDER.c.id)
    found = core_select(newest).where(ORDER.c.contact_id.is_not(None))
    found = found.group_by(ORDER.c.contact_id).order_by(newest.desc()).limit(limit)
    of_store = core_select(ORDER.c.id).where(ORDER.c.store_id == store_id).order_by(ORDER.c.placed_at.desc())
    if contact_ids:
        among = [ORDER.c.contact_id.in_(list(contact_ids)) & (not_by_index(ORDER.c.store_id) == store_id)]
    else:  # first among the newest orders: these are most often enough
        among = [ORDER.c.id.in_(of_store.limit(limit * each)) for each in (20, 400)] + [ORDER.c.store_id == store_id]
    ids: list[int] = []
    for part in among:
        ids = list(session.connection().execute(found.where(part)).scalars())
        if len(ids) == limit:
            break
    return list(session.exec(select(OrderRow).where(col(OrderRow.id).in_(ids)).order_by(col(OrderRow.id).desc())))


def by_reference(session: Session, store_id: int, wanted: Sequence[str]) -> dict[str, OrderRow]:
    """Orders by their number and by their reference, of those that are wanted; a query for every 500 of them."""
    found: dict[str, OrderRow] = {}
    for start in range(0, len(wanted), 500):
        part = list(dict.fromkeys(wanted[start : start + 500]))
        for row in session.exec(select(OrderRow).where(*_called(_sources_of(store_id), part, part))):
            found[row.number] = found[row.reference] = row
    return found


def of_source(connection: Connection, source_id: int, references: Sequence[str]) -> dict[str, int]:
    """The orders of a source by what it calls them, as their ids."""
    found: dict[str, int] = {}
    for start in range(0, len(references), 500):
        part = list(dict.fromkeys(reference[:200] for reference in references[start : start + 500]))
        where = (ORDER.c.source_id == source_id, ORDER.c.reference.in_(part))
        found |= {
            row.reference: row.id
            for row in connection.execute(core_select(ORDER.c.reference, ORDER.c.id).where(*where))
        }
    return found


def contact_of(connection: Connection, order_id: int) -> int | None:
    """The customer of an order; None where none is known."""
    found = connection.execute(core_select(ORDER.c.contact_id).where(ORDER.c.id == order_id)).scalar()
    return int(found) if found is not None else None


def amount_of(kept: Any) -> tuple[float | None, str]:
    """What an order comes to, as a number and its currency (ISO 4217), from how `OrderRow.read` keeps its total."""
    value = unpack(kept)
    number = number_of_value(value)
    return (float(number) if number is not None else None), (value.currency if isinstance(value, Money) else "")


def numbered(session: Session, store_id: int, number: str) -> list[OrderRow]:
    """The store's orders that a number, or a reference, means; by their reference where one has exactly that."""
    forms = sorted(forms_of_number(number.strip()))
    which = _called(_sources_of(store_id), forms, [number.strip()])
    rows = list(session.exec(select(OrderRow).where(*which).limit(50)))
    return [row for row in rows if row.reference == number.strip()] or rows


def ids_called(connection: Connection, store_id: int, numbers: Collection[str]) -> dict[str, list[int]]:
    """The orders that numbers, or references, mean, by each; by their reference where one has exactly that. In two
    queries, however many they are.
    """
    found: dict[str, list[int]] = {}
    wanted = {number.strip() for number in numbers} - {""}
    if not wanted:
        return found
    exactly = core_select(ORDER.c.reference, ORDER.c.id).where(
        ORDER.c.source_id.in_(_sources_of(store_id)), ORDER.c.reference.in_(wanted)
    )
    for reference, id_ in connection.execute(exactly):
        found.setdefault(reference, []).append(id_)
    forms: dict[str, set[str]] = {}
    for number in wanted - found.keys():
        for form in forms_of_number(number):
            forms.setdefault(form, set()).add(number)
    called = core_select(ORDER.c.number, ORDER.c.id).where(
        ORDER.c.number.in_(forms), not_by_index(ORDER.c.store_id) == store_id
    )
    for form, id_ in connection.execute(called) if forms else ():
        for number in forms[form]:
            found.setdefault(number, []).append(id_)
    return found


def read_of(connection: Connection, order_id: int) -> dict[str, Any]:
    """What was last read of an order, by part, as it is stored."""
    return connection.execute(_READ, {"b_id": order_id}).scalar() or {}


def get(session: Session, store_id: int, order_id: int) -> OrderRow | None:
    """An order of this store."""
    row = session.get(OrderRow, order_id)
    return row if row is not None and row.store_id == store_id else None


def tellers(session: Session, order: OrderRow) -> list[tuple[int, str]]:
    """The sources that tell of an order (their ids) and what each calls it, its first one first."""
    rows = session.connection().execute(
        core_select(ALIAS.c.source_id, ALIAS.c.reference).where(ALIAS.c.order_id == order.id, ~ALIAS.c.apart)
    )
    return [(order.source_id, order.reference), *((row.source_id, row.reference) for row in rows)]


def delivered_events(connection: Connection, order_id: int, most: int) -> Sequence[Any]:
    """The events of an order that were delivered, oldest first."""
    which = (EVENT.c.order_id == order_id, EVENT.c.parent_id.is_(None))
    return connection.execute(
        core_select(EVENT).where(*which).order_by(EVENT.c.received_at, EVENT.c.id).limit(most)
    ).all()


def take_together(connection: Connection, store_id: int, kept: OrderRow, other: OrderRow, now: dt.datetime) -> None:
    """Gives an order all that belongs to another, which goes."""
    connection.execute(update(EVENT).where(EVENT.c.order_id == other.id).values(order_id=kept.id))
    connection.execute(update(SEND).where(SEND.c.order_id == other.id).values(order_id=kept.id))
    questions.take_to(connection, int(other.id or 0), int(kept.id or 0), now)
    parcels.take_to(connection, int(other.id or 0), int(kept.id or 0))
    connection.execute(update(ALIAS).where(ALIAS.c.order_id == other.id, ~ALIAS.c.apart).values(order_id=kept.id))
    connection.execute(delete(ALIAS).where(ALIAS.c.order_id == other.id))
    notes = (CHANGE.c.store_id == store_id, CHANGE.c.kind == "order", CHANGE.c.key == str(other.id))
    connection.execute(update(CHANGE).where(*notes).values(key=str(kept.id)))
    connection.execute(delete(ORDER).where(ORDER.c.id == other.id))
    call_the_same(connection, other.source_id, other.reference, int(kept.id or 0), False)


def take_apart(connection: Connection, order: OrderRow, source_id: int, reference: str) -> int:
    """Makes what a source tells of an order one of its own; gives its id. What the source has told so far, and what was
    sent because of it, goes along.
    """
    blank = {"number": order.number, "placed_at": order.placed_at, "last_event_at": order.placed_at, "seen": []}
    named = {"store_id": order.store_id, "source_id": source_id, "reference": reference, "read": None}
    rest = {"status": "", "total": "", "language": "", "seen_others": None, "bought": None, "contact_id": None}
    id_ = int(connection.execute(insert(ORDER).returning(ORDER.c.id), {**named, **blank, **rest}).scalar_one())
    mine = core_select(EVENT.c.id).where(EVENT.c.order_id == order.id, EVENT.c.source_id == source_id)
    for table in (SEND, QUESTION):
        own = (table.c.order_id == order.id, table.c.event_id.in_(mine))
        connection.execute(update(table).where(*own).values(order_id=id_))
    connection.execute(
        update(EVENT).where(EVENT.c.order_id == order.id, EVENT.c.source_id == source_id).values(order_id=id_)
    )
    call_the_same(connection, source_id, reference, id_, True)
    return id_


def call_the_same(connection: Connection, source_id: int, reference: str, order_id: int, apart: bool) -> None:
    """Keeps which order a source means by a reference; `apart` says that it is its own, whatever its number."""
    connection.execute(delete(ALIAS).where(ALIAS.c.source_id == source_id, ALIAS.c.reference == reference))
    row = {"source_id": source_id, "reference": reference, "order_id": order_id, "apart": apart}
    connection.execute(insert(ALIAS), row)


def number_of(connection: Connection, order_id: int) -> str:
    """An order's number, as its store tells it; empty where there is no such order."""
    return connection.scalar(core_select(ORDER.c.number).where(ORDER.c.id == order_id)) or ""


def of_same_customer(connection: Connection, order_id: int) -> list[int]:
    """An order's id, with those of the newest orders of the same customer."""
    contact = core_select(ORDER.c.contact_id).where(ORDER.c.id == order_id).scalar_subquery()
    others = core_select(ORDER.c.id).where(ORDER.c.contact_id == contact).order_by(ORDER.c.id.desc()).limit(MOST_OF_ONE)
    return list(dict.fromkeys([order_id, *connection.execute(others).scalars()]))
