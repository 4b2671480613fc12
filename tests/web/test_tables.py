"""The pages of the shop's own tables: made, replaced, filled up, given out, deleted."""

import io
import threading
from http.server import ThreadingHTTPServer

import pytest

from tests.engine.test_fallbacks import Shop
from tests.engine.test_table_fetching import Keeper
from tests.web.test_route_pages import text

PRICES = "Sku,Net price,Shelf\nHER-180,99.00,B4\nSAN-POC,19.90,A1\n"


def make(client, name="Prices", data=PRICES, **form):
    file = (io.BytesIO(data.encode()), "t.csv")
    return client.post("/tables", data={"name": name, "file": file} | form, follow_redirects=True)


def fill(client, key, data):
    return client.post(f"/tables/{key}", data={"file": (io.BytesIO(data.encode()), "t.csv")}, follow_redirects=True)


def test_a_table_is_made_shown_replaced_and_given_back_as_a_file(client, bench):
    page = text(make(client))
    assert "prices.net_price" in page
    assert "HER-180" in page
    assert "1 new, 1 changed, 1 gone" in text(fill(client, "prices", "Sku,Net price,Shelf\nHER-180,101,B4\nNEW,1,Z\n"))
    assert client.get("/tables/prices.csv").get_data(as_text=True).splitlines() == [
        "sku,net_price,shelf", "HER-180,101,B4", "NEW,1,Z",
    ]  # fmt: skip
    assert "There is a table “prices” already" in text(make(client))
    assert "Prices" in text(client.get("/tables"))
    assert "/tables" in client.get("/files").get_data(as_text=True)
    assert "table filled" in text(client.get("/changes"))
    client.post("/tables/prices/delete")
    assert client.get("/tables/prices").status_code == 404
    assert bench.rows("SELECT * FROM shop_table_item") == []


@pytest.mark.parametrize(
    ("name", "data", "told"),
    [
        ("7", PRICES, "can’t name a table"),
        ("Prices", "", "The file is empty"),
        ("Prices", "a,b\n1,2\n1,3\n", "“1” occurs twice"),
    ],
)
def test_what_is_no_table_is_refused_in_words(client, bench, name, data, told):
    assert told in text(make(client, name, data))
    assert bench.rows("SELECT * FROM shop_table") == []


def test_a_table_that_is_given_out_is_filled_up_and_needs_attention_when_few_are_left(client, bench):
    page = text(make(client, "Codes", "Code\nA-1\nA-2\n", once="yes"))
    assert "{{ given.code }}" in page
    assert "Only a few rows are left" in page
    bench.services.setups.forget()
    assert "Codes: 2 rows are left" in text(client.get("/"))
    assert "1 new, 0 changed, 0 gone" in text(fill(client, "codes", "Code\nA-2\nA-3\n"))
    client.post("/tables/codes/low", data={"low": "1"})
    assert "Codes:" not in text(client.get("/"))
    assert "Give the rows the same columns" in text(fill(client, "codes", "Other\nX\n"))
    client.post("/tables/codes/empty")
    assert bench.rows("SELECT * FROM shop_table_item") == []
    assert "Codes: no row is left" in text(client.get("/"))


@pytest.fixture
def keeper(bench):
    """An address that says what a table is."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), Keeper)
    server.says, server.asked, server.free = {"/prices.csv": (200, "text/csv", PRICES)}, [], threading.Event()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Shop(bench).store(private_hosts=["127.0.0.1"])
    yield server
    server.shutdown()


def fetch(client, keeper, act="save", path="/prices.csv", follow=True, **form):
    url = f"http://127.0.0.1:{keeper.server_port}{path}"
    data = {"url": url, "act": act, "every_hours": "6", "on": "yes"} | form
    return client.post("/tables/prices/fetch", data=data, follow_redirects=follow)


def test_a_table_is_tried_saved_fetched_and_says_what_went_wrong(client, bench, keeper):
    make(client, "Prices", "Sku,Net price,Shelf\nHER-180,99.00,B4\nOLD,1,A1\nX,1,1\n")
    page = text(fetch(client, keeper, "try"))
    assert "2 rows: it would be 1 new, 0 changed, 2 gone" in page
    assert "not set up" in page  # nothing is saved by trying
    assert "It is fetched within seconds" in text(fetch(client, keeper))
    assert "Fetched: 1 new, 0 changed, 2 gone" in text(client.post("/tables/prices/fetch/now", follow_redirects=True))
    assert "SAN-POC" in text(client.get("/tables/prices"))
    said = client.post("/tables/prices/fetch/now", follow_redirects=True)
    assert "it says what it said before" in text(said)
    keeper.says["/prices.csv"] = (200, "text/csv", "Sku,Net price\nHER-180,5\n")
    assert "The column “shelf” is missing" in text(client.post("/tables/prices/fetch/now", follow_redirects=True))
    assert "Prices: not fetched" in text(client.get("/"))
    assert "up to date" not in text(client.get("/tables/prices"))
    accepted = client.post("/tables/prices/fetch/now", data={"less": "yes"}, follow_redirects=True)
    assert "Fetched: 0 new, 1 changed, 1 gone" in text(accepted)
    assert "Prices: not fetched" not in text(client.get("/"))
    assert "http://127.0.0.1" in text(client.get("/changes"))


@pytest.mark.parametrize(
    ("form", "told"),
    [
        ({"url": "prices.csv"}, "is no web address"),
        ({"every_hours": "0"}, "every hours"),
        ({"every_hours": "often"}, "has to be a whole number"),
        ({"items_at": "$["}, "is no path"),
        ({"auth.scheme": "bearer"}, "no password or token for this address"),
        ({"auth.scheme": "header", "secret": "x"}, "names no header"),
        ({"seen": "older"}, "Somebody else changed"),
    ],
)
def test_what_cannot_be_fetched_is_said_and_stays_as_typed(client, bench, keeper, form, told):
    make(client)
    answer = fetch(client, keeper, follow=False, **form)
    assert answer.status_code == 422
    assert told.lower() in text(answer).lower()
    assert form.get("url", "/prices.csv") in answer.get_data(as_text=True)
    assert bench.rows('SELECT "fetch" FROM shop_table')[0].fetch in (None, "null")


def test_an_address_that_cannot_be_asked_is_said_when_it_is_tried(client, bench, keeper):
    make(client)
    keeper.says["/gone"] = (404, "text/plain", "no")
    assert "answered 404" in text(fetch(client, keeper, "try", "/gone"))
    assert "a private address" in text(
        client.post("/tables/prices/fetch", data={"url": "http://127.0.0.2:9/x", "act": "try", "every_hours": "6"})
    )
