"""Several workers over one PostgreSQL, each with a data folder of its own: killed, and the database killed and cut off.

Nothing is lost, no send is tried by two at once, an order's route sends once, and a gateway's rate is kept by all.
"""

import asyncio
import datetime as dt
import itertools
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter

import pytest

from angelon.core.specs import Bundle
from angelon.db import locks
from angelon.db.derived import searching
from angelon.db.setup import bundles
from angelon.db.tables import GatewayRow
from angelon.engine.followers import indexing
from angelon.engine.operations import store as store_operations
from angelon.engine.planner import Planner, lanes, runs
from angelon.engine.planner.lanes import Lanes
from angelon.engine.unit import unit
from angelon.standins.mailbox import Mailbox
from angelon.web.app import create_app
from cluster.balancer import Balancer
from tests import made
from tests.conftest import bench_in

ORDERS = 60


@pytest.fixture
def bench(tmp_path, bundle, server):
    with bench_in(tmp_path / "home", bundle, tmp_path, server=server) as one:
        yield one


@pytest.fixture
def mailbox(bench):
    box = Mailbox(bench.box)
    box.start()
    bench.change(made.gateway(box.port, timeout_seconds=2, retry={"base_seconds": 0.2, "cap_seconds": 0.4}), GatewayRow)
    yield box
    box.stop()


class Cluster:
    """Worker processes, as on machines of their own."""

    def __init__(self, folder, url):
        self.folder, self.url, self.processes, self._number = folder, url, [], 0

    def start(self, role, times=1):
        for _ in range(times):
            self._number += 1
            home = self.folder / f"machine-{self._number}"
            home.mkdir()
            given = {"ANGELON_HOME": str(home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
            self.processes.append(
                subprocess.Popen(
                    [sys.executable, "-m", "angelon", "worker", "--role", role],
                    env={**os.environ, **given, "ANGELON_DATABASE_URL": self.url},
                    stderr=(home / "log").open("ab"),
                )
            )

    def kill(self, number):
        self.processes[number].send_signal(signal.SIGKILL)
        self.processes[number].wait()

    def end(self):
        for one in self.processes:
            one.terminate()
        for one in self.processes:
            one.wait(30)


@pytest.fixture
def cluster(tmp_path, bench):
    made_cluster = Cluster(tmp_path, bench.settings.url)
    yield made_cluster
    made_cluster.end()


def deliver(bench, numbers):
    for number in numbers:
        buyer = {"name": f"Jo {number}", "email": f"p{number}@example.org", "country": "DE"}
        answer = bench.deliver(
            made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"d-{number}"
        )
        assert answer.status == 202


def until(true, seconds=60):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if true():
            return
        time.sleep(0.05)
    raise AssertionError("it did not happen in time")


def all_sent(bench, number=ORDERS):
    return bench.rows("SELECT count(*) FROM send WHERE state = 'sent'") == [(number,)]


def check_nothing_lost_or_doubled(bench, number=ORDERS):
    assert bench.rows("SELECT count(*), count(DISTINCT order_id) FROM send") == [(number, number)]
    arrived = Counter(mail.rcpt_to for mail in bench.box.mails(10 * number))
    assert set(arrived) == {f"p{n}@example.org" for n in range(number)}
    unknown = {
        to
        for (to,) in bench.rows(
            "SELECT s.recipient FROM attempt a JOIN send s ON s.id = a.send_id WHERE a.outcome = 'unknown'"
        )
    }
    assert {to for to, times in arrived.items() if times > 1} <= unknown
    at_once = """SELECT a.send_id FROM attempt a JOIN attempt b ON b.send_id = a.send_id AND b.id > a.id
        WHERE a.outcome <> 'unknown' AND b.outcome <> 'unknown' AND b.began_at < a.ended_at"""
    assert bench.rows(at_once) == [], "no send is tried by two at once"


def test_two_planners_and_four_senders_send_each_once(bench, mailbox, cluster):
    cluster.start("plan", 2)
    cluster.start("send", 4)
    until(lambda: len(bench.rows("SELECT worker FROM heartbeat")) == 6)
    deliver(bench, range(ORDERS))
    until(lambda: all_sent(bench))
    check_nothing_lost_or_doubled(bench)


def test_killed_workers_lose_nothing(bench, mailbox, cluster):
    deliver(bench, range(ORDERS))
    cluster.start("plan", 2)
    cluster.start("send", 2)
    until(lambda: bench.box.count_mails() >= 5)
    cluster.kill(0)
    cluster.kill(2)
    cluster.start("send", 1)  # one of the same machine takes over what the dead had in hand
    until(lambda: all_sent(bench))
    check_nothing_lost_or_doubled(bench)


def test_a_killed_database_loses_nothing_and_the_workers_go_on_when_it_is_back(bench, server, mailbox, cluster):
    cluster.start("plan", 1)
    cluster.start("send", 2)
    deliver(bench, range(ORDERS // 2))
    until(lambda: bench.box.count_mails() >= 5)
    server.stop(at_once=True)
    app = create_app(bench.services, [])
    assert app.test_client().post("/in/shop", data=made.body(id=900)).status_code == 503, "the shop sends it again"
    server.start()
    deliver(bench, range(ORDERS // 2, ORDERS))
    until(lambda: all_sent(bench))
    check_nothing_lost_or_doubled(bench)
    assert all(one.poll() is None for one in cluster.processes), "none of them has ended"


def test_a_network_that_is_cut_and_comes_back_loses_nothing(bench, server, mailbox, cluster):
    between = Balancer([server.port])
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, daemon=True).start()
    listening = asyncio.run_coroutine_threadsafe(between.serve("127.0.0.1", 0), loop).result()
    port = listening.sockets[0].getsockname()[1]
    cluster.url = cluster.url.replace(str(server.port), str(port))
    cluster.start("plan", 1)
    cluster.start("send", 2)
    deliver(bench, range(ORDERS // 2))
    until(lambda: bench.box.count_mails() >= 3)
    between.cut = True
    time.sleep(3)
    deliver(bench, range(ORDERS // 2, ORDERS))  # the web process is on the other side
    between.cut = False
    until(lambda: all_sent(bench))
    check_nothing_lost_or_doubled(bench)
    cluster.end()
    loop.call_soon_threadsafe(loop.stop)


def test_a_gateway_s_rate_is_kept_by_all_together(bench, mailbox, cluster):
    limited = made.gateway(mailbox.port, timeout_seconds=2, quota={"per_second": 10})
    bench.change(limited, GatewayRow)
    cluster.start("plan", 1)
    cluster.start("send", 4)
    until(lambda: len(bench.rows("SELECT worker FROM heartbeat")) == 5)
    before = bench.clock.now().timestamp() * 1_000_000
    deliver(bench, range(ORDERS))
    until(lambda: all_sent(bench))
    began = sorted(at for (at,) in bench.rows("SELECT began_at FROM attempt"))
    assert len(began) == ORDERS
    for number, at in enumerate(began):  # a busy machine begins later than it may, and never sooner
        assert at - before >= (number - 10 - 2) * 100_000, "a burst, and ten for each second"


def test_a_change_that_is_noted_already_is_not_lost_to_a_follower_that_is_faster(bench):
    """The order is noted, and changed once more in a transaction that is open while the index is brought up to date."""
    deliver(bench, [7])
    planner = Planner(bench.database, bench.services.setups, bench.clock)
    while planner.run_batch()[0]:
        pass  # what was planned is noted, and not in the index yet
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE \"order\" SET number = 'ZW-99'")
        indexing.follow(bench.database)
    indexing.follow(bench.database)
    with bench.database.reading() as session:
        assert searching.refs(session.connection(), "order", bench.store_id, "ZW-99", 9)
        assert not searching.refs(session.connection(), "order", bench.store_id, "BK-7", 9)


def test_two_processes_plan_one_store_in_turn_and_in_the_order_in_which_things_came(bench):
    """Each reads what comes next while the other plans; an order's changes of status stay in their order."""
    statuses = [f"s{number}" for number in range(12)]
    for status in statuses:
        for number in range(10):
            body = made.body(id=number, reference=f"BK-{number}", state=status)
            assert bench.deliver(body, store_event="changed", store_delivery=f"{number}-{status}").status == 202
    planned = [0, 0]

    def plan(which):
        planner, idle = Planner(bench.database, bench.services.setups, bench.clock), 0
        while idle < 20:
            done, _ = planner.run_batch(5)
            planned[which] += done
            idle = 0 if done else idle + 1

    both = [threading.Thread(target=plan, args=(which,)) for which in (0, 1)]
    for one in both:
        one.start()
    for one in both:
        one.join()
    assert all(planned), "they took turns"
    for number in range(10):
        changes = bench.rows(
            'SELECT e.was, e.now FROM event e JOIN "order" o ON o.id = e.order_id WHERE o.reference = ? AND '
            "e.parent_id IS NULL ORDER BY e.received_at, e.id",
            str(number),
        )
        assert changes == [("", ""), *itertools.pairwise(statuses)], "the first met is no news"


def test_four_processes_plan_one_store_s_lanes_side_by_side(bench, monkeypatch):
    """Behind a backlog: an order's events stay in their order, a customer's orders are not told of twice where a route
    sends once a customer, however they are spread, and everybody plans.
    """
    monkeypatch.setattr(runs, "WORTH", 5)
    monkeypatch.setattr(Lanes, "are_of_use", lambda self: True)
    once = made.bundle()
    once.routes[0] = made.route(once="customer")
    with bench.database.writing() as session:
        bundles.apply(session, once, bench.clock.now() - dt.timedelta(days=1))
    bench.services.setups.forget()
    statuses, orders = [f"s{number}" for number in range(6)], range(40)
    for status in statuses:
        for number in orders:  # two orders each have one customer
            buyer = {"name": "Jo", "email": f"p{number // 2}@example.org", "country": "DE"}
            body = made.body(id=number, reference=f"BK-{number}", state=status, buyer=buyer)
            assert bench.deliver(body, store_event="changed", store_delivery=f"{number}-{status}").status == 202
            if status == "s3":
                assert bench.deliver(body, store_delivery=f"{number}-placed").status == 202
    planned = [0] * 4

    def plan(which):
        planner, idle = Planner(bench.database, bench.services.setups, bench.clock), 0
        while idle < 20:
            done, _ = planner.run_batch()
            planned[which] += done
            idle = 0 if done else idle + 1

    together = [threading.Thread(target=plan, args=(which,)) for which in range(4)]
    for one in together:
        one.start()
    for one in together:
        one.join()
    assert sum(bool(number) for number in planned) > 1, "they did it together"
    assert bench.rows("SELECT count(*) FROM event WHERE planned_at IS NULL OR problem <> ''") == [(0,)]
    lanes = bench.rows("SELECT count(DISTINCT lane) FROM event WHERE parent_id IS NULL")
    assert lanes[0][0] > 8, "orders are spread"
    apart = "SELECT order_id FROM event WHERE lane IS NOT NULL GROUP BY order_id HAVING count(DISTINCT lane) > 1"
    assert bench.rows(apart) == [], "an order is in one lane"
    for number in orders:
        changes = bench.rows(
            'SELECT e.was, e.now FROM event e JOIN "order" o ON o.id = e.order_id WHERE o.reference = ? AND '
            "e.parent_id IS NULL AND e.name = 'changed' ORDER BY e.received_at, e.id",
            str(number),
        )
        assert changes == [("", ""), *itertools.pairwise(statuses)]
    told = bench.rows("SELECT recipient, count(*) FROM send WHERE state <> 'skipped' GROUP BY recipient")
    assert sorted(told) == sorted((f"p{number}@example.org", 1) for number in range(20)), "each customer once"
    assert bench.rows("SELECT count(*) FROM contact") == [(20,)]
    ((spec,),) = bench.rows("SELECT spec FROM shape WHERE name = 'changed'")
    seen = spec if isinstance(spec, dict) else json.loads(spec)
    assert seen["deliveries"] == len(statuses) * len(orders), "what several learned is put together"


def test_behind_a_backlog_in_lanes_another_source_does_not_wait_for_all_of_it(bench, monkeypatch):
    for module in (runs, lanes):
        monkeypatch.setattr(module, "AT_ONCE", 20)
    monkeypatch.setattr(runs, "WORTH", 5)
    monkeypatch.setattr(Lanes, "are_of_use", lambda self: True)
    two = made.bundle()
    two.sources.append(made.source(key="annex", name="Annex"))
    with bench.database.writing() as session:
        bundles.apply(session, two, bench.clock.now() - dt.timedelta(days=1))
    bench.services.setups.forget()
    for number in range(60):
        assert bench.deliver(made.body(id=number), store_delivery=f"s-{number}").status == 202
    assert bench.deliver(made.body(id=99), key="annex", store_delivery="a-99").status == 202
    planner = Planner(bench.database, bench.services.setups, bench.clock)
    planner.run_batch()
    of_annex = "FROM event e JOIN source s ON s.id = e.source_id WHERE s.key = 'annex'"
    assert bench.rows(f"SELECT count(e.lane) {of_annex}") == [(1,)], "it has its lane with the first of the others"
    assert bench.rows("SELECT count(*) FROM event WHERE lane IS NULL") == [(40,)]
    for _ in range(16):
        planner.run_batch()
    assert bench.rows(f"SELECT count(e.planned_at) {of_annex} AND e.parent_id IS NULL") == [(1,)]


def test_planners_of_lanes_that_are_killed_lose_nothing(bench, cluster):
    """A backlog of orders and their changes, two orders for each customer, planned by three processes of which two are
    killed in the middle and another comes; meanwhile somebody changes the set-up, which waits for all lanes.
    """
    orders, statuses = range(150), ("s1", "s2", "s3")
    for number in orders:
        buyer = {"name": "Jo", "email": f"p{number // 2}@example.org", "country": "DE"}
        for status in statuses:
            body = made.body(id=number, reference=f"BK-{number}", state=status, buyer=buyer)
            assert bench.deliver(body, store_event="changed", store_delivery=f"{number}-{status}").status == 202
        assert bench.deliver(body, store_delivery=f"{number}-placed").status == 202
    cluster.start("plan", 3)
    waiting = "SELECT count(*) FROM event WHERE planned_at IS NULL"
    until(lambda: bench.rows("SELECT count(*) FROM event WHERE lane IS NOT NULL AND planned_at IS NOT NULL")[0][0] > 30)
    cluster.kill(0)
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"support_phone": "+353 20 915 1234"})
    cluster.kill(1)
    cluster.start("plan", 1)
    until(lambda: bench.rows(waiting) == [(0,)])
    assert bench.rows("SELECT count(*) FROM event WHERE problem <> ''") == [(0,)]
    assert bench.rows("SELECT count(*), count(DISTINCT order_id) FROM send") == [(len(orders), len(orders))]
    assert bench.rows("SELECT count(*) FROM contact") == [(len(orders) // 2,)]
    for number in orders:
        changes = bench.rows(
            'SELECT e.was, e.now FROM event e JOIN "order" o ON o.id = e.order_id WHERE o.reference = ? AND '
            "e.parent_id IS NULL AND e.name = 'changed' ORDER BY e.received_at, e.id",
            str(number),
        )
        assert changes == [("", ""), *itertools.pairwise(statuses)]


def test_stores_are_planned_side_by_side(bench):
    """While one process plans for the first store, another is through with the second one's."""
    second = made.bundle().model_dump(mode="json")
    second["store"]["key"], second["sources"][0]["key"] = "second", "annex"
    second["routes"][0]["sources"] = ["annex"]
    with bench.database.writing() as session:
        bundles.apply(session, Bundle.model_validate(second), bench.clock.now() - dt.timedelta(days=1))
    bench.services.setups.forget()
    for number in range(4):
        assert bench.deliver(made.body(id=number), key="shop", store_delivery=f"s-{number}").status == 202
        assert bench.deliver(made.body(id=number), key="annex", store_delivery=f"a-{number}").status == 202
    first, other = (Planner(bench.database, bench.services.setups, bench.clock) for _ in range(2))
    of_store = (
        "SELECT count(*) FROM event e JOIN source s ON s.id = e.source_id WHERE s.key = ? AND e.planned_at IS NULL"
    )
    with bench.database.connection() as connection:
        rows = first._of_stores(connection, 100, (), {bench.store_id})
        locks.hold(connection, locks.of_store(bench.store_id))
        assert len(rows) == 4
        began = time.monotonic()
        assert other.run_batch()[0] == 4
        assert time.monotonic() - began < 5, "it waited for nobody"
        assert bench.rows(of_store, "annex") == [(0,)]
        assert bench.rows(of_store, "shop") == [(4,)]
    assert other.run_batch()[0] == 4


def test_who_waits_to_plan_for_a_store_waits_not_for_long(bench):
    """Somebody decides for the store, and takes their time: whoever plans goes on to what else there is."""
    deliver(bench, [1])
    planner = Planner(bench.database, bench.services.setups, bench.clock)
    with bench.database.connection() as connection:
        locks.hold(connection, locks.of_store(bench.store_id))
        began = time.monotonic()
        assert planner.run_batch() == (0, 0)
        assert 0.2 < time.monotonic() - began < 3
    assert planner.run_batch()[0] == 1, "nothing of it is left over"
    with bench.database.connection() as connection:
        assert locks.hold_within(connection, locks.of_store(bench.store_id), 0.2)
        assert connection.exec_driver_sql("SHOW lock_timeout").scalar_one() == "20s", "as for every other statement"
