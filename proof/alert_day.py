"""Days of trouble, drawn by chance, with a clock that is moved: each that lasts is told once within a minute, and
told as over, to whom it should be.
"""

from __future__ import annotations

import datetime as dt
import random
import tempfile
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, get_args

from sqlalchemy import delete, update
from sqlmodel import Session, col

from angelon.core.alerts import AWAY, URGENT
from angelon.core.breaker import Health
from angelon.core.shape import Shape
from angelon.core.specs import Source
from angelon.core.specs.alerts import AlertKind
from angelon.db.database import Database
from angelon.db.derived import shapes
from angelon.db.log import inquiries
from angelon.db.tables import (
    AlertRow,
    AttemptRow,
    EventRow,
    FetchRow,
    GatewayUseRow,
    HeartbeatRow,
    SendRow,
    StatusWordRow,
)
from angelon.db.upkeep import gateway_health, nights
from angelon.engine.followers import alerts
from angelon.engine.followers.alerts import EVERY, Alarm
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from angelon.gateways.interface import Outcome
from tests import made
from tests.conftest import bench_in

KINDS: tuple[AlertKind, ...] = get_args(AlertKind)
ORIGIN = "https://erp.example:443"
LOOK_UP = {"name": "loyalty", "url": "https://erp.example/customers/{id}", "parameters": {"id": "$.id"}}
FETCH = {"url": "https://stall.example/orders", "items_at": "$.orders", "on": True}
LASTED = 75
"""Seconds after which each has to be told, with a look to spare for what is seen late by itself (a worker)."""


@dataclass
class World:
    """What is wrong now, as the model has it, and since when."""

    now: dt.datetime
    on: dict[str, dt.datetime] = field(default_factory=dict)
    gone: dict[str, dt.datetime] = field(default_factory=dict)
    mails: list[tuple[dt.datetime, str, str]] = field(default_factory=list)
    shown: dict[str, bool] = field(default_factory=dict)
    """Which kinds the installation looks like."""


def run(days: int = 2, first: int = 0) -> tuple[dict[str, int], list[str]]:
    broken, told, over = [], 0, 0
    with tempfile.TemporaryDirectory() as folder:
        new = Path(folder) / "new.db"
        database = Database(f"sqlite:///{new}")
        database.migrate()
        database.close()
        for number in range(first, first + days):
            begun, ended, wrong = _day(new, new.with_name(f"home{number}"), random.Random(number))
            told, over = told + begun, over + ended
            broken += [f"day {number}: {one}" for one in wrong]
    return {"days": days, "told": told, "told as over": over}, broken


def _day(new: Path, home: Path, rng: random.Random) -> tuple[int, int, list[str]]:
    bundle = made.bundle()
    asking = bundle.sources[0].model_dump(mode="json") | {"enrichments": [LOOK_UP]}
    fetched = made.source(key="stall", name="Stall", fetch=FETCH)
    bundle = bundle.model_copy(update={"sources": [Source.model_validate(asking), fetched]})
    with bench_in(home, bundle, new) as bench:
        world = World(bench.clock.now().replace(microsecond=0))
        _begin(bench)
        bench.clock.now = lambda: world.now
        with unit(bench.services.installation, bench.store_id) as work:
            chosen = {"on": True, "emails": ["night@example.org"], "gather_minutes": 0}
            store_operations.change(work, {"alerts": chosen})
        bench.services.setups.forget()
        before = alerts.transport_for, alerts.shutil.disk_usage
        looked = Alarm._look_at_certificates
        Alarm._look_at_certificates = lambda alarm, _: _certificates(alarm, world)  # type: ignore[method-assign]
        alerts.transport_for = lambda *_: _Way(world)  # type: ignore[assignment, return-value]
        alerts.shutil.disk_usage = lambda _: _Disk(world)  # type: ignore[assignment, return-value]
        try:
            return _played(bench, world, rng)
        finally:
            alerts.transport_for, alerts.shutil.disk_usage = before  # type: ignore[assignment]
            Alarm._look_at_certificates = looked  # type: ignore[method-assign]


class _Way:
    def __init__(self, world: World) -> None:
        self._world = world

    def deliver(self, mail: Any, key: str) -> Outcome:
        self._world.mails.append((self._world.now, mail.to_address, mail.data.decode()))
        return Outcome("accepted")

    def close(self) -> None: ...


class _Disk:
    def __init__(self, world: World) -> None:
        self.total, self.free = 100e9, 1e9 if "disk" in world.on else 50e9


def _played(bench: Any, world: World, rng: random.Random) -> tuple[int, int, list[str]]:
    """Twenty-four hours, a look at a time."""
    alarms = [Alarm(bench.services.installation, bench.home) for _ in range(2)]
    spans: dict[str, list[list[dt.datetime]]] = defaultdict(list)
    """For each kind when it was there, spans that are less than AWAY apart as one."""
    end = world.now + dt.timedelta(days=1)
    _show(bench, world)
    while world.now < end:
        for kind in KINDS:
            if rng.random() < (1 / 60 if kind in world.on else 1 / 400):
                if kind in world.on:
                    del world.on[kind]
                    spans[kind][-1][1] = world.now
                    world.gone[kind] = world.now
                else:
                    world.on[kind] = world.now
                    spans[kind].append([world.now, end])
        _show(bench, world)
        world.now += dt.timedelta(seconds=EVERY + rng.random() * 3)
        rng.choice(alarms).look()
    return _judged(bench, spans, end)


def _begin(bench: Any) -> None:
    """Orders that are planned, of which the troubles of the store’s own are made."""
    for number in range(3):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d{number}")
    bench.plan()
    with bench.database.writing() as session:
        ids, now = bench.services.setups.get(bench.store_id).source_ids, bench.clock.now()
        session.add(FetchRow(source_id=ids["stall"], due_at=now + dt.timedelta(days=9)))
        word = {"source_id": ids["shop"], "part": "status", "first_seen": now - dt.timedelta(days=9)}
        session.add(StatusWordRow(word="shipped", **word))
        known = update(StatusWordRow).values(first_seen=now - dt.timedelta(days=9))
        session.execute(known)  # what these orders' own status is called is no news
        session.connection().exec_driver_sql("DELETE FROM shape")


def _certificates(alarm: Alarm, world: World) -> None:
    alarm._certificates = {"mail.example": 3 if "certificate" in world.on else 80}


def _show(bench: Any, world: World) -> None:
    """Makes the world as it is drawn."""
    live = bench.services.setups.get(bench.store_id)
    id_, shop = live.gateway_ids["mailroom"], live.source_ids["shop"]
    alive = world.now if "worker_missing" not in world.on else world.on["worker_missing"] - dt.timedelta(seconds=20)
    trouble = "The port of returned mail is taken." if "returns_silent" in world.on else ""
    with bench.database.writing() as session:
        for kind in KINDS:
            is_on = kind in world.on
            if world.shown.get(kind) != is_on and kind in _CAUSES:
                world.shown[kind] = is_on
                _CAUSES[kind](session, world.now, id_, shop, is_on)
        if "gateway_refuses" in world.on:  # what is tried goes on being refused
            session.execute(update(AttemptRow).where(col(AttemptRow.number) > 100).values(ended_at=world.now))
        for kind, name in _NIGHTS.items():
            if kind in world.on:  # it is tried again, and fails again
                nights.failed(session.connection(), name, world.now, "no space left")
        if "held" in world.on:  # of the last day
            session.execute(update(SendRow).where(col(SendRow.state) == "held").values(created_at=world.now))
        session.merge(HeartbeatRow(worker="a", at=alive, role="plan send"))
        session.merge(HeartbeatRow(worker="b", at=world.now, role="", trouble=trouble))
        session.merge(GatewayUseRow(gateway_id=id_, balance=0 if "credit" in world.on else 10**9))


def _unreachable(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    gateway_health.save(session.connection(), {gateway: Health(5, now, now, "no answer") if on else Health()})


def _refuses(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    send = session.query(SendRow).order_by(SendRow.id).first()
    session.execute(delete(AttemptRow).where(col(AttemptRow.number) > 100))
    for number in range(101, 115) if on else ():
        session.add(AttemptRow(send_id=send.id, number=number, began_at=now, ended_at=now, outcome="permanent"))


def _backlog(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    values = {"planned_at": None, "received_at": now - dt.timedelta(minutes=6)} if on else {"planned_at": now}
    session.execute(update(EventRow).where(col(EventRow.id) == _event(session, 0)).values(**values))


def _not_processed(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    values = {"problem": "It broke." if on else "", "received_at": now}
    session.execute(update(EventRow).where(col(EventRow.id) == _event(session, 1)).values(**values))


def _held(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    last = session.query(SendRow).order_by(col(SendRow.id).desc()).first()
    last.state, last.reason = ("held", "The total is missing.") if on else ("sent", "")


def _hanging(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    inquiries.save_health(session.connection(), {ORIGIN: Health(5, now, now, "no answer in 5 s") if on else Health()})


def _not_fetched(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    session.execute(update(FetchRow).values(problem="403 Forbidden" if on else ""))


def _drifted(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    shape, without = Shape(), {k: v for k, v in made.order().items() if k != "total"}
    for _ in range(60):
        shape.learn(made.order(), now)
    for _ in range(40 if on else 0):
        shape.learn(without, now)
    shapes.save(session.connection(), {(shop, "placed"): shape})


def _new_status(session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    session.execute(delete(StatusWordRow).where(col(StatusWordRow.word) == "lost at sea"))
    if on:
        session.add(StatusWordRow(source_id=shop, part="status", word="lost at sea", first_seen=now))


_NIGHTS = {"export_failing": nights.EXPORT, "archive_failing": nights.ARCHIVE}


def _not_written(name: str, session: Session, now: dt.datetime, gateway: int, shop: int, on: bool) -> None:
    nights.take(session.connection(), name, str(now.date()), now, now)
    if on:
        nights.failed(session.connection(), name, now, "no space left")
    else:
        nights.done(session.connection(), name, "")


def _event(session: Session, place: int) -> str:
    return str(session.query(EventRow.id).order_by(EventRow.id).offset(place).limit(1).scalar())


_CAUSES: dict[str, Callable[[Session, dt.datetime, int, int, bool], None]] = {
    "gateway_unreachable": _unreachable,
    "gateway_refuses": _refuses,
    "backlog": _backlog,
    "not_processed": _not_processed,
    "held": _held,
    "handler_failing": _hanging,
    "orders_missing": _not_fetched,
    "drift": _drifted,
    "new_status": _new_status,
    **{kind: partial(_not_written, name) for kind, name in _NIGHTS.items()},
}
"""What makes a trouble, and takes it away; of a moment, a gateway and a source. The others are made at each look."""


def _judged(bench: Any, spans: dict[str, list[list[dt.datetime]]], end: dt.datetime) -> tuple[int, int, list[str]]:
    wrong, begun, over = [], 0, 0
    with bench.database.reading() as session:
        rows = session.query(AlertRow).filter(AlertRow.told_at.is_not(None)).order_by(AlertRow.began_at).all()
    for kind in KINDS:
        mine = [row for row in rows if row.kind == kind]
        merged: list[list[dt.datetime]] = []
        for since, until in spans[kind]:
            if merged and since - merged[-1][1] < AWAY - dt.timedelta(seconds=2 * EVERY):
                merged[-1][1] = until
            else:
                merged.append([since, until])
        for since, until in merged:
            if (until - since).total_seconds() < LASTED or (end - since).total_seconds() < LASTED:
                continue
            found = [row for row in mine if since - dt.timedelta(seconds=30) <= row.began_at <= until]
            if len(found) != 1 and not _close(since, spans[kind]):
                wrong.append(f"{kind} from {since:%H:%M:%S} to {until:%H:%M:%S} was told {len(found)} times")
            late = [row for row in found[:1] if row.told_at - since > dt.timedelta(seconds=60)]
            if late and kind in URGENT and not _close(since, spans[kind]):
                wrong.append(f"{kind} was told after {(late[0].told_at - since).total_seconds():.0f} s")
            if found and end - until > AWAY + dt.timedelta(minutes=2) and not _close(until, spans[kind]):
                if found[0].over_told_at is None:
                    wrong.append(f"{kind} that was over at {until:%H:%M:%S} was not told as over")
                over += found[0].over_told_at is not None
            begun += len(found)
    return begun, over, wrong


def _close(moment: dt.datetime, spans: list[list[dt.datetime]]) -> bool:
    """Whether another span begins or ends so near that either answer is right."""
    near = dt.timedelta(seconds=AWAY.total_seconds() + 3 * EVERY)
    others = [one for span in spans for one in span if one != moment]
    return any(abs((one - moment).total_seconds()) < near.total_seconds() for one in others)
