"""Every page at ten thousand and at a million sends: median and 95th percentile at the server, and how large it is.

Both are the demo, copied (`angelon.demo.growing`); the large one takes some minutes and 8 GB below the temporary
folder, or stands ready in the folder that ANGELON_BENCH_LARGE names.
"""

from __future__ import annotations

import os
import shutil
import tempfile
import time
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.demo.filling import fill
from angelon.demo.growing import grow
from angelon.engine.followers import indexing
from angelon.settings import Settings
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from bench.rows import Row, median

FEW, MANY = 10_000, 1_000_000
TIMES = 15
PAGES = (
    *("/", "/?span=today", "/orders", "/orders/{order}", "/orders?words={number}", "/orders?words=anais"),
    *("/sends", "/sends?span=all", "/sends?state=held&state=failed&span=all", "/sends?words=anais&span=all"),
    *("/sends/{send}", "/sends?person={person}&span=all", "/people/{person}", "/find?words={number}"),
    *("/find?words=anais", "/sources", "/sources/webshop/connect", "/sources/webshop/capture"),
    *("/sources/webshop/read", "/sources/webshop/ask", "/messages", "/messages/order-received"),
    *("/messages/order-received/revisions", "/letterhead", "/files", "/routes", "/routes/order-received"),
    *("/segments", "/handlers", "/gateways", "/gateways/mailroom", "/senders", "/suppressions", "/rehearsals"),
    *("/checks", "/runs/new", "/events", "/changes", "/settings", "/settings/rules", "/standins"),
)


def sizes() -> list[Row]:
    """Each page's median, 95th percentile and size."""
    with tempfile.TemporaryDirectory() as folder:
        few = _measured(_made(Path(folder) / "few", FEW))
        ready = os.environ.get("ANGELON_BENCH_LARGE")
        many = _measured(Path(ready) if ready else _made(Path(folder) / "many", MANY))
    worst = max(many, key=lambda page: many[page][1])
    grown = {page: many[page][0] / max(few[page][0], 20.0) for page in few}
    steepest = max(grown, key=lambda page: grown[page])
    largest = max(many, key=lambda page: many[page][2])
    return [
        Row("the slowest page's p95 at a million sends", many[worst][1], "ms", "<= 150", {"page": worst}),
        Row(
            "the median that grew most from 10,000 to 1,000,000 sends (20 ms at least)",
            grown[steepest],
            "ratio",
            "<= 1.5",
            {"page": steepest, "ms": many[steepest][0], "ms at 10,000": few[steepest][0]},
        ),
        Row("the largest page, compressed", many[largest][2], "KB", "<= 100", {"page": largest}),
        *(
            Row(
                f"page {page}",
                many[page][0],
                "ms",
                "",
                {"p95": many[page][1], "ms at 10,000": few[page][0], "p95 at 10,000": few[page][1]},
            )
            for page in few
        ),
    ]


def grown(home: Path, sends: int) -> tuple[Settings, Database]:
    """The demo in a folder that is made, grown by so many sends; its settings and its database, which is open."""
    home.mkdir(mode=0o700)
    settings = Settings(home=home)
    database = Database(settings.url)
    database.migrate()
    box = Box(home)
    fill(database, settings, Vault(settings.key()), box)
    box.engine.dispose()
    grow(database, sends)
    return settings, database


def _made(home: Path, sends: int) -> Path:
    _, database = grown(home, sends)
    indexing.follow(database, longest=3600)
    database.close()
    shutil.rmtree(home / "standins", ignore_errors=True)
    return home


@contextmanager
def _client(home: Path) -> Iterator[tuple[Any, Database]]:
    settings = Settings(home=home)
    database = Database(settings.url)
    made = services.make(settings, database)
    app = create_app(made, [standins])
    app.extensions["angelon.standins"] = Box(home)
    app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
    yield app.test_client(), database
    made.writer.close()
    database.close()


def _measured(home: Path) -> dict[str, tuple[float, float, float]]:
    """Each page's median and 95th percentile in ms, and its compressed size in KB."""
    found = {}
    with _client(home) as (client, database):
        with database.engine.connect() as connection:
            one = connection.exec_driver_sql(
                'SELECT id, number, contact_id FROM "order" ORDER BY id DESC LIMIT 1'
            ).one()
            send = connection.exec_driver_sql("SELECT id FROM send ORDER BY created_at DESC LIMIT 1").scalar()
        known = {"order": one[0], "number": one[1], "person": one[2], "send": send}
        for page in PAGES:
            address = page.format(**known)
            answer = client.get(address)
            assert answer.status_code == 200, address
            took = []
            for _ in range(TIMES):
                began = time.perf_counter()
                client.get(address)
                took.append((time.perf_counter() - began) * 1000)
            found[page] = (median(took), sorted(took)[int(len(took) * 0.95)], len(zlib.compress(answer.data)) / 1024)
    return found
