"""Segments over what a customer has bought and what is kept of them: made in the pages, met by routes and checks."""

import json

import pytest

from tests import made
from tests.web.test_pages import text

JO = {"name": "Jo", "email": "jo@example.org", "country": "IE"}


@pytest.fixture
def level(client):
    """The variable `level`, read from the payload and kept with the customer."""
    for given in (
        {"act": "new_variable", "name": "level", "type": "text", "path": "$.buyer.level"},
        {"act": "set_variable", "field": "recipes.level", "type": "text", "about": "how loyal", "keep": "on"},
    ):
        assert client.post("/sources/shop/read", data=given).status_code < 400
    assert client.post("/sources/shop/read/publish", data={"anyway": "1"}).status_code < 400


def condition(of, op, value, **more):
    return {"kind": "compare", "of": of, "op": op, "value": value, **more}


def deliver(bench, number, **changes):
    buyer = JO | changes.pop("buyer", {})
    bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer, **changes), store_delivery=f"d-{number}")
    bench.plan()


def test_a_segment_over_what_is_kept_and_bought_decides_a_route_and_its_check(bench, client, level):
    client.post("/segments", data={"name": "Loyal"})
    asked = [
        condition("kept.level", "is", "gold"),
        condition("contact.spent", "at_least", "200"),
        condition("contact.products", "is", "HER-180", which="any", item="sku"),
    ]
    saved = client.post("/segments/loyal", data={"only_if": json.dumps({"kind": "group", "join": "all", "of": asked})})
    assert saved.status_code < 400, saved.text
    only_if = {"kind": "group", "join": "all", "of": [condition("segment.loyal", "yes", "")]}
    assert client.post("/routes/received", data={"only_if": json.dumps(only_if)}).status_code < 400
    assert client.post("/routes/received/switch", data={"on": "yes"}).status_code < 400
    deliver(bench, 1, buyer={"level": "gold"})
    assert bench.rows("SELECT count(*) FROM send") == [(0,)], "135.50 is less than 200"
    deliver(bench, 2)
    assert bench.rows("SELECT recipient FROM send") == [("jo@example.org",)], "gold is known from the first"
    page = text(client.get("/segments/loyal"))
    assert "the customer’s last known level is gold" in page
    assert "\\u20ac271.00" in client.get("/segments/loyal").get_data(as_text=True), "as the sample has it, in JSON"
    assert "its customer is in it" in page
    ((event_id,),) = bench.rows("SELECT event_id FROM send")
    kept = client.post("/checks/keep", data={"route": "received", "event": event_id})
    assert kept.status_code < 400, kept.text
    ((spec,),) = bench.rows('SELECT spec FROM "check"')
    customer = json.loads(spec)["customer"]
    assert (customer["kept"], customer["spent"]) == ({"level": "gold"}, {"EUR": "271.00"})
    client.post("/checks/run")
    assert bench.rows('SELECT passed FROM "check"') == [(1,)]


def test_a_cancelled_order_is_not_counted_as_bought(bench, client, level):
    deliver(bench, 1)
    ((person,),) = bench.rows("SELECT id FROM contact")
    assert "€135.50" in text(client.get(f"/people/{person}"))
    with bench.database.engine.begin() as connection:
        connection.exec_driver_sql("UPDATE event SET type = 'order.cancelled'")
    page = text(client.get(f"/people/{person}"))
    assert "total spent" not in page
    assert "HER-180" not in page
