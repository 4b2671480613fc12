"""Twenty thousand mutated payloads, over five time zones: every one is planned, and so is what stands behind it."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import random
import tempfile
from pathlib import Path

from angelon.db.database import Database
from angelon.db.setup import bundles, specs
from angelon.engine.clock import Clock
from angelon.engine.planner import Planner
from angelon.settings import Settings
from angelon.web import services
from tests import made, poison
from tests.engine.test_poison import ZONES, poisoned


@dataclasses.dataclass
class _Bench:
    """As much of the tests' bench as `poisoned` needs."""

    services: services.Services
    database: Database
    clock: Clock
    store_id: int


def run(number: int = 20_000) -> tuple[dict[str, int], list[str]]:
    rng = random.Random(20)
    planned = refused = 0
    broken: list[str] = []
    for zone in ZONES:
        with tempfile.TemporaryDirectory() as folder:
            chosen = Settings(home=Path(folder), secret_key="a-key-for-proofs-only")
            database = Database(chosen.url)
            database.migrate()
            clock = Clock()
            serving = services.make(chosen, database, clock)
            with database.writing() as session:
                bundles.apply(
                    session,
                    made.bundle(),
                    clock.now() - dt.timedelta(days=1),
                )
                store_id = specs.stores(session)[0].id or 0
            poisoned(_Bench(serving, database, clock, store_id), zone)
            planner = Planner(database, serving.setups, clock)
            for start in range(0, number // len(ZONES), 200):
                for n in range(start, start + 200):
                    body = json.dumps(poison.mutated(rng, made.order(id=n))).encode()
                    answer = serving.intake.receive(
                        "shop",
                        "POST",
                        {"content-type": "application/json", "store-event": "placed", "store-delivery": f"m{n}"},
                        body,
                        len(body),
                        {},
                        "127.0.0.1",
                    )
                    refused += answer.status == 400
                    if answer.status not in (202, 400):
                        broken.append(f"answered {answer.status}: {body[:200]!r}")
                while planner.run_batch()[0]:
                    pass
            with database.engine.connect() as connection:
                planned += (
                    connection.exec_driver_sql(
                        "SELECT count(*) FROM event WHERE planned_at IS NOT NULL AND problem = '' AND parent_id IS NULL"
                    ).scalar()
                    or 0
                )
                for event_id, problem in connection.exec_driver_sql(
                    "SELECT id, problem FROM event WHERE planned_at IS NULL OR problem != '' LIMIT 5"
                ):
                    broken.append(f"{zone} {event_id}: {problem or 'not planned'}")
            serving.writer.close()
            database.close()
    return {
        "payloads": number,
        "planned": planned,
        "refused with 400": refused,
        "not planned": number - planned - refused,
    }, broken
