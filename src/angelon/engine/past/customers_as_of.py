"""Customers as they were at any moment, for rehearsals."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from sqlalchemy import Connection, func
from sqlalchemy import select as core_select

from angelon.core.planning import purchases
from angelon.core.planning.inputs import Contact
from angelon.db.lists import not_by_index
from angelon.db.log import history
from angelon.db.log.orders import ORDER
from angelon.db.people import contact_values, customers
from angelon.db.people.contact_tags import CONTACT, TAG
from angelon.db.setup.live_setup import LiveSetup

IDS = 5_000
"""Customers that are asked for together."""


class CustomersAsOf:
    """What is known of a store's customers, as of any moment: read once for a whole rehearsal."""

    def __init__(
        self,
        connection: Connection,
        live: LiveSetup,
        order_ids: Sequence[int] | None,
        needs: history.HistoryNeeds,
    ) -> None:
        """`order_ids` are the orders of one customer, where nobody else is asked about."""
        self._of_order: dict[int, str] = {}
        self._met: dict[str, list[dt.datetime]] = {}
        self._happened: dict[str, list[tuple[str, dt.datetime]]] = {}
        self._undone: dict[str, list[tuple[int, dt.datetime]]] = {}
        self._known_by: dict[int, tuple[str, str]] = {}
        self._bought: dict[int, customers.Bought] = {}
        self._kept: dict[int, dict[str, list[contact_values.KeptValue]]] = {}
        event = customers.EVENT
        met = core_select(event.c.order_id, func.min(event.c.received_at).label("met")).where(
            event.c.order_id.is_not(None) if order_ids is None else event.c.order_id.in_(order_ids)
        )
        first = met.group_by(event.c.order_id).subquery()
        known = (
            core_select(ORDER.c.id, ORDER.c.contact_id, first.c.met)
            .join(first, first.c.order_id == ORDER.c.id)
            .where(ORDER.c.store_id == live.store_id, ORDER.c.contact_id.is_not(None))
        )
        if order_ids is not None:
            known = known.where(ORDER.c.id.in_(order_ids))
        for row in connection.execute(known):
            self._of_order[row.id] = str(row.contact_id)
            self._met.setdefault(str(row.contact_id), []).append(row.met)
        told = core_select(event.c.order_id, event.c.type, event.c.received_at).where(event.c.order_id.is_not(None))
        types = [*customers.OF_CUSTOMER, *purchases.UNDONE]
        if order_ids is None:
            told = told.where(event.c.type.in_(types))
        else:
            told = told.where(event.c.order_id.in_(order_ids), not_by_index(event.c.type).in_(types))
        for row in connection.execute(told):
            identity = self._of_order.get(row.order_id)
            if identity and row.type in purchases.UNDONE:
                self._undone.setdefault(identity, []).append((row.order_id, row.received_at))
            elif identity:
                self._happened.setdefault(identity, []).append((row.type, row.received_at))
        ids = sorted({int(identity) for identity in self._met})
        for start in range(0, len(ids), IDS):
            some = ids[start : start + IDS]
            self._known_by.update(customers.known_by(connection, some))
            if needs.purchases:
                self._bought.update(customers.bought_by(connection, some))
            if needs.kept:
                self._kept.update(contact_values.of(connection, some))
        self._tags: dict[str, list[tuple[str, dt.datetime]]] = {}
        of_store = core_select(TAG.c.contact_id, TAG.c.tag, TAG.c.set_at)
        of_store = of_store.join(CONTACT, CONTACT.c.id == TAG.c.contact_id).where(CONTACT.c.store_id == live.store_id)
        for row in connection.execute(of_store.order_by(TAG.c.tag)) if needs.tags else ():
            self._tags.setdefault(str(row.contact_id), []).append((row.tag, row.set_at))

    def identity(self, order_id: int | None) -> str:
        return self._of_order.get(order_id, "") if order_id is not None else ""

    def contact(self, identity: str, at: dt.datetime, derived: bool) -> Contact:
        """As of a moment. A delivery is planned before it counts itself; what follows from it is planned after."""
        happened = {type_ for type_, when in self._happened.get(identity, []) if when < at or (derived and when == at)}
        orders = sum(1 for met in self._met.get(identity, []) if met <= at)
        tags = tuple(tag for tag, since in self._tags.get(identity, ()) if since <= at)
        id_ = int(identity or 0)
        language, country = self._known_by.get(id_, ("", ""))
        undone = {order for order, when in self._undone.get(identity, []) if when < at or (derived and when == at)}
        bought = self._bought[id_].counted(undone, at) if id_ in self._bought else {}
        kept = contact_values.last(self._kept.get(id_, {}), at)
        return Contact(
            max(orders, 1),
            "return.received" in happened,
            "feedback.negative" in happened,
            language,
            tags,
            country,
            bought,
            {name: one.value for name, one in kept.items()},
        )
