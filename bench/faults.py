"""What a fault costs its neighbours."""

from __future__ import annotations

import datetime as dt
import socket
import tempfile
import threading
import time

from angelon.cli.serving import free_port
from angelon.core.specs import Gateway, Message, Route
from angelon.db.access.secrets import Vault
from angelon.db.log import events
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, MessageRow, RouteRow
from angelon.engine.clock import utc_now
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from angelon.standins.box import Box
from bench.moving import KEY, Home, _Later, _smtp, arrived, process, wait_for
from bench.rows import Row, in_turn, median
from tests import made

BACKLOG = 120


class Hanging:
    """A provider that takes connections and never answers."""

    def __init__(self) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0), backlog=200)
        self.port = self._socket.getsockname()[1]
        self.taken: list[socket.socket] = []
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        while True:
            try:
                self.taken.append(self._socket.accept()[0])
            except OSError:
                return

    def close(self) -> None:
        self._socket.close()
        for taken in self.taken:
            taken.close()


def _with_sms(home: Home, port: int) -> None:
    """A second route, by SMS through the provider at a port, for orders that change."""
    now = utc_now()
    with home.database.writing() as session:
        store_id = specs.stores(session)[0].id or 0
        gateway = Gateway.model_validate(made.provider("sms", port) | {"timeout_seconds": 30})
        row = specs.save_live(session, GatewayRow, store_id, gateway, now)
        Vault(KEY).put(session, "gateway", row.id, "token", now)
        message = Message.model_validate({"key": "moved", "name": "Moved", "sms": {"en": {"text": "It moved."}}})
        route = Route.model_validate(
            {
                "key": "moved",
                "name": "Moved",
                "when": ["order.updated"],
                "sources": ["shop"],
                "send": "moved",
                "channel": "sms",
                "gateway": "sms",
                "to": [{"kind": "address", "who": "+493023125014"}],
            }
        )
        specs.publish(session, specs.save_draft(session, MessageRow, store_id, message, now), now)
        made_route = specs.save_draft(session, RouteRow, store_id, route, now)
        specs.publish(session, made_route, now)
        specs.switch(session, made_route, True, now - dt.timedelta(days=1))


def _rate(home: Home, box: Box, first: int, number: int, backlog: int) -> float:
    """Mails a second from due to accepted, where so many SMS are due at the same moment."""
    due = utc_now() + dt.timedelta(seconds=8)
    planner = Planner(home.database, Setups(home.database), _Later(due))
    rows = arrived(home, list(range(first, first + number)))
    moved = arrived(home, list(range(first + 1_000_000, first + 1_000_000 + backlog)), **{"store-event": "changed"})
    with home.database.connection() as connection:  # stored and planned in one, so that the worker meets them planned
        events.add(connection, rows + moved)
        while planner._plan(connection, events.unplanned(connection, 500))[0]:
            pass
    assert utc_now() < due, "they were due before they were planned"
    target = box.count_mails() + number
    time.sleep(max(0.0, (due - utc_now()).total_seconds()))
    wait_for(lambda: box.count_mails() >= target, every=0.1)
    return number / (box.mails(1)[0].received_at - due).total_seconds()


def beside(rounds: int = 5, number: int = 600) -> list[Row]:
    """Mails a second beside a provider that hangs with a backlog, against mails alone; the same worker's code, two data
    folders.
    """
    hanging = Hanging()
    with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
        ports = free_port(), free_port()
        homes = Home(one, ports[0]), Home(two, ports[1])
        boxes = Box(homes[0].path), Box(homes[1].path)
        _with_sms(homes[1], hanging.port)
        serial = iter(range(1, 10_000_000, number))
        with (
            process(
                "-m",
                "angelon",
                "standins",
                "--mail-port",
                str(ports[0]),
                "--provider-port",
                str(free_port()),
                env=homes[0].environment(),
            ),
            process(
                "-m",
                "angelon",
                "standins",
                "--mail-port",
                str(ports[1]),
                "--provider-port",
                str(free_port()),
                env=homes[1].environment(),
            ),
        ):
            wait_for(lambda: _smtp(ports[0]) and _smtp(ports[1]))

            def run(which: int, backlog: int) -> float:
                with process("-m", "angelon", "worker", env=homes[which].environment()):
                    return _rate(homes[which], boxes[which], next(serial), number, backlog)

            def alone() -> float:
                return run(0, 0)

            def together() -> float:
                with homes[1].database.connection() as connection:
                    connection.exec_driver_sql("UPDATE send SET state = 'cancelled' WHERE channel = 'sms'")
                    connection.exec_driver_sql("DELETE FROM gateway_health")
                return run(1, BACKLOG)

            in_turn(1, alone, together)
            a, b = in_turn(rounds, alone, together)
    held = len(hanging.taken)
    hanging.close()
    return [
        Row(
            "mails beside a provider that hangs, against mails alone",
            median(b) / median(a),
            "ratio",
            ">= 0.9",
            {"alone/s": median(a), "beside/s": median(b), "connections held": held},
        )
    ]
