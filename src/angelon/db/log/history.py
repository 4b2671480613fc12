"""What has happened before, as far as routes ask: of orders, and of their customers."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection, bindparam, func
from sqlalchemy import select as core_select

from angelon.core.messages.channels import CHANNELS, address_key
from angelon.core.planning import purchases
from angelon.core.planning.inputs import Answer, Contact, Facts, PriorSend, Setup
from angelon.core.planning.permission import THIS_ORDER, Consent, for_one_message, of_order
from angelon.core.planning.purchases import Purchase
from angelon.core.questions import Asked
from angelon.core.reading import Reading
from angelon.core.specs.condition import compares
from angelon.core.specs.route import Route
from angelon.core.states import OUT
from angelon.db.log import questions
from angelon.db.log.orders import CONTACT, ORDER, aliases
from angelon.db.log.sends import SEND
from angelon.db.people import consents, contact_values, customers, suppressions
from angelon.db.people.contact_values import KeptValue
from angelon.db.people.customers import EVENT, NOT_SENT
from angelon.db.setup.live_setup import LiveSetup

_SENDS = (
    core_select(
        *(
            SEND.c[name]
            for name in (
                "order_id",
                "route_id",
                "message_id",
                "channel",
                "recipient",
                "created_at",
                "due_at",
                "settled_at",
                "state",
                "whom",
            )
        ),
        func.coalesce(EVENT.c.parent_id, EVENT.c.id).label("delivery"),
        *(EVENT.c.source_id, EVENT.c.type, EVENT.c.now),
    )
    .outerjoin(EVENT, EVENT.c.id == SEND.c.event_id)
    .where(
        SEND.c.order_id.in_(bindparam("b_orders", expanding=True)),
        SEND.c.route_id.is_not(None),
        SEND.c.state.not_in(NOT_SENT),
    )
    .order_by(SEND.c.created_at)
)

_HAPPENED = (
    core_select(EVENT.c.order_id, EVENT.c.type, EVENT.c.received_at, EVENT.c.name)
    .where(EVENT.c.order_id.in_(bindparam("b_orders", expanding=True)), EVENT.c.type != "")
    .order_by(EVENT.c.received_at)
)

_OF_PURCHASES = frozenset({"contact.spent", "contact.products"})
_OF_EVENTS = frozenset({"history.events", "history.answer", "history.answers"})


@dataclass(frozen=True, slots=True)
class HistoryNeeds:
    """What a store's routes ask of the past; what none asks is not looked up."""

    customer: bool = False
    events: bool = False
    caps: bool = False
    tags: bool = False
    purchases: bool = False
    questions: bool = False
    kept: bool = False
    """Asked whenever a variable is kept: what an event says is compared with what is known."""

    @staticmethod
    def by(routes: Iterable[Route], setup: Setup) -> HistoryNeeds:
        customer = events = caps = tags = purchases = asked = False
        kept = any(variable.keep for variable in setup.variables.values())
        for route in routes:
            of = [part.of for part in compares(route.only_if)]
            if any(name.startswith("segment.") for name in of):
                of += [part.of for segment in setup.store.segments for part in compares(segment.holds)]
            customer |= route.once == "customer" or any(name.startswith(("contact.", "kept.")) for name in of)
            tags |= "contact.tags" in of
            purchases |= not _OF_PURCHASES.isdisjoint(of)
            events |= route.guards.skip_refunded or route.guards.after_answer or route.guards.unless_answered
            events |= not _OF_EVENTS.isdisjoint(of)
            caps |= any(cap.per == "customer" for cap in route.guards.caps)
            asked |= route.guards.unless_asking or any(name.startswith("question.") for name in of)
        return HistoryNeeds(customer, events, caps, tags, purchases, asked, kept)


@dataclass(frozen=True, slots=True)
class SendRecord:
    """A send as it counts for what follows, the delivery that it came of, and its order."""

    send: PriorSend
    route_id: int
    delivery: str
    order_id: int | None


@dataclass
class BatchHistory:
    """The past of a batch of orders; what the batch itself makes is added as it goes."""

    live: LiveSetup
    needs: HistoryNeeds
    made: dict[int, list[SendRecord]] = field(default_factory=dict)
    """By order."""
    types: dict[int, list[tuple[str, dt.datetime]]] = field(default_factory=dict)
    """Events by order, oldest first."""
    answers: dict[int, list[Answer]] = field(default_factory=dict)
    """What customers have answered, by order, oldest first."""
    questions: dict[int, list[Asked]] = field(default_factory=dict)
    """What customers were asked, by order, oldest first."""
    suppressed: dict[str, str] = field(default_factory=dict)
    consents: dict[tuple[str, str], Consent] = field(default_factory=dict)
    contacts: dict[int, Contact] = field(default_factory=dict)
    """Customers as they were before the batch, by contact; one that is not here is new."""
    undone: set[int] = field(default_factory=set)
    """Orders that count for nothing of what their customer has bought."""
    kept: dict[int, dict[str, KeptValue]] = field(default_factory=dict)
    """The last value of each variable that is kept, by contact."""
    last_sent: dict[int, dict[int, dt.datetime]] = field(default_factory=dict)
    """When each route last sent to a contact, or will: by contact, then by route."""
    sent_to_customer: dict[int, list[dt.datetime]] = field(default_factory=dict)
    """When each message to a contact was made."""

    def add(self, contact_id: int | None, made: SendRecord) -> None:
        """Takes a send that has just been planned."""
        if made.order_id is not None:
            self.made.setdefault(made.order_id, []).append(made)
        if contact_id is not None:
            self.last_sent.setdefault(contact_id, {})[made.route_id] = made.send.at
        if contact_id is not None and made.send.to_customer:
            self.sent_to_customer.setdefault(contact_id, []).append(made.send.at)

    def happened(self, contact_id: int | None, order_id: int | None, type_: str) -> None:
        """Takes an event that has just been planned, as far as it says something of a customer."""
        if contact_id is None:
            return
        before = self.contacts.get(contact_id, Contact(0))
        if type_ == "return.received":
            self.contacts[contact_id] = replace(before, returned=True)
        elif type_ == "feedback.negative":
            self.contacts[contact_id] = replace(before, complained=True)
        if type_ in purchases.UNDONE and order_id is not None:
            self.undone.add(order_id)

    def facts(
        self,
        source: str,
        reference: str,
        delivery: str,
        order_id: int | None,
        contact_id: int | None,
        statuses: tuple[str, ...],
        leave: frozenset[str] = frozenset(),
        language: str = "",
        new_orders: int = 0,
        other_statuses: Mapping[str, tuple[str, ...]] | None = None,
        country: str = "",
        bought: Mapping[int, Purchase] | None = None,
    ) -> Facts:
        """The facts for one event.

        `language` and `country` are those that the customer is known by, `new_orders` is how many orders of theirs the
        batch itself has brought, `bought` what its orders have come to by now. What the routes in `leave` have sent
        counts for nothing.
        """
        made = self.made.get(order_id, []) if order_id is not None else []
        customer: dict[str, dt.datetime] = {}
        sent_at: list[dt.datetime] = []
        known = Contact(language=language, country=country)
        if contact_id is not None and self.needs.customer:
            customer = {self.live.route_key(id_): at for id_, at in self.last_sent.get(contact_id, {}).items()}
            before = self.contacts.get(contact_id, Contact(0))
            counted = {**before.purchases, **(bought or {})}
            known = replace(
                before,
                orders=max(before.orders + new_orders, 1),
                language=language,
                country=country,
                purchases={order: one for order, one in counted.items() if order not in self.undone},
                kept={name: one.value for name, one in self.kept.get(contact_id, {}).items()},
            )
        if contact_id is not None and self.needs.caps:
            sent_at = sorted(self.sent_to_customer.get(contact_id, []))
        prior = [one for one in made if one.send.route not in leave]
        return Facts(
            sent_for_order=frozenset((one.send.route, source, reference) for one in prior if one.send.route),
            last_sent_to_customer={key: at for key, at in customer.items() if key and key not in leave},
            statuses=statuses,
            contact=known,
            types=tuple(self.types.get(order_id, [])) if order_id is not None else (),
            prior_sends=tuple(one.send for one in prior),
            sent_to_customer=tuple(sent_at),
            same_delivery=tuple(one.send for one in prior if one.delivery == delivery),
            suppressed=self._suppressed(order_id),
            other_statuses=other_statuses or {},
            answers=tuple(self.answers.get(order_id, [])) if order_id is not None else (),
            consents=self.consents,
            questions=tuple(self.questions.get(order_id, [])) if order_id is not None else (),
        )

    def _suppressed(self, order_id: int | None) -> Mapping[str, str]:
        """What is suppressed, with what this order's own suppression says under a key that is the same for all."""
        why = self.suppressed.get(of_order(order_id))
        return self.suppressed if why is None else {**self.suppressed, THIS_ORDER: why}


def known(
    connection: Connection,
    live: LiveSetup,
    routes: Collection[Route],
    order_ids: Collection[int],
    readings: Collection[Reading],
    contact_ids: Collection[int] = (),
) -> BatchHistory:
    """The past of these orders and customers, as far as these routes ask, in at most eleven queries."""
    found = BatchHistory(live, HistoryNeeds.by(routes, live.setup))
    ids = list(order_ids)
    if ids:
        _add_sends(connection, found, ids)
    if ids and found.needs.events:
        for row in connection.execute(_HAPPENED, {"b_orders": ids}):
            found.types.setdefault(row.order_id, []).append((row.type, row.received_at))
            if row.type == "answer.received":
                found.answers.setdefault(row.order_id, []).append(Answer(row.name, row.received_at))
    if ids and found.needs.questions:
        for order_id, asked in questions.of_orders(connection, ids).items():
            found.questions[order_id] = [questions.as_asked(one, live.message_key(one.message_id)) for one in asked]
    if contact_ids and found.needs.customer:
        needs = found.needs
        found.contacts, found.undone = customers.contacts(connection, contact_ids, needs.tags, needs.purchases)
        found.last_sent = customers.last_sent(connection, contact_ids)
    if contact_ids and found.needs.kept:
        found.kept = contact_values.newest(connection, contact_ids)
    if contact_ids and found.needs.caps:
        found.sent_to_customer = customers.sent_to(connection, contact_ids)
    address_keys = {
        channel.address_key(reading.text(channel.address_part))
        for reading in readings
        for channel in CHANNELS.values()
        if reading.text(channel.address_part)
    }
    address_keys |= {address_key("chat", account) for reading in readings if (account := reading.text("account"))}
    if address_keys or any(recipient.kind != "customer" for route in routes for recipient in route.to):
        address_keys |= fixed_address_keys(routes, live.setup) | {of_order(id_) for id_ in ids}
        found.suppressed = suppressions.among(connection, live.store_id, address_keys)
        if live.setup.store.consent:
            once = {one.message for one in live.setup.store.pages.sign_ups if one.message}
            single = {for_one_message(key, message) for key in address_keys for message in once}
            found.consents = consents.among(connection, live.store_id, address_keys | single)
    return found


def _add_sends(connection: Connection, found: BatchHistory, order_ids: list[int]) -> None:
    """What has been sent for these orders, or will be."""
    for row in connection.execute(_SENDS, {"b_orders": order_ids}):
        out = row.state in OUT
        send = PriorSend(
            found.live.route_key(row.route_id),
            row.channel,
            row.recipient,
            row.created_at,
            row.settled_at if row.settled_at and out else row.due_at,
            out,
            row.whom == "customer",
            found.live.message_key(row.message_id),
            found.live.source_key(row.source_id),
            row.type or "",
            row.now or "",
        )
        record = SendRecord(send, row.route_id, row.delivery or "", row.order_id)
        found.made.setdefault(row.order_id, []).append(record)


def fixed_address_keys(routes: Iterable[Route], setup: Setup) -> set[str]:
    """The addresses that routes write to whatever the event."""
    address_keys = set()
    for route in routes:
        for recipient in route.to:
            if recipient.kind == "address":
                address_keys |= {channel.address_key(recipient.who) for channel in CHANNELS.values()}
            elif recipient.kind == "role":
                address_keys |= {
                    address_key(channel, member.address(channel))
                    for member in setup.store.team
                    for channel in CHANNELS
                    if member.address(channel)
                }
    return address_keys


@dataclass(frozen=True, slots=True)
class OrderSoFar:
    """An order as the events have left it: every status that it has had, oldest first."""

    id: int
    contact_id: int | None
    status: str
    statuses: tuple[str, ...]
    language: str = ""
    """The one that its customer is known by, and so the country."""
    country: str = ""
    other_statuses: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """By part (`payment_status`, …)."""

    @property
    def current(self) -> dict[str, str]:
        """Every status that the order has now, by part."""
        found = {part: seen[-1] for part, seen in self.other_statuses.items() if seen}
        return found | ({"status": self.status} if self.status else {})


def orders(connection: Connection, keys: Collection[tuple[int, str]]) -> dict[tuple[int, str], OrderSoFar]:
    """Orders by source and reference, in one query."""
    columns = (
        *(ORDER.c.id, ORDER.c.source_id, ORDER.c.reference, ORDER.c.contact_id),
        *(ORDER.c.status, ORDER.c.seen, ORDER.c.seen_others),
        *(CONTACT.c.language, CONTACT.c.country),
    )
    of_sources = ORDER.c.source_id.in_({source_id for source_id, _ in keys})
    where = (of_sources, ORDER.c.reference.in_({reference for _, reference in keys}))
    with_contact = core_select(*columns).outerjoin(CONTACT, CONTACT.c.id == ORDER.c.contact_id)
    rows = connection.execute(with_contact.where(*where)) if keys else ()
    found = {(row.source_id, row.reference): _so_far(row) for row in rows}
    found = {key: found[key] for key in keys if key in found}
    left = [key for key in keys if key not in found]
    if others := aliases(connection, left):
        rows = connection.execute(with_contact.where(ORDER.c.id.in_(set(others.values()))))
        by_id = {row.id: _so_far(row) for row in rows}
        found |= {key: by_id[id_] for key, id_ in others.items() if id_ in by_id}
    return found


def _so_far(row: Any) -> OrderSoFar:
    statuses = tuple(status for status, _ in row.seen or [])
    known = (row.language or "", row.country or "", statuses_by_part(row.seen_others))
    return OrderSoFar(row.id, row.contact_id, row.status, statuses, *known)


def statuses_by_part(seen: Mapping[str, Iterable[Any]] | None) -> dict[str, tuple[str, ...]]:
    """The statuses besides the order's own, each oldest first, from how a row of the order table keeps them."""
    return {part: tuple(status for status, _ in entries) for part, entries in (seen or {}).items()}


@dataclass(frozen=True, slots=True)
class Occurrence:
    """One event of an order, whose facts are asked for: from which source, in which delivery."""

    source_id: int
    delivery: str
    reading: Reading


def of_many(
    connection: Connection,
    live: LiveSetup,
    routes: Collection[Route],
    occurrences: Mapping[str, Occurrence],
    leave: Mapping[str, frozenset[str]],
) -> dict[str, Facts]:
    """The facts for events of orders, as they stand now, by the name given to each; in at most eleven queries.

    What the routes in `leave` (by the same name) have sent counts for nothing.
    """
    keys = {name: (one.source_id, one.reading.reference[:200]) for name, one in occurrences.items()}
    found = orders(connection, set(keys.values()))
    contact_ids = {order.contact_id for order in found.values() if order.contact_id is not None}
    readings = [one.reading for one in occurrences.values()]
    past = known(connection, live, routes, {order.id for order in found.values()}, readings, contact_ids)
    facts = {}
    for name, one in occurrences.items():
        order = found.get(keys[name])
        contact_id = order.contact_id if order else None
        made = past.facts(
            live.source_key(one.source_id),
            one.reading.reference,
            one.delivery,
            order.id if order else None,
            contact_id,
            order.statuses if order else (),
            leave.get(name, frozenset()),
            order.language if order else "",
            other_statuses=order.other_statuses if order else None,
            country=order.country if order else "",
        )
        facts[name] = replace(made, current=order.current if order else {})
    return facts


def of_one(
    connection: Connection,
    live: LiveSetup,
    routes: Collection[Route],
    source_id: int,
    reading: Reading,
    delivery: str,
    leave: frozenset[str] = frozenset(),
) -> Facts:
    """The facts for one event of an order, as it stands now. What the routes in `leave` have sent counts for
    nothing.
    """
    one = Occurrence(source_id, delivery, reading)
    return of_many(connection, live, routes, {"one": one}, {"one": leave})["one"]
