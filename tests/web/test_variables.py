"""A variable renamed with all that uses it, copied, deleted and brought back, by its page's own requests."""

import json

import pytest

from angelon.core.usage import of_name, renamed
from angelon.db.setup import live_setup, specs
from angelon.db.tables import MessageRow, SourceRow
from angelon.engine.past.usage import among
from tests import made
from tests.core.test_usage import around
from tests.web.test_pages import bench_edit, post, publish_mapping, text


def live(bench):
    with bench.database.reading() as session:
        return live_setup.load(session, bench.store_id)


def uses(bench, name):
    with bench.database.reading() as session:
        return [str(use) for use in of_name(name, among(session, live_setup.load(session, bench.store_id)))]


def source_row(bench):
    with bench.database.reading() as session:
        return specs.by_key(session, SourceRow, bench.store_id, "shop")


@pytest.mark.parametrize("name", ["gift_note", "nick", "vip", "expected_on", "carrier", "collect_by", "problem"])
def test_wherever_a_name_is_found_it_is_changed_and_nothing_else_is(name):
    before = around()
    dumped = [spec.model_dump(mode="json") for spec in (*before.messages, *before.routes)]
    after = [renamed(data, name, "fresh") for data in dumped]
    assert sum(old != new for old, new in zip(dumped, after, strict=True)) == 1
    assert [renamed(data, "fresh", name) for data in after] == dumped


@pytest.mark.parametrize(
    ("said", "wanted"),
    [
        ("{{ total }} and total", "{{ sum }} and total"),
        ("{{ order.total }} {{ total|upper }}", "{{ order.total }} {{ sum|upper }}"),
        ("{{ 'total' if total > 1 else \"total\" }}", "{{ 'total' if sum > 1 else \"total\" }}"),
        ("{% if total == 2 %}{{ f(total=1) }}{% endif %}", "{% if sum == 2 %}{{ f(total=1) }}{% endif %}"),
        ("{{ totals }} {{ subtotal }}", "{{ totals }} {{ subtotal }}"),
    ],
)
def test_in_a_text_only_the_variable_itself_is_changed(said, wanted):
    assert renamed({"text": said}, "total", "sum") == {"text": wanted}


def test_the_parts_of_an_item_are_no_variables():
    step = {"steps": [{"each": {"text": "{{ title }}"}}, {"template": {"text": "{{ title }}"}}]}
    made_ = renamed(step, "title", "heading")
    assert made_ == {"steps": [{"each": {"text": "{{ title }}"}}, {"template": {"text": "{{ heading }}"}}]}


def test_a_renamed_variable_is_renamed_in_texts_drafts_recipes_and_for_sends_that_wait(client, bench):
    post(client)
    with bench.database.writing() as session:
        row = specs.by_key(session, MessageRow, bench.store_id, "received")
        row.draft = made.message(sms={"en": {"text": "{{ total }}"}}).model_dump(mode="json")
    bench_edit(client, act="path", field="recipes.customer_name", path="$.id")
    bench.plan()
    assert "gesamt" in text(bench_edit(client, act="rename_variable", field="recipes.total", name="Gesamt"))
    now = live(bench)
    assert "gesamt" in now.setup.variables
    assert "total" not in now.setup.variables
    assert now.setup.sources["shop"].recipes["gesamt"].path == "$.total"
    assert uses(bench, "total") == []
    assert uses(bench, "gesamt") == ["Received (email in en)", "Received (email in de)", "Received (SMS in en)"]
    draft = source_row(bench).draft
    assert draft is not None
    assert draft["recipes"]["customer_name"]["path"] == "$.id"
    assert ("gesamt" in draft["recipes"], "total" in draft["recipes"]) == (True, False)
    bench_edit(client, act="undo")
    publish_mapping(client)
    assert live(bench).setup.sources["shop"].recipes["gesamt"].path == "$.total"
    bench.dispatcher().run_batch()
    reason, values = bench.rows('SELECT reason, "values" FROM send')[0]
    assert "gesamt" in json.loads(values), reason


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("items", "There is a variable “items” already."),
        ("order", "stands for the order itself"),
        ("12", "starts with a letter"),
        ("…", "starts with a letter"),
    ],
)
def test_a_name_that_is_taken_or_none_is_refused_and_nothing_is_changed(client, bench, name, said):
    before = live(bench)
    told = bench_edit(client, act="rename_variable", field="recipes.total", name=name)
    assert said in told.get_json()["detail"]
    assert live(bench).setup.variables == before.setup.variables
    assert live(bench).setup.messages == before.setup.messages


def test_a_copy_has_the_recipes_and_one_deleted_comes_back_with_them(client, bench):
    assert "total_2" in text(bench_edit(client, act="copy_variable", field="recipes.total"))
    assert live(bench).setup.sources["shop"].recipes["total_2"].path == "$.total"
    assert live(bench).setup.variables["total_2"].type == "money"
    gone = text(bench_edit(client, act="drop_variable", field="recipes.total_2"))
    assert "The variable total_2 is deleted." in gone
    assert "total_2" not in live(bench).setup.sources["shop"].recipes
    bench_edit(client, act="restore_variable", field="recipes.total_2")
    assert live(bench).setup.sources["shop"].recipes["total_2"].path == "$.total"
    bench_edit(client, act="drop_variable", field="recipes.total_2")
    page = text(client.get("/changes?kind=variable"))
    assert "total_2 deleted" in page
    assert "Restore" in page
    told = client.post("/upkeep/variable/total_2/restore", follow_redirects=True)
    assert "“total_2” is back, with its mapping." in text(told)
    client.post("/upkeep/variable/total_2/restore")
    assert live(bench).setup.variables["total_2"].type == "money"
    assert client.post("/upkeep/variable/none/restore").status_code == 404


def test_a_variable_whose_value_is_an_address_is_used_by_the_route(client, bench):
    route = made.route(to=[{"kind": "variable", "who": "gift_note"}])
    found = of_name("gift_note", around_route(route))
    assert [str(use) for use in found] == ["Received (its recipients)"]
    assert renamed(route.model_dump(mode="json"), "gift_note", "x")["to"][0]["who"] == "x"


def around_route(route):
    import dataclasses

    return dataclasses.replace(around(), messages=(), routes=(route,))
