"""Who holds the only writer, and for how long: every kind of write that there is, over 150,000 events."""

from __future__ import annotations

import datetime as dt
import logging
import tempfile
from pathlib import Path

import structlog

from angelon.engine.feedback.receipts import match_early
from angelon.engine.followers import indexing
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import accounts, checks, mappings, messages, routes, suppressions
from angelon.engine.operations import store as store_operations
from angelon.engine.operations.guessing import Browser
from angelon.engine.planner import Planner
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.engine.sending.fallbacks import Fallbacks
from angelon.engine.unit import MACHINE, unit
from angelon.gateways.interface import Outcome
from angelon.web import services
from bench.rows import Row
from bench.sizes import grown
from tests import made

SENDS, LISTED = 60_000, 100_000


class _Taken:
    def deliver(self, mail: object, key: str) -> Outcome:
        return Outcome("accepted", "250", "taken")

    def close(self) -> None: ...


def writer() -> list[Row]:
    """The longest holds of the turn, commits included."""
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "home"
        chosen, database = grown(home, SENDS)
        database.close()
        (home / "angelon.db-turn").unlink()  # making it is no part of this
        here = services.make(chosen)
        _everything(here)
        held = here.database.held()
        here.writer.close()
        here.database.close()
    longest = held[0]
    return [
        Row(
            "the longest write, its commit included", longest.longest * 1000, "ms", "<= 250", {"whose": longest.purpose}
        ),
        *(
            Row(f"writes: {one.purpose}", one.longest * 1000, "ms", "", {"holds": one.holds, "s in all": one.seconds})
            for one in held[:25]
        ),
    ]


def _everything(here: services.Services) -> None:
    installation, clock = here.installation, here.clock
    store_id = installation.setups.ids()[0]

    def do(work_of: object) -> None:
        with unit(installation, store_id, MACHINE) as work:
            work_of(work)  # type: ignore[operator]

    accounts.make_first(installation, "o@example.org", "O", "three green lanterns", Browser("1", "b"))
    for password in ("wrong", "three green lanterns"):
        accounts.try_to_sign_in(installation, "o@example.org", password, Browser("1", "b"))
    do(lambda work: store_operations.change(work, {"timezone": "Asia/Kathmandu"}))
    do(lambda work: routes.change_draft(work, "order-received", {"name": "Another name"}))
    do(lambda work: routes.publish_and_switch_on(work, "order-received", override=True))
    do(lambda work: messages.publish(work, "order-received", [], override=True))
    do(lambda work: checks.run_all(work))
    do(lambda work: mappings.discard(work, "webshop"))
    listed = [(f"b{number}@bulk.example", "bulk", "") for number in range(LISTED)]
    suppressions.add_list(installation, store_id, MACHINE, listed, "import")
    planner = Planner(here.database, installation.setups, clock)
    for number in range(2_000):
        body = made.body(id=9_000_000 + number, reference=f"BX-{number}")
        here.intake.accept("webshop", {"content-type": "application/json"}, body, "order.placed", f"x-{number}")
    while planner.run_batch()[0]:
        pass
    Fallbacks(here.database, installation.setups, clock).run_due()
    dispatcher = Dispatcher(
        "bench-0", here.database, installation.setups, installation.vault, clock, lambda gateway, password: _Taken()
    )
    for _ in range(40):
        dispatcher.run_batch(32)
    match_early(here.database, installation.setups, clock)
    indexing.follow(here.database, longest=20)
    days = {f"{kind}_days": 20 for kind in ("bodies", "contents", "attempts", "traces")}
    do(lambda work: store_operations.change(work, {"keep": days | {"orders_days": 25}}))
    housekeeper = Housekeeper(here.database, installation.setups, clock)
    until = dt.datetime.now(dt.UTC) + dt.timedelta(seconds=60)
    while housekeeper.look() and dt.datetime.now(dt.UTC) < until:
        pass
