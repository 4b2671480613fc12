"""A source that is fetched, set up on its page: tried, mapped from what came, switched on, mended."""

import re

import pytest

from angelon.core.specs import Source
from angelon.core.specs.stored import from_stored
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.arrivals.fetching import Fetcher
from angelon.standins import stall
from angelon.standins.providers import Providers
from tests.web.test_route_pages import team, text

TYPED = {
    "auth.scheme": "bearer", "auth.username": "", "auth.header": "", "secret": "s3cret", "items_at": "$.orders",
    "tells": "orders", "since_parameter": "changed_after", "since_at": "$.changed", "since_form": "iso",
    "overlap_seconds": "120", "pages": "link", "page_parameter": "", "next_at": "", "first_page": "1",
    "every_minutes": "5", "an_hour": "300", "timeout_seconds": "5", "max_bytes": "500",
}  # fmt: skip


@pytest.fixture
def shop(bench, client):
    team(bench, private_hosts=["127.0.0.1"])
    bench.box.set("stall_token", "s3cret")
    bench.stall = Providers(bench.box)
    bench.stall.start()
    client.post("/sources", data={"name": "Market stall"})
    stall.sell(bench.box, 2)
    yield bench
    bench.stall.stop()


def send(client, bench, act="save", path="/stall/orders?limit=1", **typed):
    url = f"http://127.0.0.1:{bench.stall.port}{path}"
    return client.post(
        "/sources/market-stall/fetch",
        data={"url": url, "act": act, "edits": edits(bench)} | TYPED | typed,
        follow_redirects=True,
    )


def edits(bench):
    with bench.database.reading() as session:
        return specs.by_key(session, SourceRow, bench.store_id, "market-stall").edits


def fetch(bench):
    bench.services.setups.forget()
    return Fetcher(bench.database, bench.services.setups, bench.clock, bench.vault).run_due()


def test_it_is_tried_before_it_is_kept_and_shows_what_the_first_request_brought(shop, client):
    answer = send(client, shop, "try")
    page = text(answer)
    assert "1 order," in page
    assert "The next page is" in page
    assert "ST-00001" in page
    assert "Nothing of it was stored" in page
    assert 'value="changed_after"' in answer.get_data(as_text=True)
    with shop.database.reading() as session:
        assert specs.by_key(session, SourceRow, shop.store_id, "market-stall").spec.get("fetch") is None
    assert shop.rows("SELECT * FROM event") == []


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        ({"secret": "wrong"}, "answered 401"),
        ({"items_at": "$.items"}, "There is no list at $.items in the answer. There are: next, orders."),
        ({"path": "/nothing"}, "answered 404"),
        ({"since_at": "$.moved"}, "1 order has none at"),
    ],
)
def test_a_try_that_brings_nothing_says_why(shop, client, typed, told):
    assert told in text(send(client, shop, "try", **typed))


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        ({"every_minutes": "often"}, "every_minutes"),
        ({"items_at": "orders"}, "is no path"),
        ({"pages": "cursor"}, "at which path of the answer"),
        ({"auth.scheme": "basic"}, "has no user name"),
        ({"max_bytes": "much"}, "“much” is no number of kilobytes."),
        ({"on": "yes"}, "Neither the order&#39;s reference nor its number is mapped yet"),
    ],
)
def test_what_cannot_be_kept_stays_on_the_page(shop, client, typed, told):
    page = send(client, shop, **typed)
    html = page.get_data(as_text=True)
    assert page.status_code == 422
    assert told in html or told in text(page)
    assert 'value="changed_after"' in html


def test_from_nothing_to_orders_that_are_fetched(shop, client):
    assert "It is not switched on" in text(send(client, shop))
    kept = client.post("/sources/market-stall/fetch/sample")
    assert "/read?sample=" in kept.location
    with shop.database.writing() as session:
        row = specs.by_key(session, SourceRow, shop.store_id, "market-stall")
        row.spec = row.spec | {"reading": {"reference": {"path": "$.no"}, "email": {"path": "$.who.mail"}}}
        specs.touch(session, shop.store_id)
    shop.services.setups.forget()
    assert "fetched from now on" in text(send(client, shop, on="yes", secret=""))
    shop.services.setups.forget()
    stall.sell(shop.box, 2)
    assert fetch(shop) == 4  # the stall's clock is ours; the first two are within the overlap
    page = text(client.get("/sources/market-stall/fetch"))
    assert "up to date" in page
    assert re.search(r"4\s+4\s+stored", page) or "stored" in page
    assert "fetched every 5 min" in text(client.get("/sources"))


def switched_on(shop, client):
    with shop.database.writing() as session:
        row = specs.by_key(session, SourceRow, shop.store_id, "market-stall")
        row.spec = row.spec | {"reading": {"reference": {"path": "$.no"}}}
        specs.touch(session, shop.store_id)
    shop.services.setups.forget()
    assert send(client, shop, on="yes").status_code == 200
    shop.services.setups.forget()


def test_what_is_wrong_is_said_on_its_page_and_under_what_needs_attention(shop, client):
    switched_on(shop, client)
    shop.box.set("stall_fault", "broken")
    fetch(shop)
    page = text(client.get("/sources/market-stall/fetch"))
    assert "nothing came" in page
    assert "answered 500" in page
    front = text(client.get("/"))
    assert "Market stall: no orders come in" in front
    shop.box.set("stall_fault", "none")
    assert "It is fetched now" in text(client.post("/sources/market-stall/fetch/now", follow_redirects=True))
    assert fetch(shop) == 2
    assert "no orders come in" not in text(client.get("/"))


def test_a_new_address_does_not_get_the_old_one_s_token(shop, client):
    switched_on(shop, client)
    typed = TYPED | {"secret": "", "on": "yes", "act": "save", "edits": edits(shop)}
    page = client.post("/sources/market-stall/fetch", data=typed | {"url": "https://thief.example/o"})
    assert page.status_code == 422
    assert "belongs to the old one" in text(page)
    with shop.database.reading() as session:
        row = specs.by_key(session, SourceRow, shop.store_id, "market-stall")
        assert "thief" not in row.spec["fetch"]["url"]
        assert shop.vault.get(session, specs.FETCH, row.id, shop.clock.now())


def test_a_bundle_that_moves_the_address_leaves_the_token_behind(shop, client):
    switched_on(shop, client)
    with shop.database.writing() as session:
        row = specs.by_key(session, SourceRow, shop.store_id, "market-stall")
        moved = row.spec["fetch"] | {"url": "https://thief.example/o"}
        spec = from_stored(Source, row.spec | {"fetch": moved})
        specs.save_live(session, SourceRow, shop.store_id, spec, shop.clock.now())
        assert not shop.vault.get(session, specs.FETCH, row.id, shop.clock.now())


def test_it_begins_again_from_a_day_and_says_nothing_twice(shop, client):
    switched_on(shop, client)
    assert fetch(shop) == 2
    told = client.post("/sources/market-stall/fetch/again", data={"since": "2020-01-01"}, follow_redirects=True)
    assert "fetched again from there" in text(told)
    assert fetch(shop) == 0
    assert "is no day" in text(
        client.post("/sources/market-stall/fetch/again", data={"since": "01/02"}, follow_redirects=True)
    )


def test_who_edits_an_older_state_is_told(shop, client):
    send(client, shop)
    page = send(client, shop, edits="0", every_minutes="9")
    assert page.status_code == 409
