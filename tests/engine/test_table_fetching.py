"""Tables that are fetched over HTTP: what came holds, what is less than before does not, who is slow waits alone."""

import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from angelon.core.problems import Invalid
from angelon.core.specs import Source, Variable
from angelon.core.specs.fetch import TableFetch
from angelon.db.setup import shop_tables, specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals import table_fetching
from angelon.engine.arrivals.table_fetching import CREDENTIALS, TableFetcher, fetch_table
from angelon.engine.operations import shop_tables as operations
from angelon.engine.unit import MACHINE, unit
from tests import made
from tests.engine.test_fallbacks import Shop

PRICES = "Sku,Net price\nA,1\nB,2\nC,3\nD,4\n"


class Keeper(BaseHTTPRequestHandler):
    """Says what `server.says` is by path; a path of which nothing is said waits until it may go on."""

    def do_GET(self):
        self.server.asked.append((self.path, self.headers.get("authorization")))
        status, kind, body = self.server.says.get(self.path, (0, "", ""))
        if not status:
            self.server.free.wait(20)
            return
        self.send_response(status)
        self.send_header("content-type", kind)
        self.end_headers()
        self.wfile.write(body.encode() if isinstance(body, str) else body)

    def log_message(self, *args):
        pass


@pytest.fixture
def keeper():
    server = ThreadingHTTPServer(("127.0.0.1", 0), Keeper)
    server.says, server.asked, server.free = {"/prices.csv": (200, "text/csv", PRICES)}, [], threading.Event()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.free.set()
    server.shutdown()


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(private_hosts=["127.0.0.1"])
    operations.create(bench.services.installation, bench.store_id, "Prices", False, "t.csv", PRICES.encode(), MACHINE)
    shop.fetcher = TableFetcher(bench.services.installation)
    return shop


def table(shop, key="prices"):
    with shop.bench.database.reading() as session:
        return shop_tables.get(session.connection(), shop.bench.store_id, key)


def rows(shop, key="prices"):
    found = table(shop, key)
    with shop.bench.database.reading() as session:
        return {row.key: row.cells[1:] for row in shop_tables.items(session.connection(), found.id, found.version)}


def set_up(shop, keeper, path="/prices.csv", secret="", key="prices", **more):
    spec = {"url": f"http://127.0.0.1:{keeper.server_port}{path}", "every_hours": 6, "on": True} | more
    with unit(shop.bench.services.installation, shop.bench.store_id) as work:
        table_fetching.save(work, key, TableFetch.model_validate(spec), secret)


def say(keeper, body, status=200, kind="text/csv", path="/prices.csv"):
    keeper.says[path] = (status, kind, body)


def by_hand(shop, careful=True):
    return fetch_table(shop.bench.services.installation, shop.bench.store_id, "prices", MACHINE, careful)


def test_it_is_fetched_when_its_time_has_come_and_what_is_unchanged_is_no_new_version(shop, keeper):
    set_up(shop, keeper)
    before = table(shop)
    assert shop.fetcher.run_due() == 0  # it says what the table says
    now = table(shop)
    assert (now.version, now.changed_at, now.problem) == (before.version, before.changed_at, "")
    assert now.fetched_at == shop.bench.clock.now()
    say(keeper, PRICES.replace("A,1", "A,9") + "E,5\n")
    shop.later(hours=5)
    shop.fetcher.run_due()
    assert len(keeper.asked) == 1
    shop.later(hours=2)
    assert shop.fetcher.run_due() == 1
    assert rows(shop) == {"A": ["9"], "B": ["2"], "C": ["3"], "D": ["4"], "E": ["5"]}


@pytest.mark.parametrize(
    ("body", "status", "told"),
    [
        ("Sku,Net price\nA,1\n", 200, "It has 1 rows, and the table 4"),
        ("Sku,Gross\nA,1\nB,2\nC,3\nD,4\n", 200, "The column “net_price” is missing"),
        ("", 200, "The file is empty"),
        ("<!doctype html><p>Sign in", 200, "rows"),
        ("gone", 404, "answered 404"),
        ("later", 503, "answered 503"),
        ("Sku,Net price\nA,1\nA,2\n", 200, "“A” occurs twice"),
    ],
)
def test_what_is_no_better_than_what_is_there_changes_nothing_and_is_tried_again(shop, keeper, body, status, told):
    set_up(shop, keeper)
    say(keeper, body, status)
    assert shop.fetcher.run_due() == 0
    found = table(shop)
    assert told in found.problem
    assert len(rows(shop)) == 4
    assert found.fetched_at is None
    say(keeper, PRICES + "E,5\n")
    shop.later(minutes=61)
    assert shop.fetcher.run_due() == 1
    assert table(shop).problem == ""
    assert len(rows(shop)) == 5


def test_a_person_may_accept_less(shop, keeper):
    set_up(shop, keeper)
    say(keeper, "Sku,Net price\nA,1\n")
    with pytest.raises(Invalid):
        by_hand(shop)
    assert len(rows(shop)) == 4
    assert str(by_hand(shop, careful=False)) == "0 new, 0 changed, 3 gone"
    assert table(shop).problem == ""


def test_a_column_that_a_mapping_looks_up_is_never_lost(shop, keeper):
    recipe = {"path": "$.reference", "steps": [{"lookup": {"table": "prices.net_price", "default": "none"}}]}
    with shop.bench.database.writing() as session:
        specs.save_variable(session, shop.bench.store_id, Variable(name="price"))
    source = made.source().model_dump(mode="json")
    shop.bench.change(Source.model_validate(source | {"recipes": source["recipes"] | {"price": recipe}}), SourceRow)
    set_up(shop, keeper)
    say(keeper, "Sku,Gross\nA,1\nB,2\nC,3\nD,4\n")
    with pytest.raises(Invalid, match="net_price"):
        by_hand(shop, careful=False)


def test_json_at_a_path_with_a_token_that_goes_to_its_own_address_alone(shop, keeper):
    say(keeper, '{"prices": [{"Sku": "A", "Net price": 7}, {"Sku": "B", "Net price": 8}]}', path="/api",
        kind="application/json")  # fmt: skip
    with pytest.raises(Invalid, match="no password or token"):
        set_up(shop, keeper, "/api", auth={"scheme": "bearer"}, items_at="$.prices")
    set_up(shop, keeper, "/api", "s3cret", auth={"scheme": "bearer"}, items_at="$.prices")
    assert shop.fetcher.run_due() == 1
    assert keeper.asked == [("/api", "Bearer s3cret")]
    assert rows(shop) == {"A": ["7"], "B": ["8"]}
    other = ThreadingHTTPServer(("127.0.0.1", 0), Keeper)
    other.says, other.asked, other.free = keeper.says, [], threading.Event()
    threading.Thread(target=other.serve_forever, daemon=True).start()
    try:
        with pytest.raises(Invalid, match="for this address"):
            set_up(shop, other, "/api", auth={"scheme": "bearer"}, items_at="$.prices")
        fetch = TableFetch(url=f"http://127.0.0.1:{other.server_port}/api", auth={"scheme": "bearer"})
        with pytest.raises(Invalid, match="for this address"):
            table_fetching.request_content(shop.bench.services.installation, shop.bench.store_id, table(shop), fetch)
        assert other.asked == []
    finally:
        other.shutdown()


def test_the_credentials_go_with_the_table(shop, keeper):
    set_up(shop, keeper, secret="s3cret", auth={"scheme": "bearer"})
    kind = f"SELECT * FROM secret WHERE kind = '{CREDENTIALS}'"
    assert len(shop.bench.rows(kind)) == 1
    operations.delete(shop.bench.services.installation, shop.bench.store_id, "prices", MACHINE)
    assert shop.bench.rows(kind) == []
    assert shop.fetcher.run_due() == 0


def test_one_process_fetches_a_table_and_one_that_was_killed_is_taken_over_in_an_hour(shop, keeper):
    set_up(shop, keeper)
    found = table(shop)
    with shop.bench.database.connection(purpose="test") as connection:
        assert shop_tables.claim(connection, found, shop.bench.clock.now() + table_fetching.AGAIN)
    with shop.bench.database.connection(purpose="test") as connection:
        assert not shop_tables.claim(connection, found, shop.bench.clock.now() + table_fetching.AGAIN)
    assert shop.fetcher.run_due() == 0
    assert keeper.asked == []
    shop.later(minutes=61)
    shop.fetcher.run_due()
    assert len(keeper.asked) == 1


def test_a_slow_address_keeps_no_other_table_waiting(shop, keeper):
    operations.create(
        shop.bench.services.installation, shop.bench.store_id, "Slow", False, "t.csv", PRICES.encode(), MACHINE
    )
    set_up(shop, keeper, "/slow", key="slow")
    set_up(shop, keeper)
    say(keeper, PRICES + "E,5\n")
    shop.fetcher.step()
    until = time.monotonic() + 20
    while time.monotonic() < until and len(rows(shop)) < 5:
        time.sleep(0.05)
    assert len(rows(shop)) == 5
    assert table(shop, "slow").fetched_at is None
    keeper.free.set()
    while time.monotonic() < until and not table(shop, "slow").problem:
        time.sleep(0.05)
    assert table(shop, "slow").problem


def test_what_is_set_up_otherwise_meanwhile_is_not_overwritten(shop, keeper):
    set_up(shop, keeper)
    seen = table(shop)
    set_up(shop, keeper, every_hours=12)
    with shop.bench.database.connection(purpose="test") as connection:
        shop_tables.note_fetched(connection, seen, problem="old news")
    assert table(shop).problem == ""
    fetch = table_fetching.fetch_of(seen)
    with (
        pytest.raises(Invalid, match="meanwhile"),
        unit(shop.bench.services.installation, shop.bench.store_id) as work,
    ):
        table_fetching.save(work, "prices", fetch, seen=table_fetching.mark_of(seen))


def test_vouchers_that_are_fetched_are_added(shop, keeper):
    operations.create(
        shop.bench.services.installation, shop.bench.store_id, "Codes", True, "t.csv", b"Code\nA-1\nA-2\n", MACHINE
    )
    set_up(shop, keeper, "/codes", key="codes")
    say(keeper, "Code\nA-3\n", path="/codes")
    assert shop.fetcher.run_due() == 1
    assert rows(shop, "codes") == {"A-1": [], "A-2": [], "A-3": []}
