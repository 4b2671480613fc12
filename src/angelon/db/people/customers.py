"""Customers as far as routes ask for them: their orders, what they bought, what has been sent to them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import BindParameter, Connection, bindparam, func
from sqlalchemy import select as core_select

from angelon.core.planning import purchases
from angelon.core.planning.inputs import Contact
from angelon.core.planning.purchases import Purchase
from angelon.core.states import State
from angelon.core.values import Money, Value
from angelon.db.lists import not_by_index
from angelon.db.log.orders import CONTACT, ORDER
from angelon.db.log.sends import SEND
from angelon.db.people import contact_tags, contact_values
from angelon.db.tables import EventRow, table_of

EVENT = table_of(EventRow)
NOT_SENT = (State.SKIPPED, State.CANCELLED)
OF_CUSTOMER = ("return.received", "feedback.negative")
"""Events that say something of a customer for good."""
MOST_PURCHASES = 500
"""Orders of one customer, the newest, that are looked at for what was bought."""


_IDS: BindParameter[Any] = bindparam("b_ids", expanding=True)
_OF_EVENTS = (
    core_select(ORDER.c.contact_id, EVENT.c.type, EVENT.c.order_id)
    .join(ORDER, ORDER.c.id == EVENT.c.order_id)
    .where(ORDER.c.contact_id.in_(_IDS), not_by_index(EVENT.c.type).in_([*OF_CUSTOMER, *purchases.UNDONE]))
    .distinct()
)
_ORDERS_OF = (
    core_select(ORDER.c.contact_id, func.count()).where(ORDER.c.contact_id.in_(_IDS)).group_by(ORDER.c.contact_id)
)
_LAST_SENT = (
    core_select(SEND.c.route_id, ORDER.c.contact_id, func.max(SEND.c.created_at))
    .join(ORDER, ORDER.c.id == SEND.c.order_id)
    .where(ORDER.c.contact_id.in_(_IDS), SEND.c.route_id.is_not(None), SEND.c.state.not_in(NOT_SENT))
    .group_by(SEND.c.route_id, ORDER.c.contact_id)
)


def contacts(
    connection: Connection, contact_ids: Collection[int], tags: bool = True, bought: bool = True
) -> tuple[dict[int, Contact], set[int]]:
    """Customers' orders so far, whether anything came back, whether they complained, and where it is asked for their
    tags and what they bought, in three queries at most; and those of their orders that were cancelled or paid back.
    """
    ids = list(contact_ids)
    rows = connection.execute(_OF_EVENTS, {"b_ids": ids})
    types: dict[int, set[str]] = {}
    undone: set[int] = set()
    for id_, type_, order in rows:
        types.setdefault(int(id_), set()).add(type_)
        if type_ in purchases.UNDONE:
            undone.add(int(order))
    histories = bought_by(connection, ids) if bought else {}
    counts = _orders_of(connection, ids) if not bought else {}
    known = contact_tags.of(connection, ids) if tags else {}
    return {
        id_: Contact(
            histories[id_].orders if id_ in histories else counts.get(id_, 0),
            "return.received" in types.get(id_, ()),
            "feedback.negative" in types.get(id_, ()),
            tags=known.get(id_, ()),
            purchases=histories[id_].counted(undone) if id_ in histories else {},
        )
        for id_ in ids
    }, undone


def _orders_of(connection: Connection, ids: Collection[int]) -> dict[int, int]:
    return {int(id_): int(number) for id_, number in connection.execute(_ORDERS_OF, {"b_ids": list(ids)})}


@dataclass(slots=True)
class Bought:
    """What one customer has bought: how many orders there are, and the histories of the newest, by order."""

    orders: int = 0
    histories: dict[int, list[Any]] = field(default_factory=dict)

    def counted(self, without: Collection[int], at: dt.datetime | None = None) -> dict[int, Purchase]:
        """Purchases by order, as they stand now or stood at a moment (aware), but for those of some orders."""
        found = {order: purchases.purchase(seen, at) for order, seen in self.histories.items() if order not in without}
        return {order: one for order, one in found.items() if one is not None}


def bought_by(connection: Connection, contact_ids: Collection[int]) -> dict[int, Bought]:
    """What these customers have bought, by contact; of each the newest MOST_PURCHASES orders."""
    place = func.row_number().over(partition_by=ORDER.c.contact_id, order_by=ORDER.c.id.desc()).label("place")
    orders = func.count().over(partition_by=ORDER.c.contact_id).label("orders")
    columns = (ORDER.c.id, ORDER.c.contact_id, ORDER.c.bought, place, orders)
    ranked = core_select(*columns).where(ORDER.c.contact_id.in_(list(contact_ids))).subquery()
    found: dict[int, Bought] = {}
    for row in connection.execute(core_select(ranked).where(ranked.c.place <= MOST_PURCHASES)):
        one = found.setdefault(int(row.contact_id), Bought(int(row.orders)))
        one.histories[int(row.id)] = row.bought or []
    return found


def contact(connection: Connection, contact_id: int) -> Contact:
    """All that conditions know of a customer, as it stands now."""
    known = contacts(connection, [contact_id])[0][contact_id]
    language, country = known_by(connection, [contact_id]).get(contact_id, ("", ""))
    kept = contact_values.newest(connection, [contact_id]).get(contact_id, {})
    values = {name: one.value for name, one in kept.items()}
    return replace(known, language=language, country=country, kept=values)


@dataclass(frozen=True, slots=True)
class BoughtSoFar:
    """What a customer has bought, for their page: a sum for every currency, and the products."""

    spent: list[Money]
    products: list[Value]


def summary(contact: Contact) -> BoughtSoFar:
    """Values for conditions of what one customer has bought."""
    counted = contact.purchases
    currencies = sorted({one.total.currency for one in counted.values() if one.total is not None})
    sums = [purchases.spent(counted, currency) for currency in currencies]
    return BoughtSoFar([one for one in sums if one is not None], purchases.products(counted))


def known_by(connection: Connection, contact_ids: Collection[int]) -> dict[int, tuple[str, str]]:
    """The language and the country that customers are known by."""
    if not contact_ids:
        return {}
    columns = (CONTACT.c.id, CONTACT.c.language, CONTACT.c.country)
    rows = connection.execute(core_select(*columns).where(CONTACT.c.id.in_(list(contact_ids))))
    return {int(id_): (language or "", country or "") for id_, language, country in rows}


def last_sent(connection: Connection, contact_ids: Collection[int]) -> dict[int, dict[int, dt.datetime]]:
    """When each route last sent to a customer, or will: by contact, then by route."""
    rows = connection.execute(_LAST_SENT, {"b_ids": list(contact_ids)})
    found: dict[int, dict[int, dt.datetime]] = {}
    for route, contact, at in rows:
        if at is not None:
            found.setdefault(int(contact), {})[int(route)] = at
    return found


def sent_to(connection: Connection, contact_ids: Collection[int]) -> dict[int, list[dt.datetime]]:
    """When each message to a customer was made, about any of their orders."""
    rows = connection.execute(
        core_select(ORDER.c.contact_id, SEND.c.created_at)
        .join(ORDER, ORDER.c.id == SEND.c.order_id)
        .where(
            ORDER.c.contact_id.in_(list(contact_ids)),
            SEND.c.route_id.is_not(None),
            SEND.c.whom == "customer",
            SEND.c.state.not_in(NOT_SENT),
        )
    )
    found: dict[int, list[dt.datetime]] = {}
    for contact, at in rows:
        found.setdefault(int(contact), []).append(at)
    return found
