"""What parcels cost in a store with 200,000 of them: pages, a number that is typed, a file beside intake."""

from __future__ import annotations

import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from angelon.db.database import Database
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations import parcels as operations
from angelon.engine.unit import Actor
from angelon.settings import Settings
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from bench.rows import Row, median
from tests import grown

PARCELS, LINES, TIMES = 200_000, 50_000, 9
CARRIERS = [
    {"key": "saltway", "name": "Saltway", "forms": [{"shape": "SW########"}], "days": 3, "counts_after": 2},
    {"key": "gannet", "name": "Gannet", "forms": [{"shape": "@@#########@@", "check": "s10"}]},
]


def parcels() -> list[Row]:
    """The slowest of the pages, and a delivery beside a file of 50,000 lines, against one alone."""
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(home=Path(folder), secret_key="a-key-for-benchmarks-only")
        database = Database(settings.url)
        database.migrate()
        made = services.make(settings, database)
        grown.grow(made, 5, 400)
        _fill(database)
        app = create_app(made, [standins])
        app.extensions["angelon.standins"] = Box(settings.home)
        app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
        client = app.test_client()
        with database.reading() as session:
            store_id, order_id = session.connection().exec_driver_sql('SELECT store_id, id FROM "order" LIMIT 1').one()
        follow = f"/f/{Links(made.vault).follow_token(order_id)}"
        pages = ("/parcels", "/parcels?stage=in_transit", "/parcels?trouble=late", f"/orders/{order_id}", follow)
        took = {page: _time(lambda page=page: client.get(page)) for page in (*pages, "/parcels/numbers", "/")}
        serial = iter(range(10**6))
        typed = _time(
            lambda: client.post(f"/parcels/of/{order_id}", data={"number": f"SW{99_000_000 + next(serial):08}"})
        )
        slowest = max(took, key=lambda page: took[page])
        rows = [
            Row("the slowest page with 200,000 parcels", took[slowest], "ms", "<= 150", {"page": slowest} | took),
            Row("a number that is typed, with 200,000 parcels", typed, "ms", "<= 150"),
            _file(made, store_id),
        ]
        made.writer.close()
        database.close()
    return rows


def _fill(database: Database) -> None:
    """Parcels of the last 90 days, most of them delivered, as SQL."""
    with database.connection() as connection:
        run = connection.exec_driver_sql
        run(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) INSERT INTO parcel (store_id,"
            " number, number_key, carrier, told, stage, country, created_at, last_at, picked_at, delivered_at, trouble)"
            " SELECT 1, 'SW' || printf('%08d', i), 'SW' || printf('%08d', i), 'saltway', '[]', CASE WHEN i % 50 = 0"
            " THEN 'in_transit' ELSE 'delivered' END, 'IE', 1760000000000000 + i * 38880000, 1760000000000000 +"
            " i * 38880000, 1760000000000000 + i * 38880000, CASE WHEN i % 50 = 0 THEN NULL ELSE 1760000000000000 +"
            " i * 38880000 + 172800000000 END, CASE WHEN i % 500 = 0 THEN 'late' ELSE '' END FROM n",
            (PARCELS,),
        )
        run(
            'INSERT INTO parcel_line (parcel_id, order_id) SELECT p.id, o.id FROM parcel p JOIN "order" o'
            ' ON o.id = (SELECT min(id) FROM "order") + p.id % ((SELECT count(*) FROM "order") - 20)'
        )
        run("UPDATE store SET spec = json_set(spec, '$.carriers', json(?), '$.pages.follow', json('true'))", (_json(),))
        run("UPDATE store SET version = version + 1")


def _json() -> str:
    import json

    return json.dumps(CARRIERS)


def _time(act: Callable[[], object]) -> float:
    act()
    took = []
    for _ in range(TIMES):
        began = time.perf_counter()
        act()
        took.append((time.perf_counter() - began) * 1000)
    return median(took)


def _file(made: services.Services, store_id: int) -> Row:
    """Other writes beside a file of parcels: how long one waits, p99 against alone."""
    with made.database.reading() as session:
        numbers = [row[0] for row in session.connection().exec_driver_sql('SELECT number FROM "order" LIMIT 400')]
    text = "order,number,status\n" + "".join(
        f"{numbers[n % len(numbers)]},SW{50_000_000 + n:08},in transit\n" for n in range(LINES)
    )

    def write() -> float:
        began = time.perf_counter()
        with made.database.connection() as connection:
            connection.exec_driver_sql("UPDATE store SET edits = edits")
        return (time.perf_counter() - began) * 1000

    alone = sorted(write() for _ in range(200))
    done: list[tuple[int, list[operations.Line]]] = []
    took = time.perf_counter()
    reading = threading.Thread(
        target=lambda: done.append(
            operations.take_file(made.installation, store_id, Actor("bench"), text.encode(), True, True)
        )
    )
    reading.start()
    beside = []
    while reading.is_alive():
        beside.append(write())
        time.sleep(0.01)
    reading.join()
    beside.sort()
    seconds = time.perf_counter() - took
    return Row(
        "a write beside a file of 50,000 parcels, p99",
        beside[int(len(beside) * 0.99) - 1],
        "ms",
        "<= 250",
        {"alone, ms": alone[int(len(alone) * 0.99) - 1], "file, s": seconds, "lines taken": done[0][0]},
    )
