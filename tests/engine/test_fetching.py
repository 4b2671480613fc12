"""A store that calls nobody: fetched over HTTP from the stand-in, in order, once, whatever happens in between."""

import datetime as dt
import json
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from angelon.core.fetching import Position
from angelon.core.specs import Source
from angelon.db.log import fetches
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals import fetching
from angelon.engine.arrivals.fetching import Fetcher
from angelon.engine.operations import fetching as operations
from angelon.engine.unit import unit
from angelon.standins import stall
from angelon.standins.providers import Providers
from tests import made
from tests.engine.test_fallbacks import Shop

READING = {
    "reference": "$.no", "number": "$.no", "status": "$.state", "placed_at": "$.written", "changed_at": "$.changed",
    "email": "$.who.mail",
}  # fmt: skip
STATUSES = {"wrapped": "order.packed", "handed over": "parcel.delivered"}


def stall_source(port, key="stall", **fetch):
    request = {
        "url": f"http://127.0.0.1:{port}/stall/orders?limit=5", "auth": {"scheme": "bearer"}, "items_at": "$.orders",
        "pages": "cursor", "next_at": "$.next", "page_parameter": "after", "since_parameter": "changed_after",
        "since_at": "$.changed", "every_minutes": 5, "on": True,
    }  # fmt: skip
    told = {"key": key, "name": "Stall", "tells": "orders", "reading": READING, "statuses": STATUSES}
    return Source.model_validate(told | {"fetch": request | fetch})


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(private_hosts=["127.0.0.1"])
    bench.box.set("stall_token", "s3cret")
    shop.providers = Providers(bench.box)
    shop.providers.start()
    shop.set_up = lambda **fetch: set_up(shop, stall_source(shop.providers.port, **fetch))
    shop.set_up()
    yield shop
    shop.providers.stop()


def set_up(shop, source):
    shop.bench.change(source, SourceRow)
    with shop.bench.database.writing() as session:
        row = specs.by_key(session, SourceRow, shop.bench.store_id, source.key)
        shop.bench.vault.put(session, specs.FETCH, row.id, "s3cret", shop.bench.clock.now())
    shop.bench.services.setups.forget()
    return row.id


def fetcher(shop):
    return Fetcher(shop.bench.database, shop.bench.services.setups, shop.bench.clock, shop.bench.vault)


def fetch(shop, minutes=6, turns=30):
    """What is fetched when its time has come."""
    shop.later(minutes=minutes)
    shop.bench.services.setups.forget()
    new = fetcher(shop).run_due(turns)
    shop.bench.plan()
    return new


def state(shop):
    return shop.bench.rows('SELECT * FROM "fetch"')[0]


def types(shop, number):
    return [
        row.type
        for row in shop.bench.rows(
            'SELECT e.type FROM event e JOIN "order" o ON o.id = e.order_id WHERE o.number = ?'
            " ORDER BY e.received_at, e.parent_id IS NOT NULL, e.id",
            number,
        )
    ]


def test_orders_come_in_and_what_happened_follows(shop):
    one, two = stall.sell(shop.bench.box, 2)
    assert fetch(shop) == 2
    assert types(shop, f"ST-{one:05}") == ["", "order.created"]
    assert fetch(shop) == 0  # the overlap brings them again
    stall.move(shop.bench.box, two)
    assert fetch(shop) == 1
    assert set(types(shop, f"ST-{two:05}")) == {"", "order.created", "order.status_changed", "order.packed"}
    assert types(shop, f"ST-{one:05}") == ["", "order.created"]


def test_orders_of_long_ago_are_taken_in_and_nobody_is_told(shop):
    old = stall.sell(shop.bench.box, 1, shop.bench.clock.now() - dt.timedelta(days=20))[0]
    assert fetch(shop) == 1
    assert types(shop, f"ST-{old:05}") == [""]


def test_a_backlog_of_many_pages_is_caught_up_in_order(shop, monkeypatch):
    sold, plain = stall.sell(shop.bench.box, 23), fetching.request_page
    monkeypatch.setattr(fetching, "request_page", lambda *given: (shop.later(seconds=1), plain(*given))[1])
    assert fetch(shop) == 23
    rows = shop.bench.rows(
        "SELECT o.number FROM event e JOIN \"order\" o ON o.id = e.order_id WHERE e.type = '' ORDER BY"
        " e.received_at, e.id"
    )
    assert [row.number for row in rows] == [f"ST-{one:05}" for one in sold]
    assert json.loads(state(shop).log)[-1]["requests"] == 5


def test_what_is_interrupted_after_any_page_goes_on_there_and_doubles_nothing(shop, monkeypatch):
    stall.sell(shop.bench.box, 23)
    plain, asked = fetching.request_page, []

    def torn(*given):
        asked.append(given)
        if len(asked) % 2 == 0:
            raise KeyboardInterrupt  # as a killed process: nothing after it is done
        return plain(*given)

    monkeypatch.setattr(fetching, "request_page", torn)
    new = 0
    for _ in range(12):
        shop.later(minutes=10)  # its lease has run out
        try:
            new += fetcher(shop).run_due()
        except KeyboardInterrupt:
            continue
    shop.bench.plan()
    assert shop.bench.rows("SELECT count(*) AS n FROM event WHERE type = ''")[0].n == 23
    assert shop.bench.rows("SELECT count(*) AS n FROM event WHERE type = 'order.created'")[0].n == 23
    assert state(shop).through_at


def test_a_store_that_is_busy_is_left_alone_for_as_long_as_it_says(shop):
    stall.sell(shop.bench.box)
    shop.bench.box.set("stall_fault", "busy")
    assert fetch(shop) == 0
    row = state(shop)
    assert "answered 429" in row.problem
    assert row.failures == 1
    wait = (row.due_at - int(shop.bench.clock.now().timestamp() * 1e6)) / 1e6
    assert wait >= 3
    shop.bench.box.set("stall_fault", "none")
    assert fetch(shop) == 1
    assert (state(shop).problem, state(shop).failures) == ("", 0)


def test_a_day_away_is_caught_up(shop):
    fetch(shop)
    shop.bench.box.set("stall_fault", "broken")
    for _ in range(6):
        sold = stall.sell(shop.bench.box, 3, shop.bench.clock.now())
        fetch(shop, minutes=240)
    assert state(shop).failures == 6
    shop.bench.box.set("stall_fault", "none")
    assert fetch(shop, minutes=70) == 18
    assert types(shop, f"ST-{sold[-1]:05}") == ["", "order.created"]


def test_the_stall_s_clock_may_be_wrong(shop):
    for skew in (-45, 50):
        shop.bench.box.set("stall_skew", skew)
        sold = stall.sell(shop.bench.box, 2)
        assert fetch(shop) == 2, skew
        stall.move(shop.bench.box, sold[0])
        assert fetch(shop) == 1, skew


def test_one_process_at_a_time_fetches_a_source(shop):
    stall.sell(shop.bench.box)
    fetcher(shop).run_due()
    stall.sell(shop.bench.box)
    shop.later(minutes=6)
    now = shop.bench.clock.now()
    source_id = state(shop).source_id
    with shop.bench.database.connection() as connection:
        assert fetches.claim(connection, source_id, now, now + dt.timedelta(minutes=1)) is not None
        assert fetches.claim(connection, source_id, now, now + dt.timedelta(minutes=1)) is None
    assert fetcher(shop).run_due() == 0
    shop.later(minutes=2)  # whoever had it is gone
    assert fetcher(shop).run_due() == 1


def test_who_was_taken_over_from_stores_nothing(shop, monkeypatch):
    stall.sell(shop.bench.box, 3)
    plain = fetching.request_page

    def slow(*given):
        with shop.bench.database.connection() as connection:
            fetches.change(connection, given_id, held_until=shop.bench.clock.now() + dt.timedelta(hours=1))
        return plain(*given)

    given_id = shop.bench.rows("SELECT id FROM source WHERE key = 'stall'")[0].id
    monkeypatch.setattr(fetching, "request_page", slow)
    assert fetch(shop) == 0
    assert shop.bench.rows("SELECT * FROM event") == []


def test_requests_have_a_budget_and_it_goes_on_where_it_stopped(shop):
    shop.set_up(an_hour=2)
    stall.sell(shop.bench.box, 23)
    assert fetch(shop) == 10
    assert fetch(shop, minutes=30) == 0
    assert fetch(shop, minutes=35) == 10
    assert fetch(shop, minutes=61) == 3


def test_an_order_that_is_too_large_keeps_no_other_from_coming_in(shop, monkeypatch):
    source = stall_source(shop.providers.port).model_copy(update={"max_bytes": 1024})
    set_up(shop, source)
    plain = stall.order_json
    big = {"note": "x" * 2000}
    monkeypatch.setattr(stall, "order_json", lambda row: plain(row) | (big if row.id == 2 else {}))
    stall.sell(shop.bench.box, 3)
    assert fetch(shop) == 2
    assert "1,024 are allowed" in shop.bench.rows("SELECT reason FROM refused")[0].reason
    assert fetch(shop) == 0
    assert len(shop.bench.rows("SELECT * FROM refused")) == 1


def test_an_order_that_cannot_be_read_harms_itself_alone_and_one_too_large_comes_once_it_may(shop):
    source = stall_source(shop.providers.port)
    deep = json.loads('{"a":' * 70 + "1" + "}" * 70)
    orders = [{"no": "A-1", "more": deep}, {"no": "A-2"}, {"no": "A-3", "note": "x" * 3000}]
    small = source.model_copy(update={"max_bytes": 2000})

    def take(by):
        with shop.bench.database.connection() as connection:
            items = fetching.items_of(by, orders)
            return fetching.take_in(
                connection,
                by,
                shop.bench.services.setups.get(shop.bench.store_id).source_ids["stall"],
                items,
                shop.bench.clock,
            )

    assert [take(small), take(small)] == [1, 0]
    refused = [row.reason for row in shop.bench.rows("SELECT reason FROM refused ORDER BY id")]
    assert len(refused) == 2  # each once, however often it is fetched
    assert "nested" in refused[0]
    assert "2,000 are allowed" in refused[1]
    assert [take(source), take(source)] == [1, 0]  # the large one, when the limit is raised


def test_without_its_token_nothing_is_asked(shop):
    with shop.bench.database.writing() as session:
        shop.bench.vault.drop(session, specs.FETCH, shop.bench.rows("SELECT id FROM source WHERE key = 'stall'")[0].id)
    assert fetch(shop) == 0
    assert "There is no token yet." in state(shop).problem


def test_a_page_in_the_middle_that_is_gone_has_the_pass_begin_anew(shop):
    stall.sell(shop.bench.box, 8)
    fetch(shop)
    with shop.bench.database.connection() as connection:
        fetches.change(connection, state(shop).source_id, position=Position(page="bm9uZQ==").plain())
    fetch(shop)
    assert "answered 400" in state(shop).problem
    assert fetch(shop) == 0  # all are known
    assert state(shop).problem == ""


class Asleep(BaseHTTPRequestHandler):
    free = threading.Event()

    def do_GET(self):
        self.free.wait(10)
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b'{"orders": [], "next": null}')

    def log_message(self, *_): ...


def test_a_slow_store_keeps_no_other_waiting(shop):
    slow = ThreadingHTTPServer(("127.0.0.1", 0), Asleep)
    threading.Thread(target=slow.serve_forever, daemon=True).start()
    try:
        set_up(shop, stall_source(slow.server_port, "slow"))
        stall.sell(shop.bench.box, 3)
        runner = fetcher(shop)
        runner.step()  # begins both
        until = time.monotonic() + 20
        while time.monotonic() < until and not shop.bench.rows("SELECT * FROM event"):
            runner.step()
            time.sleep(0.05)
        assert len(shop.bench.rows("SELECT * FROM event")) == 3
    finally:
        Asleep.free.set()
        slow.shutdown()
        until = time.monotonic() + 20
        while time.monotonic() < until and runner._apart._in_hand:
            time.sleep(0.05)
    assert not runner._apart._in_hand


def test_rows_that_say_nothing_of_orders_are_told_apart_by_all_that_they_say(shop):
    other = stall_source(shop.providers.port)
    set_up(shop, other.model_copy(update={"reading": {"email": made.source().reading["email"]}}))
    stall.sell(shop.bench.box, 2)
    assert fetch(shop) == 2
    assert fetch(shop) == 0


def test_a_change_of_the_set_up_in_the_middle_stops_what_is_under_way(shop, monkeypatch):
    stall.sell(shop.bench.box, 8)
    plain = fetching.request_page

    def changed_meanwhile(*given):
        answer = plain(*given)
        source = shop.bench.services.setups.get(shop.bench.store_id).setup.sources["stall"]
        again = source.fetch.model_copy(update={"every_minutes": 7})
        with unit(shop.bench.services.installation, shop.bench.store_id) as work:
            operations.save(work, "stall", again)
        return answer

    monkeypatch.setattr(fetching, "request_page", changed_meanwhile)
    assert fetch(shop, turns=1) == 0
    assert shop.bench.rows("SELECT * FROM event") == []
    monkeypatch.setattr(fetching, "request_page", plain)
    assert fetch(shop) == 8
