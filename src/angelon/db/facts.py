"""What has happened before, as far as routes ask: of orders, and of their customers."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field, replace

from sqlalchemy import Connection, Table, func
from sqlalchemy import select as core_select

from angelon.core.planning.given import Contact, Facts, Setup, Spoken, address_mark
from angelon.core.reading import Reading
from angelon.core.specs.condition import compares
from angelon.core.specs.route import Route
from angelon.core.states import State
from angelon.db import suppressions
from angelon.db.orders import CONTACT, ORDER
from angelon.db.sends import SEND
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow

EVENT: Table = EventRow.__table__  # type: ignore[attr-defined]
NOT_SAID = (State.SKIPPED, State.CANCELLED)
OUT = (State.SENT, State.DELIVERED, State.READ)


@dataclass(frozen=True, slots=True)
class Asked:
    """What a store's routes ask of the past; what none asks is not looked up."""

    customer: bool = False
    events: bool = False
    caps: bool = False

    @staticmethod
    def by(routes: Iterable[Route], setup: Setup) -> Asked:
        customer = events = caps = False
        for route in routes:
            of = [part.of for part in compares(route.only_if)]
            if any(name.startswith("segment.") for name in of):
                of += [part.of for segment in setup.store.segments for part in compares(segment.holds)]
            customer |= route.once == "customer" or any(name.startswith("contact.") for name in of)
            events |= route.guards.skip_refunded or route.guards.after_answer or "history.events" in of
            caps |= any(cap.per == "customer" for cap in route.guards.caps)
        return Asked(customer, events, caps)


@dataclass(frozen=True, slots=True)
class Made:
    """A send as it counts for what follows, the delivery that it came of, and its order."""

    spoken: Spoken
    route_id: int
    delivery: str
    order_id: int | None


@dataclass
class Known:
    """The past of a batch of orders; what the batch itself makes is added as it goes."""

    live: LiveSetup
    asked: Asked
    made: dict[int, list[Made]] = field(default_factory=dict)
    """By order."""
    types: dict[int, list[tuple[str, dt.datetime]]] = field(default_factory=dict)
    """Events by order, oldest first."""
    suppressed: dict[str, str] = field(default_factory=dict)
    told_customer: dict[tuple[int, int], dt.datetime] = field(default_factory=dict)
    """What this batch has said, by route and contact."""
    spoken_customer: dict[int, list[dt.datetime]] = field(default_factory=dict)
    """What this batch has said, by contact."""

    def add(self, contact_id: int | None, made: Made) -> None:
        """Takes a send that has just been planned."""
        if made.order_id is not None:
            self.made.setdefault(made.order_id, []).append(made)
        if contact_id is not None:
            self.told_customer[made.route_id, contact_id] = made.spoken.at
        if contact_id is not None and made.spoken.to_customer:
            self.spoken_customer.setdefault(contact_id, []).append(made.spoken.at)

    def facts(
        self,
        connection: Connection,
        source: str,
        reference: str,
        delivery: str,
        order_id: int | None,
        contact_id: int | None,
        statuses: tuple[str, ...],
        leave: frozenset[str] = frozenset(),
        language: str = "",
    ) -> Facts:
        """The facts for one event; `language` is the one that the customer is known by. What the routes in `leave` have
        said counts for nothing.
        """
        keys = {id_: key for key, id_ in self.live.route_ids.items()}
        made = [one for one in self.made.get(order_id, [])] if order_id is not None else []
        customer: dict[str, dt.datetime] = {}
        spoken_customer: list[dt.datetime] = []
        known = Contact(language=language)
        if contact_id is not None and self.asked.customer:
            customer = {keys[r]: at for r, at in told_customer(connection, contact_id).items() if r in keys}
            customer |= {keys[r]: at for (r, c), at in self.told_customer.items() if c == contact_id and r in keys}
            known = replace(contact(connection, contact_id), language=language)
        if contact_id is not None and self.asked.caps:
            spoken_customer = sorted([*spoken_to(connection, contact_id), *self.spoken_customer.get(contact_id, [])])
        said = [one for one in made if one.spoken.route not in leave]
        return Facts(
            told=frozenset((keys[one.route_id], source, reference) for one in said if one.route_id in keys),
            told_customer={key: at for key, at in customer.items() if key not in leave},
            statuses=statuses,
            contact=known,
            types=tuple(self.types.get(order_id, [])) if order_id is not None else (),
            spoken=tuple(one.spoken for one in said),
            spoken_customer=tuple(spoken_customer),
            same_delivery=tuple(one.spoken for one in said if one.delivery == delivery),
            suppressed=self.suppressed,
        )


def known(
    connection: Connection,
    live: LiveSetup,
    routes: Collection[Route],
    order_ids: Collection[int],
    readings: Iterable[Reading],
) -> Known:
    """The past of these orders, as far as these routes ask, in at most three queries."""
    found = Known(live, Asked.by(routes, live.setup))
    ids = list(order_ids)
    keys = {id_: key for key, id_ in live.route_ids.items()}
    if ids:
        delivery = func.coalesce(EVENT.c.parent_id, EVENT.c.id)
        rows = connection.execute(
            core_select(
                SEND.c.order_id,
                SEND.c.route_id,
                SEND.c.channel,
                SEND.c.recipient,
                SEND.c.created_at,
                SEND.c.due_at,
                SEND.c.settled_at,
                SEND.c.state,
                SEND.c.whom,
                delivery.label("delivery"),
            )
            .outerjoin(EVENT, EVENT.c.id == SEND.c.event_id)
            .where(SEND.c.order_id.in_(ids), SEND.c.route_id.is_not(None), SEND.c.state.not_in(NOT_SAID))
            .order_by(SEND.c.created_at)
        )
        for row in rows:
            due = row.settled_at if row.settled_at and row.state in OUT else row.due_at
            spoken = Spoken(
                keys.get(row.route_id, ""),
                row.channel,
                row.recipient,
                row.created_at,
                due,
                row.state in OUT,
                row.whom == "customer",
            )
            found.made.setdefault(row.order_id, []).append(Made(spoken, row.route_id, row.delivery or "", row.order_id))
    if ids and found.asked.events:
        for row in connection.execute(
            core_select(EVENT.c.order_id, EVENT.c.type, EVENT.c.received_at)
            .where(EVENT.c.order_id.in_(ids), EVENT.c.type != "")
            .order_by(EVENT.c.received_at)
        ):
            found.types.setdefault(row.order_id, []).append((row.type, row.received_at))
    marks = {
        address_mark(channel, reading.text(part))
        for reading in readings
        for channel, part in (("email", "email"), ("sms", "phone"))
        if reading.text(part)
    }
    if marks or any(recipient.kind != "customer" for route in routes for recipient in route.to):
        marks |= fixed_marks(routes, live.setup)
        found.suppressed = suppressions.among(connection, live.store_id, marks)
    return found


def fixed_marks(routes: Iterable[Route], setup: Setup) -> set[str]:
    """The addresses that routes write to whatever the event."""
    marks = set()
    for route in routes:
        for recipient in route.to:
            if recipient.kind == "address":
                marks |= {address_mark("email", recipient.who), address_mark("sms", recipient.who)}
            elif recipient.kind == "role":
                marks |= {
                    address_mark(channel, member.address(channel))
                    for member in setup.store.team
                    for channel in ("email", "sms")
                    if member.address(channel)
                }
    return marks


def contact(connection: Connection, contact_id: int) -> Contact:
    """A customer's orders so far, whether anything came back, whether they complained."""
    orders = (
        connection.execute(
            core_select(func.count()).select_from(ORDER).where(ORDER.c.contact_id == contact_id)
        ).scalar()
        or 0
    )
    types = set(
        connection.execute(
            core_select(EVENT.c.type)
            .join(ORDER, ORDER.c.id == EVENT.c.order_id)
            .where(ORDER.c.contact_id == contact_id, EVENT.c.type.in_(["return.received", "feedback.negative"]))
            .distinct()
        ).scalars()
    )
    return Contact(max(int(orders), 1), "return.received" in types, "feedback.negative" in types)


def language(connection: Connection, contact_id: int) -> str:
    """The language that a customer is known by."""
    return connection.execute(core_select(CONTACT.c.language).where(CONTACT.c.id == contact_id)).scalar() or ""


def told_customer(connection: Connection, contact_id: int) -> dict[int, dt.datetime]:
    """Route id to when it last spoke to a customer, or will."""
    rows = connection.execute(
        core_select(SEND.c.route_id, func.max(SEND.c.created_at))
        .join(ORDER, ORDER.c.id == SEND.c.order_id)
        .where(ORDER.c.contact_id == contact_id, SEND.c.route_id.is_not(None), SEND.c.state.not_in(NOT_SAID))
        .group_by(SEND.c.route_id)
    )
    return {int(route): at for route, at in rows if at is not None}


def spoken_to(connection: Connection, contact_id: int) -> list[dt.datetime]:
    """When each message to a customer was made, about any of their orders."""
    statement = (
        core_select(SEND.c.created_at)
        .join(ORDER, ORDER.c.id == SEND.c.order_id)
        .where(
            ORDER.c.contact_id == contact_id,
            SEND.c.route_id.is_not(None),
            SEND.c.whom == "customer",
            SEND.c.state.not_in(NOT_SAID),
        )
    )
    return list(connection.execute(statement).scalars())


def order(
    connection: Connection, source_id: int, reference: str
) -> tuple[int | None, int | None, str, tuple[str, ...]]:
    """An order's id, its customer's, its status and every status it has had, oldest first."""
    row = connection.execute(
        core_select(ORDER.c.id, ORDER.c.contact_id, ORDER.c.status, ORDER.c.seen).where(
            ORDER.c.source_id == source_id, ORDER.c.reference == reference
        )
    ).first()
    if row is None:
        return None, None, "", ()
    return row.id, row.contact_id, row.status, tuple(status for status, _ in row.seen or [])


def of_one(
    connection: Connection,
    live: LiveSetup,
    routes: Collection[Route],
    source_id: int,
    reading: Reading,
    delivery: str,
    leave: frozenset[str] = frozenset(),
) -> Facts:
    """The facts for one event of an order, as it stands now. What the routes in `leave` have said counts for
    nothing.
    """
    order_id, contact_id, status, statuses = order(connection, source_id, reading.reference[:200])
    past = known(connection, live, routes, [order_id] if order_id else [], [reading])
    found = past.facts(
        connection,
        live.source_key(source_id),
        reading.reference,
        delivery,
        order_id,
        contact_id,
        statuses,
        leave,
        language(connection, contact_id) if contact_id else "",
    )
    return replace(found, status=status or None)
