"""What a page asks of the database, and how long it takes, in a store of 5 routes and in one of 40."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from angelon.db.database import Database
from angelon.settings import Settings
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from bench.rows import Row, median
from tests import grown

ROUTES = (5, 40)
TIMES = 7


def pages() -> list[Row]:
    """Statements may differ by two at the most; times are told, and have no aim of their own."""
    few, many = (_measured(number) for number in ROUTES)
    more = {page: many[page][0] - few[page][0] for page in few}
    worst = max(more, key=lambda page: more[page])
    slowest = max(many, key=lambda page: many[page][1])
    rows = [
        Row(
            "statements that a page needs more at 40 routes than at 5",
            more[worst],
            "",
            "<= 2.0",
            {"page": worst, "most of any page": max(count for count, _ in many.values())},
        ),
        Row(
            "the slowest page at 40 routes against the same at 5",
            many[slowest][1] / few[slowest][1],
            "ratio",
            "",
            {"page": slowest, "ms": many[slowest][1]},
        ),
    ]
    return rows + [
        Row(
            f"page {page}",
            many[page][1],
            "ms",
            "",
            {"ms at 5": few[page][1], "statements": many[page][0], "at 5": few[page][0]},
        )
        for page in few
    ]


def _measured(routes: int) -> dict[str, tuple[int, float]]:
    """Each page's statements and time in ms."""
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(home=Path(folder), secret_key="a-key-for-benchmarks-only")
        database = Database(settings.url)
        database.migrate()
        made = services.make(settings, database)
        grown.grow(made, routes, routes)
        app = create_app(made, [standins])
        app.extensions["angelon.standins"] = Box(settings.home)
        app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
        client = app.test_client()
        found = {}
        for page in grown.PAGES:
            address = page.format(send=grown.first_send(made))
            client.get(address)
            with grown.statements(database.engine) as seen:
                answer = client.get(address)
            assert answer.status_code == 200, address
            took = []
            for _ in range(TIMES):
                began = time.perf_counter()
                client.get(address)
                took.append((time.perf_counter() - began) * 1000)
            found[page] = (len(seen), median(took))
        made.writer.close()
        database.close()
    return found
