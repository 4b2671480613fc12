"""Thirty days of a small workshop's life, told through the real pipeline with a clock of its own.

Seeded: the same demo every time, dated back from today.
"""

from __future__ import annotations

import datetime as dt
import itertools
import json
import random
import uuid
from dataclasses import dataclass, field, replace
from typing import Any

import structlog

from angelon.core.deliveries import read_delivery
from angelon.core.ids import sibling
from angelon.core.specs.source import Source
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import events, questions, sends
from angelon.db.log.bodies import Bodies
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.feedback.answers import Answers, Questions, Reply
from angelon.engine.orders.parcels import LateParcels
from angelon.engine.planner import Planner
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.engine.setups import Setups
from angelon.gateways.interface import Mail, Outcome, ProviderMessage
from angelon.standins.catalogue import CARRIERS, CUSTOMERS, LIFE, PRODUCTS, parcel_number
from angelon.standins.shapes import Delivery, ShopOrder, fairground, webshop, workbench

DAYS = 30
GIFT_NOTES = ("Alles Gute, Mika & Ole!", "For the windiest uncle", "Bon vent, Lou !", "")


@dataclass
class SeedClock(Clock):
    """A clock that stands until it is set."""

    at: dt.datetime = field(default_factory=lambda: dt.datetime(1970, 1, 1, tzinfo=dt.UTC))

    def __post_init__(self) -> None:
        self.now = lambda: self.at


class SeedTransport:
    """A mail server as it was in those days: well, but for one bad afternoon and one address that is gone."""

    def __init__(self, clock: SeedClock, bad_from: dt.datetime, bad_until: dt.datetime, busy_from: dt.datetime) -> None:
        self._clock = clock
        self._bad = (bad_from, bad_until)
        self._busy_from = busy_from

    def deliver(self, mail: Mail | ProviderMessage, key: str) -> Outcome:
        self._clock.at += dt.timedelta(milliseconds=180 + self._clock.rng.randrange(400))
        if isinstance(mail, ProviderMessage):
            return Outcome("accepted", "202", "queued", reference=f"old-{key[-8:]}")
        if mail.to_address.startswith("old."):
            return Outcome("permanent", "550", "5.1.1 Nobody of that name lives here")
        if self._bad[0] <= self._clock.at < self._bad[1] or self._clock.at >= self._busy_from:
            return Outcome("temporary", "451", "4.3.0 The mailbox is busy, come back later")
        return Outcome("accepted", "250", "2.0.0 Taken")

    def close(self) -> None: ...


def happenings(today: dt.datetime, rng: random.Random, serial: int = 2050) -> list[tuple[dt.datetime, str, Delivery]]:
    """Every delivery of the thirty days: when, to which source, and what; orders are numbered from `serial` on."""
    made: list[tuple[dt.datetime, str, Delivery]] = []
    start = today - dt.timedelta(days=DAYS)
    for day in range(DAYS + 1):
        date = start + dt.timedelta(days=day)
        quiet = date.weekday() >= 5
        for _ in range(rng.randint(2, 4) if quiet else rng.randint(4, 7)):
            serial += 1
            at = date.replace(hour=0, minute=0, second=0, microsecond=0) + dt.timedelta(
                minutes=rng.randint(6 * 60, 23 * 60)
            )
            made += _webshop_life(serial, at, rng, today)
        if rng.random() < 0.8:
            serial += 1
            at = date.replace(hour=0, minute=0, second=0, microsecond=0) + dt.timedelta(
                minutes=rng.randint(8 * 60, 21 * 60)
            )
            made += _fairground_life(serial, at, rng, today)
        if rng.random() < 0.4:
            at = date.replace(hour=9, minute=rng.randint(0, 59), second=0, microsecond=0)
            made += _workbench_life(100 + day, at, rng, today)
    made += _on_delivery(serial + 20, today, random.Random(31))  # noqa: S311 - the demo has to be the same every time
    made.append(_one_placed(serial + 1, today - dt.timedelta(days=6, hours=2), rng, "old.address@example.com"))
    made.append(_one_placed(serial + 2, today - dt.timedelta(hours=9), rng, "claire@example,org"))
    made.append(_one_placed(serial + 3, today - dt.timedelta(minutes=14), rng))
    made.append(_one_placed(serial + 4, today - dt.timedelta(minutes=6), rng))
    return sorted((m for m in made if m[0] < today), key=lambda m: m[0])


def _order(serial: int, reference: str, at: dt.datetime, rng: random.Random) -> ShopOrder:
    customer = rng.choice(CUSTOMERS)
    lines = tuple((p.sku, rng.choice((1, 1, 1, 2, 3))) for p in rng.sample(PRODUCTS, rng.choice((1, 1, 2, 2, 3))))
    return ShopOrder(serial, reference, customer, lines, at, rng.choice(GIFT_NOTES) if rng.random() < 0.25 else "")


def _webshop_life(
    serial: int, at: dt.datetime, rng: random.Random, today: dt.datetime
) -> list[tuple[dt.datetime, str, Delivery]]:
    order = _order(serial, f"BK-{serial}", at, rng)
    failed = rng.random() < 0.03

    def told(when: dt.datetime, state: str, first: bool = False) -> tuple[dt.datetime, str, Delivery]:
        delivery_id = str(uuid.UUID(int=rng.getrandbits(128), version=4))
        return when, "webshop", webshop(order, state, when, first, delivery_id)

    made = [told(at, "payment_failed" if failed else "paid", True)]
    if failed:
        return made
    if rng.random() < 0.02:  # the store sends the same order anew, under another delivery id
        made.append(told(at + dt.timedelta(minutes=7), "paid", True))
    when = at
    if rng.random() < 0.04:
        return [*made, told(at + dt.timedelta(hours=rng.randint(1, 20)), "cancelled")]
    carrier = CARRIERS[serial % 3]
    number = parcel_number(carrier, serial)
    hours = {
        "packed": (4, 26),
        "label_printed": (1, 3),
        "shipped": (2, 8),
        "in_transit": (6, 30),
        "out_for_delivery": (20, 50),
        "delivered": (2, 8),
    }
    for state in LIFE[1:]:
        when += dt.timedelta(minutes=rng.randint(*(h * 60 for h in hours[state])))
        if state == "shipped":
            order = replace(order, parcel=(carrier, number, (when + dt.timedelta(days=4)).date().isoformat()))
        if state in ON_THE_WAY and (carrier == "Overland Wren" or (state != "in_transit" and serial % 13 == 5)):
            if state == "delivered" and carrier == "Gannet Post":  # in words that nobody knows
                made.append(_watched(serial, order, when, "astray", number))
            continue  # nobody tells, or it has gone astray
        if carrier == "Gannet Post" and state in WATCHED:
            made.append(_watched(serial, order, when, state, number))
        made.append(told(when, state))
    if rng.random() < 0.05:
        made.append(told(when + dt.timedelta(days=3), "returned"))
        made.append(told(when + dt.timedelta(days=4), "refunded"))
    return made


ON_THE_WAY = ("in_transit", "out_for_delivery", "delivered")
WATCHED = {
    "in_transit": ("At the sorting loft", "Athenry"),
    "out_for_delivery": ("In the bag", ""),
    "delivered": ("Delivered", ""),
    "astray": ("Sheltering from the gale", "Cape Clear"),
}
"""What the post tells of a parcel by its own source, in its own words, and where."""


def _watched(
    serial: int, order: ShopOrder, at: dt.datetime, state: str, number: str
) -> tuple[dt.datetime, str, Delivery]:
    """What a source of parcels tells a little before the shop hears of it."""
    words, place = WATCHED[state]
    before = at - dt.timedelta(minutes=20)
    expected = order.parcel[2] if order.parcel is not None else ""
    said = {"number": number, "carrier": "Gannet Post", "state": words, "at": before.isoformat(timespec="seconds")}
    said |= {"place": place or order.customer.city, "expected": expected, "order": order.reference}
    id_ = f"w-{serial}-{state}"
    body = json.dumps({"id": id_, "parcels": [said]}, ensure_ascii=False).encode()
    return before, "parcel-watch", Delivery("parcels", {"Content-Type": "application/json"}, body)


ON_DELIVERY = (
    *((9.2, 1.4, "ja"), (7.6, 0.4, "YES please!"), (6.3, 3.0, "non"), (5.4, 0, ""), (4.7, 0.1, "ok, thanks")),
    *((3.2, 7.5, "Yes, send it"), (1.8, 0.7, "ja bitte"), (1.2, 0.3, "yes, but please after six"), (0.4, 0, "")),
)
"""Orders that are paid on delivery: how many days ago they were placed, after how many hours their customer answered
the shop's question, and what.
"""
ON_DELIVERY_NUMBER = 4101


def _on_delivery(serial: int, today: dt.datetime, rng: random.Random) -> list[tuple[dt.datetime, str, Delivery]]:
    made = []
    for number, (days, _, _) in enumerate(ON_DELIVERY):
        at = (today - dt.timedelta(days=days)).replace(second=0, microsecond=0)
        customer = CUSTOMERS[number % len(CUSTOMERS)]  # each another one: a reply by SMS names no order
        order = _order(serial + number, f"BK-{ON_DELIVERY_NUMBER + number}", at, rng)
        order = replace(order, customer=customer, pays="on_delivery")
        id_ = str(uuid.UUID(int=rng.getrandbits(128), version=4))
        made.append((at, "webshop", webshop(order, "placed", at, True, id_)))
    return made


def _answer(database: Database, setups: Setups, clock: SeedClock, planner: Planner, today: dt.datetime) -> None:
    """What the customers of these orders have answered, and that others have not."""
    with database.reading() as session:
        rows = sorted(questions.all_open(session.connection()), key=lambda row: row.asked_at)
    acts: list[tuple[dt.datetime, Any, str]] = []
    for row, (_, hours, said) in zip(rows, ON_DELIVERY, strict=False):
        at = row.asked_at + (dt.timedelta(hours=hours) if said else dt.timedelta(hours=row.open_hours, minutes=3))
        acts.append((at, row, said))
    for at, row, said in sorted(acts, key=lambda act: act[0]):
        if at >= today:
            continue
        clock.at = at
        Questions(database, setups, clock).run_due(500)
        if said:
            live = setups.get(row.store_id)
            with database.connection() as connection:
                way = sends.of_question(connection, row.id)[0].channel
                reply = Reply(said, way, row.reply_key.partition(":")[2])
                Answers(connection, live, clock).by_address(row.reply_key, reply)
        while planner.run_batch(500)[0]:
            pass
    clock.at = today
    Questions(database, setups, clock).run_due(500)


def _one_placed(serial: int, at: dt.datetime, rng: random.Random, email: str = "") -> tuple[dt.datetime, str, Delivery]:
    """One order that was placed and has not moved on since, of a customer whose address may be a wrong one."""
    order = _order(serial, f"BK-{serial}", at, rng)
    if email:
        order = replace(order, customer=replace(order.customer, email=email))
    return at, "webshop", webshop(order, "paid", at, True, str(uuid.UUID(int=rng.getrandbits(128), version=4)))


def _fairground_life(
    serial: int, at: dt.datetime, rng: random.Random, today: dt.datetime
) -> list[tuple[dt.datetime, str, Delivery]]:
    order = _order(serial, f"F-77-{300000 + serial}", at, rng)
    stages = (
        ("WAITING_FOR_CONFIRMATION", "NEW_SALE", 0),
        ("CONFIRMED", "SALE_CHANGED", 3),
        ("SENT", "SALE_CHANGED", 40),
        ("RECEIVED", "SALE_CHANGED", 120),
    )
    made = []
    for stage, notice, hours in stages:
        when = at + dt.timedelta(hours=hours, minutes=rng.randint(0, 50) if hours else 0)
        made.append(
            (when, "fairground", fairground(order, stage, notice, with_phone=today - when > dt.timedelta(days=3)))
        )
    return made


def _workbench_life(
    serial: int, at: dt.datetime, rng: random.Random, today: dt.datetime
) -> list[tuple[dt.datetime, str, Delivery]]:
    order = _order(serial, f"WB-{serial}", at, rng)
    states = ("agreed", "sewing", "ready_for_collection", "collected")
    made, when = [], at
    for number, (was, now) in enumerate(itertools.pairwise(states)):
        made.append((when, "workbench", workbench(order, was, now, when, f"wb-{serial:05d}-{number}")))
        when += dt.timedelta(days=rng.randint(2, 5))
    return made


def seed(database: Database, live: LiveSetup, vault: Vault, today: dt.datetime) -> tuple[int, int]:
    """Tells the whole story; gives how many deliveries and sends it came to. The database should be new."""
    rng = random.Random(20)  # noqa: S311 - the demo has to be the same every time
    clock = SeedClock(rng=rng)
    rows, told, bodies = list(happenings(today, rng)), 0, Bodies(database)
    while told < len(rows):  # few at first, so that the others are packed by what these have in common
        more = [
            received(live.setup.sources[key], live.source_ids[key], at, delivery, clock, bodies)
            for at, key, delivery in rows[told : told + (400 if told else 40)]
        ]
        with database.connection() as connection:
            events.add(connection, more)
        told += len(more)
    setups = Setups(database, fresh_for=3600)
    planner = Planner(database, setups, clock, planned_at=lambda row: row.received_at)
    made = 0
    while True:
        planned, came = planner.run_batch(500)
        made += came
        if not planned:
            break
    base_url = "http://127.0.0.1:8080"
    bad = (today - dt.timedelta(days=9)).replace(hour=10, minute=40, second=0, microsecond=0)
    transport = SeedTransport(clock, bad, bad + dt.timedelta(hours=8, minutes=10), today - dt.timedelta(minutes=25))
    dispatcher = Dispatcher(
        "seed", database, setups, vault, clock, lambda gateway, password: transport, base_url=base_url
    )

    def dispatch() -> None:
        while True:
            with database.reading() as session:
                due = sends.next_due(session.connection())
            if due is None or due >= today:
                return
            clock.at = due
            dispatcher.run_batch(8)

    dispatch()
    _answer(database, setups, clock, planner, today)
    while LateParcels(database, setups, clock).run_due(500):
        pass
    while planner.run_batch(500)[0]:
        pass
    dispatch()
    structlog.get_logger().debug("demo told", deliveries=len(rows), sends=made)
    return len(rows), made


def received(
    source: Source, source_id: int, at: dt.datetime, delivery: Delivery, clock: Clock, bodies: Bodies
) -> NewDelivery:
    headers = {name.lower(): value for name, value in delivery.headers.items()}
    id_ = clock.new_id("dv", at)
    made = []
    for number, event in enumerate(read_delivery(source, headers, delivery.body)):
        event_id = clock.new_id("ev", at) if number else sibling("ev", id_)
        key = f"d:{event.delivery_id}" if event.delivery_id else f"{events.BY_BODY}{event_id}"
        made.append(NewEvent(event_id, source_id, id_, key, event.name, event.type, at, number))
    return NewDelivery(
        id_,
        source_id,
        at,
        headers["content-type"],
        headers,
        bodies.packed(source_id, made[0].name, delivery.body, at),
        tuple(made),
    )
