"""`kill -9` of web, planner and sender while decisions wait for look-ups and handlers, and calls go to another system,
on both databases: each order is told once by each route, with what was looked up for it, and nothing waits for ever.
"""

from __future__ import annotations

import itertools
import json
import random
import tempfile
import threading
import time
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar
from urllib.parse import parse_qs, urlsplit

from angelon.core.specs import Bundle, Gateway, Message, Route, Source, Variable
from angelon.db.tables import RouteRow
from cluster.postgresql import temporary
from proof.places import Place, place
from tests import made

HANDLER = """
from angelon.handlers import on

@on("order.created")
def asks(event, outbox):
    outbox.send("by-handler")
"""
MESSAGES = ("received", "with-stock", "by-handler", "to-system")
"""Of which each order gets one."""


class _System(BaseHTTPRequestHandler):
    """Another party: says what is in stock, late and not always; and takes calls, once by idempotency key."""

    rng = random.Random(7)
    calls: ClassVar[Counter[str]] = Counter()
    keys: ClassVar[set[str]] = set()
    lock = threading.Lock()

    def do_GET(self) -> None:
        asked = parse_qs(urlsplit(self.path).query).get("n", [""])[0]
        time.sleep(self.rng.uniform(0, 0.3))
        self._answer(500 if self.rng.random() < 0.1 else 200, {"left": f"stock of {asked}"})

    def do_POST(self) -> None:
        body = json.loads(self.rfile.read(int(self.headers.get("Content-Length") or 0)))
        key = self.headers.get("Idempotency-Key", "")
        with self.lock:
            if key not in self.keys:
                self.calls[body["order"]] += 1
            self.keys.add(key)
        self._answer(200, {"ok": True})

    def _answer(self, status: int, what: object) -> None:
        data = json.dumps(what).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, *_: object) -> None: ...


def _asking(bundle: Bundle, port: int) -> Bundle:
    """The set-up with a look-up, a call and what a handler sends."""
    at = f"http://127.0.0.1:{port}"
    retry = {"base_seconds": 0.2, "cap_seconds": 1.0}
    source = bundle.sources[0].model_dump(mode="json")
    source["enrichments"] = [
        {"name": "stock", "url": f"{at}/stock", "parameters": {"n": "$.reference"}, "retry": retry}
    ]
    source["recipes"] |= {"stock": {"path": "$['+stock'].left"}}
    call = {"key": "system", "name": "System", "kind": "call", "call": {"url": at}, "retry": retry}
    text = {"method": "POST", "path": "/orders", "body": '{"order": {{ order.number | json }}}'}
    told = made.message(key="with-stock", name="With stock").model_dump(mode="json")
    for language in told["email"].values():
        language["blocks"] = [{"kind": "text", "text": "{{ stock }}"}]
    again = {"even_if_notified": True}
    routes = [
        made.route(guards=again),
        made.route(key="with-stock", name="With stock", send="with-stock", guards=again),
        made.route(key="to-system", name="To the system", send="to-system", channel="call", gateway="system"),
    ]
    own = {
        "store": bundle.store.model_copy(update={"private_hosts": ["127.0.0.1"]}),
        "sources": [Source.model_validate(source)],
        "variables": [*bundle.variables, Variable(name="stock")],
        "gateways": [*bundle.gateways, Gateway.model_validate(call)],
        "messages": [
            *bundle.messages,
            Message.model_validate(told),
            made.message(key="by-handler", name="By handler"),
            Message.model_validate({"key": "to-system", "name": "To the system", "call": {"en": text}}),
        ],
        "routes": [Route.model_validate(one.model_dump()) for one in routes],
        "live": ["received", "with-stock", "to-system"],
    }
    return bundle.model_copy(update=own)


def run(rounds: int = 60) -> tuple[dict[str, int], list[str]]:
    counts: dict[str, int] = {}
    broken: list[str] = []
    own = Path(tempfile.mkdtemp(prefix="angelon-postgresql-"))
    with tempfile.TemporaryDirectory() as folder, temporary(own, durable=True) as server:
        for name, url in (("SQLite", ""), ("PostgreSQL", server.create("asked"))):
            home = Path(folder) / name
            home.mkdir()
            found, wrong = _on(home, url, rounds)
            counts |= {f"{what} on {name}": number for what, number in found.items()}
            broken += [f"{name}: {one}" for one in wrong]
    return counts, broken


def _on(folder: Path, url: str, rounds: int) -> tuple[dict[str, int], list[str]]:
    rng, accepted, broken = random.Random(17), set[int](), []
    system = ThreadingHTTPServer(("127.0.0.1", 0), _System)
    threading.Thread(target=system.serve_forever, daemon=True).start()
    _System.calls, _System.keys = Counter(), set()
    stop = threading.Event()
    with place(folder, url=url, change=lambda bundle: _asking(bundle, system.server_port)) as here:
        (folder / "own").mkdir()
        (folder / "own" / "shop.py").write_text(HANDLER)
        here.environment["ANGELON_HANDLERS"] = str(folder / "own")
        for name in ("stand-ins", "planner", "sender", "web"):
            here.start(name)
        assert here.up()
        if not _switch_on(here):
            return {}, ["the handler was not found"]
        posting = threading.Thread(target=here.keep_posting, args=(stop, itertools.count(1), accepted, 0.1))
        posting.start()
        broken += here.kill_again_and_again(rounds, rng, 0.3, 1.2)
        stop.set()
        posting.join()
        if not here.settled(300):
            waiting = "SELECT state, problem, count(*) FROM inquiry GROUP BY 1, 2"
            broken.append(f"not all was settled: {here.rows(waiting)}")
        broken += _compare(here, accepted)
        counts = {"kills": rounds, "acknowledged": len(accepted), "calls": sum(_System.calls.values())}
    system.shutdown()
    return counts, broken


def _switch_on(here: Place) -> bool:
    """Switches on what the planner has found in the folder."""
    from angelon.db.setup import specs
    from angelon.engine.clock import utc_now
    from proof.places import until

    if not until(lambda: here.rows("SELECT 1 FROM route WHERE key = 'handler-asks'") != [], 30):
        return False
    with here.database.writing() as session:
        (store,) = specs.stores(session)
        assert store.id is not None
        row = specs.by_key(session, RouteRow, store.id, "handler-asks")
        assert row is not None
        specs.publish(session, row, utc_now())
        specs.switch(session, row, True, utc_now())
        specs.touch(session, store.id)
    time.sleep(3)  # processes look at what is live each second
    return True


def _compare(here: Place, accepted: set[int]) -> list[str]:
    broken = []
    orders = {number: id_ for id_, number in here.rows('SELECT id, number FROM "order"')}
    wanted = {f"BK-{number}" for number in accepted}
    if wanted - set(orders):
        broken.append(f"{len(wanted - set(orders))} acknowledged orders are lost")
    told = Counter(
        here.rows(
            'SELECT o.number, m.key FROM send s JOIN "order" o ON o.id = s.order_id JOIN message m '
            "ON m.id = s.message_id WHERE s.state != 'skipped'"
        )
    )
    right = Counter((number, message) for number in orders for message in MESSAGES)
    if told != right:
        many, missing = list((told - right).items())[:4], list((right - told).items())[:4]
        broken.append(f"not each once: {many} too many, {missing} missing")
    values = here.rows(
        'SELECT o.number, s."values" FROM send s JOIN "order" o ON o.id = s.order_id JOIN message m '
        "ON m.id = s.message_id WHERE m.key = 'with-stock'"
    )
    other = [number for number, said in values if json.loads(said).get("stock") != f"stock of {number}"]
    if other:
        broken.append(f"{len(other)} were told what was looked up for others: {other[:4]}")
    twice = {number: times for number, times in _System.calls.items() if times > 1}
    if twice or set(_System.calls) != set(orders):
        broken.append(f"{len(orders)} orders came to calls for {len(_System.calls)}, several for {list(twice)[:4]}")
    return broken
