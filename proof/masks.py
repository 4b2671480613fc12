"""The demo, looked at by whoever may only look: every page that leads to another, and no customer's address on any."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from sqlmodel import select

from angelon.cli.serving import free_port
from angelon.db.database import Database
from angelon.db.tables import OrderRow, SendRow
from angelon.demo import load
from angelon.settings import Settings
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from tests.crawl import addresses, crawl, told

EACH = 4
"""Addresses that differ by a number or a query alone, of which each is looked at."""


def run(each: int = EACH) -> tuple[dict[str, int], list[str]]:
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(home=Path(folder), secret_key="a-key-for-proofs-only", database_url="", demo=True)
        database = Database(settings.url)
        database.migrate()
        load.prepare(database, settings, 8080, free_port)
        with database.reading() as session:
            keys = {row.recipient for row in session.exec(select(SendRow)) if row.channel != "call"}
            for row in session.exec(select(OrderRow)):
                keys |= {str((row.read or {}).get(part) or "") for part in ("email", "phone")}
        marks = sorted(key for key in keys if len(key) > 6)
        app = create_app(services.make(settings, database), [standins])
        app.extensions["angelon.standins"] = Box(settings.home)
        app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
        broken, seen, telling = [], 0, 0
        owner, viewer = app.test_client(), app.test_client()
        viewer.post("/sign-in/demo", data={"role": "viewer"})
        known = []
        for address, answer in crawl(owner, ["/", *addresses(owner)], each):
            if not re.match("/[pawfdi]/", address):  # who has a customer's link is taken for the customer
                known.append(address)
            telling += bool(told(answer.data, marks))
        for address, answer in crawl(viewer, ["/", *known], each):
            seen += answer.status_code == 200
            broken += [f"{address} tells {mark[:3]}…" for mark in told(answer.data, marks)]
        database.close()
    if not telling:
        broken.append("an owner sees no address either: nothing was proved")
    return {"addresses": len(known), "that tell an owner": telling, "seen by who may only look": seen}, broken
