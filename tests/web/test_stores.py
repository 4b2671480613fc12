"""Several stores in one installation: each in its own address, apart in everything, and no way out by accident."""

import datetime as dt
import re

import pytest

from angelon.core.specs import Bundle
from angelon.db.setup import bundles, specs
from angelon.db.tables import AttemptRow, StoreRow
from angelon.engine.followers.alerts import Alarm
from angelon.web.stores import StoreAddress
from tests import grown, made
from tests.web.test_pages import post, text

OTHER = "lamps"


@pytest.fixture
def two(bench):
    """A second store with a source, a message, a route and a gateway of its own."""
    store = made.store().model_copy(update={"key": OTHER, "name": "Harbour Lamps", "timezone": "Asia/Tokyo"})
    other = Bundle(
        store=store,
        sources=[made.source(key="lamp-shop", name="Lamp shop")],
        variables=made.VARIABLES,
        gateways=[made.gateway()],  # of the same key as the first store's
        messages=[made.message()],
        routes=[made.route(sources=["lamp-shop"])],
        live=["received"],
    )
    with bench.database.writing() as session:
        bundles.apply(session, other, bench.clock.now().replace(year=2020))
        return next(row.id for row in specs.stores(session) if row.key == OTHER)


def test_two_stores_are_apart_and_a_page_of_one_leads_into_no_other(client, bench, two):
    post(client)
    bench.deliver(made.body(id=9, reference="HL-9"), key="lamp-shop")
    assert bench.plan() == 2
    assert "BK-7" in text(client.get("/orders"))
    assert "HL-9" not in text(client.get("/orders"))
    there = client.get(f"/at/{OTHER}/orders")
    assert "HL-9" in text(there)
    assert "BK-7" not in text(there)
    assert client.get(f"/at/{OTHER}/orders/1").status_code == 404, "the first store's order"
    ((order, send),) = bench.rows(
        'SELECT o.id, s.id FROM send s JOIN "order" o ON o.id = s.order_id WHERE s.store_id != 1'
    )
    pages = [page.replace("{send}", send).replace("/orders/1", f"/orders/{order}") for page in grown.PAGES]
    for page in pages:
        page = page.replace("/sources/shop", "/sources/lamp-shop")
        answer = client.get(f"/at/{OTHER}{page}")
        if answer.status_code in (301, 302):
            assert answer.headers["Location"].startswith(f"/at/{OTHER}/"), page
            continue
        assert answer.status_code == 200, page
        out = [
            address
            for address in re.findall(r'\s(?:href|action|formaction|src)="(/[^"]*)"', answer.get_data(as_text=True))
            if not address.startswith(f"/at/{OTHER}/")
        ]
        assert set(out) <= {"/"}, (page, out)  # the way to the first store, by the switch


def test_what_is_done_in_a_store_is_done_there_and_leads_back_there(client, bench, two):
    done = client.post(f"/at/{OTHER}/suppressions", data={"addresses": "mia@example.com"})
    assert done.headers["Location"] == f"/at/{OTHER}/suppressions"
    assert bench.rows("SELECT store_id, address_key FROM suppression") == [(two, "email:mia@example.com")]
    made_ = client.post(f"/at/{OTHER}/sources", data={"name": "Shop"})
    assert made_.headers["Location"].startswith(f"/at/{OTHER}/sources/shop-2"), "a source's key is the installation's"


def test_receipts_have_an_address_of_their_own_in_each_store(client, bench, two):
    addresses = {
        root: re.search(r"/receipts/mailroom/[\w-]+", client.get(f"{root}/gateways/mailroom").get_data(as_text=True))
        for root in ("", f"/at/{OTHER}")
    }
    from angelon.web.receipts.views import address_of

    with client.application.test_request_context("/"):
        first = address_of("mailroom")
    with client.application.test_request_context(f"/at/{OTHER}/", environ_base={"angelon.store": OTHER}):
        second = address_of("mailroom")
    assert first.rpartition("/")[2] != second.rpartition("/")[2]
    assert f"/at/{OTHER}/receipts/mailroom/" in second
    assert client.post(second.partition("localhost")[2], json={"id": "x"}).status_code == 200
    wrong = f"/at/{OTHER}/receipts/mailroom/{first.rpartition('/')[2]}"
    assert client.post(wrong, json={"id": "x"}).status_code == 404
    assert addresses is not None


def test_an_address_of_no_store_is_not_found_and_one_that_is_no_key_is_not_taken(client, bench, two):
    missing = client.get("/at/nowhere/orders")
    assert missing.status_code == 404
    assert "Kites" not in missing.get_data(as_text=True), "nothing of another store around it"
    for path in ("/at/..%2f/orders", "/at/Lamps/orders", "/at//orders", "/at/"):
        assert client.get(path).status_code == 404, path
    assert client.get(f"/at/{OTHER}").status_code == 200


def test_a_path_keeps_its_rest_whatever_it_is():
    seen = []
    app = StoreAddress(lambda environ, _: seen.append((environ["SCRIPT_NAME"], environ["PATH_INFO"])) or [])
    for path in ("/at/a/x/at/b", "/at/a", "/atlas", "/at/a-1/"):
        app({"PATH_INFO": path, "SCRIPT_NAME": ""}, None)
    assert seen == [("/at/a", "/x/at/b"), ("/at/a", "/"), ("", "/atlas"), ("/at/a-1", "/")]


def test_a_store_is_added_on_its_page_and_one_of_the_same_name_is_refused(client, bench):
    given = {"name": "Harbour Lamps", "country": "IE", "locale": "en", "currency": "EUR", "timezone": "Europe/Dublin"}
    done = client.post("/stores", data=given)
    assert done.headers["Location"] == "/at/harbour-lamps/"
    assert "Harbour Lamps" in text(client.get("/at/harbour-lamps/"))
    again = client.post("/stores", data={**given, "name": "harbour lamps"})
    assert (again.status_code, "There is a store “Harbour Lamps” already." in text(again)) == (422, True)
    assert 'value="harbour lamps"' in again.get_data(as_text=True)
    empty = client.post("/stores", data={**given, "name": " "})
    assert "has no name yet" in text(empty)
    page = client.get("/orders").get_data(as_text=True)
    assert 'href="/at/harbour-lamps/"' in page, "the switch in the frame"
    with bench.database.reading() as session:
        assert len(specs.stores(session)) == 2
        assert session.get(StoreRow, 2).key == "harbour-lamps"


def test_a_gateway_that_refuses_is_the_trouble_of_its_own_store_alone(bench, two):
    bench.deliver(made.body(id=9, reference="HL-9"), key="lamp-shop")
    bench.plan()
    ((send,),) = bench.rows("SELECT id FROM send WHERE store_id != 1")
    now = bench.clock.now() + dt.timedelta(seconds=1)
    with bench.database.writing() as session:
        for number in range(1, 13):
            session.add(AttemptRow(send_id=send, number=number, began_at=now, ended_at=now, outcome="permanent"))
    bench.services.setups.forget()
    alarm = Alarm(bench.services.installation, bench.home)
    found = {}
    with bench.database.reading() as session:
        for store_id in (bench.store_id, two):
            live = bench.services.setups.get(store_id)
            found[store_id] = [one.kind for one in alarm._of_gateways(session, live, now)]
    assert found == {bench.store_id: [], two: ["gateway_refuses"]}
