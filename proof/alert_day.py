"""Days of trouble, drawn by chance, with a clock that is moved: each that lasts is told once within a minute, and
told as over, to whom it should be.
"""

from __future__ import annotations

import datetime as dt
import random
import tempfile
from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from angelon.core.alerts import AWAY, URGENT
from angelon.core.breaker import Health
from angelon.db.database import Database
from angelon.db.tables import AlertRow, GatewayUseRow, HeartbeatRow
from angelon.db.upkeep import gateway_health
from angelon.engine.followers import alerts
from angelon.engine.followers.alerts import EVERY, Alarm
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from angelon.gateways.interface import Outcome
from tests import made
from tests.conftest import bench_in

KINDS = ("gateway_unreachable", "worker_missing", "disk", "credit", "returns_silent")
LASTED = 75
"""Seconds after which each has to be told, with a look to spare for what is seen late by itself (a worker)."""


@dataclass
class World:
    """What is wrong now, as the model has it, and since when."""

    now: dt.datetime
    on: dict[str, dt.datetime] = field(default_factory=dict)
    gone: dict[str, dt.datetime] = field(default_factory=dict)
    mails: list[tuple[dt.datetime, str, str]] = field(default_factory=list)


def run(days: int = 3, first: int = 0) -> tuple[dict[str, int], list[str]]:
    broken, told, over = [], 0, 0
    for number in range(first, first + days):
        with tempfile.TemporaryDirectory() as folder:
            begun, ended, wrong = _day(Path(folder), random.Random(number))
            told, over = told + begun, over + ended
            broken += [f"day {number}: {one}" for one in wrong]
    return {"days": days, "told": told, "told as over": over}, broken


def _day(folder: Path, rng: random.Random) -> tuple[int, int, list[str]]:
    database = Database(f"sqlite:///{folder / 'new.db'}")
    database.migrate()
    database.close()
    with bench_in(folder / "home", made.bundle(), folder / "new.db") as bench:
        world = World(bench.clock.now().replace(microsecond=0))
        bench.clock.now = lambda: world.now
        with unit(bench.services.installation, bench.store_id) as work:
            chosen = {"on": True, "emails": ["night@example.org"], "gather_minutes": 0}
            store_operations.change(work, {"alerts": chosen})
        bench.services.setups.forget()
        before = alerts.transport_for, alerts.shutil.disk_usage
        alerts.transport_for = lambda *_: _Way(world)  # type: ignore[assignment, return-value]
        alerts.shutil.disk_usage = lambda _: _Disk(world)  # type: ignore[assignment, return-value]
        try:
            return _played(bench, world, rng)
        finally:
            alerts.transport_for, alerts.shutil.disk_usage = before  # type: ignore[assignment]


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


def _show(bench: Any, world: World) -> None:
    """Makes the world as it is drawn."""
    ids = bench.services.setups.get(bench.store_id).gateway_ids
    id_, unwell = ids["mailroom"], "gateway_unreachable" in world.on
    health = Health(5, world.now, world.now, "no answer") if unwell else Health()
    alive = world.now if "worker_missing" not in world.on else world.on["worker_missing"] - dt.timedelta(seconds=20)
    trouble = "The port of returned mail is taken." if "returns_silent" in world.on else ""
    with bench.database.writing() as session:
        gateway_health.save(session.connection(), {id_: health})
        session.merge(HeartbeatRow(worker="a", at=alive, role="plan send"))
        session.merge(HeartbeatRow(worker="b", at=world.now, role="", trouble=trouble))
        session.merge(GatewayUseRow(gateway_id=id_, balance=0 if "credit" in world.on else 10**9))


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
