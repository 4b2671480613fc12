"""The names of a source's events: chosen by clicking a delivery, each name given a meaning, kept deliveries read so."""

import html
import json

import pytest

from angelon.db.tables import SourceRow
from tests import made
from tests.web.test_pages import text

KINDS = ("placed", "placed", "shipped")


@pytest.fixture
def nameless(bench):
    """A source that does not know where its events' names stand, with three deliveries of two orders."""
    bench.change(made.source(event_name={}, event_names={}), SourceRow)
    for number, kind in enumerate(KINDS):
        body = {"meta": {"what": kind, "uid": f"e-{number}"}, **made.order(id=number // 2)}
        bench.deliver(json.dumps(body).encode(), store_delivery=f"d-{number}", store_event="")
    bench.plan()
    return bench


def names(bench):
    return bench.rows("SELECT name, type FROM event WHERE parent_id IS NULL ORDER BY received_at, id")


def test_it_is_said_where_deliveries_come_in_and_on_the_overview(nameless, client):
    assert "3 deliveries came in, and nothing says what happened in them" in text(client.get("/"))
    assert "Set event names" in text(client.get("/sources/shop/capture"))


def test_a_field_is_clicked_and_its_values_are_given_a_meaning(nameless, client):
    page = html.unescape(client.get("/sources/shop/event-names").text)
    assert "path=$.meta.what" in page
    assert page.index("$.meta.what") < page.index("$.total"), "fields with few values stand first"
    page = client.get("/sources/shop/event-names?path=$.meta.what").text
    assert page.count(" selected") == 0, "nothing is chosen beforehand"
    form = {
        "path": "$.meta.what",
        "theirs": ["placed", "shipped"],
        "ours": ["order.created", ""],
        "own_kind": ["", "a.b"],
    }
    said = text(client.post("/sources/shop/event-names", data=form, follow_redirects=True))
    assert "3 kept deliveries are read so; nobody was written to." in said
    assert names(nameless) == [("placed", "order.created")] * 2 + [("shipped", "a.b")]
    assert nameless.rows("SELECT count(*) FROM send")[0][0] == 0
    assert "no event names" not in text(client.get("/"))


def test_a_name_is_taken_out_and_what_is_no_type_is_told(nameless, client):
    form = {
        "path": "$.meta.what",
        "theirs": ["placed", "shipped"],
        "ours": ["order.created", "a.b"],
        "own_kind": ["", ""],
    }
    client.post("/sources/shop/event-names", data=form)
    wrong = client.post("/sources/shop/event-names", data=form | {"own_kind": ["", "no type at all"]})
    assert wrong.status_code == 422
    assert "which is no event type" in text(wrong)
    assert 'value="no type at all" selected' in wrong.text, "what was typed is still there"
    client.post("/sources/shop/event-names", data=form | {"ours": ["order.created", ""]})
    kept = nameless.services.setups.get(nameless.store_id).setup.sources["shop"].event_names
    assert kept == {"placed": "order.created"}


def test_saving_the_place_on_connect_reads_the_kept_ones_too(nameless, client):
    form = {"name": "Shop", "event_name.kind": "path", "event_name.text": "$.meta.what", "theirs": "placed"}
    said = text(client.post("/sources/shop/connect", data=form | {"ours": "order.created"}, follow_redirects=True))
    assert "3 kept deliveries are read so, too." in said
    assert names(nameless) == [("placed", "order.created")] * 2 + [("shipped", "")]


def test_a_source_without_deliveries_says_what_to_do(bench, client):
    assert "Watch for the first delivery" in text(client.get("/sources/shop/event-names"))


def test_a_list_of_orders_is_told_where_deliveries_come_in(bench, client):
    bench.deliver(json.dumps({"orders": [made.order(id=1), made.order(id=2)]}).encode(), store_delivery="d-1")
    bench.plan()
    assert "a list of orders, at $.orders" in text(client.get("/sources/shop/capture"))
