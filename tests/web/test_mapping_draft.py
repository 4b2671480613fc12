"""The mapping's draft: what it does before it is live, undone, published, brought back, two people at once."""

import json

import pytest

from angelon.core.specs import Source
from angelon.core.specs.mapping import Mapping
from angelon.db.setup import changes, checks, mappings, specs
from angelon.db.tables import SourceRow
from tests import made
from tests.web.test_pages import bench_edit, post, publish_mapping, text
from tests.web.test_source_pages import stored


def draft_of(bench):
    with bench.database.reading() as session:
        return specs.by_key(session, SourceRow, bench.store_id, "shop").draft


def test_an_edit_changes_nothing_that_goes_out_until_it_is_published(client, bench):
    post(client)
    page = text(bench_edit(client, act="path", field="recipes.total", path="$.reference"))
    assert "1 change is not live yet: total" in page
    post(client, made.body(id=2, reference="BK-2"))
    bench.plan()
    values = [json.loads(row[0])["total"] for row in bench.rows('SELECT "values" FROM send ORDER BY id')]
    assert len(values) == 2
    assert all("135" in json.dumps(value) for value in values)
    assert "Revision 2 of the mapping is live" in text(publish_mapping(client))
    assert (draft_of(bench), stored(bench).recipes["total"].path) == (None, "$.reference")


def test_what_a_draft_does_to_the_samples_is_shown_value_by_value(client, bench):
    for number in range(3):
        post(client, made.body(id=number, reference=f"BK-{number}"))
    page = text(bench_edit(client, act="path", field="reading.number", path="$.id"))
    assert "What it does to 3 samples: 1 value differs" in page
    assert "order.number ± 3 other BK-2 BK-2 2" in page
    page = text(bench_edit(client, act="path", field="recipes.total", path="$.nothing"))
    assert "total − 3 missing" in page


def test_edits_are_undone_one_by_one_and_a_draft_like_the_live_one_is_none(client, bench):
    post(client)
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    page = text(bench_edit(client, act="path", field="reading.number", path="$.id"))
    assert "2 changes are not live yet" in page
    assert "Undo number: $.id" in page
    page = text(bench_edit(client, act="undo"))
    assert "1 change is not live yet: total" in page
    assert "Undo total: $.id" in page
    page = text(bench_edit(client, act="undo"))
    assert "not live yet" not in page
    assert draft_of(bench) is None
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    bench_edit(client, act="path", field="recipes.total", path="$.total")
    assert draft_of(bench) is None
    assert "There is no draft" in text(publish_mapping(client))


def test_a_draft_is_discarded_and_an_older_revision_brought_back(client, bench):
    post(client)
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    assert "The draft is discarded" in text(client.post("/sources/shop/read/discard", follow_redirects=True))
    assert (draft_of(bench), bench.rows("SELECT count(*) FROM mapping_step")) == (None, [(0,)])
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    publish_mapping(client)
    page = text(client.post("/sources/shop/read/restore", data={"revision": "1"}, follow_redirects=True))
    assert "Revision 1 is the draft now" in page
    assert stored(bench).recipes["total"].path == "$.id"
    publish_mapping(client)
    assert stored(bench).recipes["total"].path == "$.total"
    assert client.post("/sources/shop/read/restore", data={"revision": "77"}).status_code == 404


def test_what_is_in_use_is_unmapped_only_when_it_is_said_so_and_never_deleted(client, bench):
    post(client)
    page = text(bench_edit(client, act="open", field="recipes.customer_name"))
    assert "Used in Received (email in en), Received (email in de)" in page
    refused = bench_edit(client, act="drop_variable", field="recipes.customer_name")
    assert "is used in Received (email in en), Received (email in de)" in refused.json["detail"]
    page = text(bench_edit(client, act="clear", field="recipes.customer_name"))
    assert "customer_name is no longer mapped, and is used in Received" in page
    asked = publish_mapping(client)
    assert asked.status_code == 409
    assert "customer_name would no longer be mapped, and is used in Received (email in en)" in text(asked)
    assert "customer_name" in stored(bench).recipes
    assert "is live" in text(publish_mapping(client, override="yes"))
    assert "customer_name" not in stored(bench).recipes
    assert "customer_name is no longer mapped." in text(client.get("/sources/shop/read"))


def test_a_check_that_a_draft_would_fail_stops_it_until_it_is_overridden(client, bench):
    post(client)
    bench.plan()
    (event_id,) = bench.rows("SELECT id FROM event")[0]
    client.post("/checks/keep", data={"route": "received", "event": event_id})
    with bench.database.reading() as session:
        assert len(checks.all_of(session, bench.store_id)) == 1
    bench_edit(client, act="path", field="recipes.total", path="$.reference")
    asked = publish_mapping(client)
    assert asked.status_code == 409
    assert "1 check would fail" in text(asked)
    assert stored(bench).recipes["total"].path == "$.total"
    assert "is live" in text(publish_mapping(client, override="yes"))
    assert "Went live although failed" in text(client.get("/sources/shop/read"))


def test_of_two_who_edit_at_once_both_edits_are_kept_and_none_is_published_unseen(client, bench):
    post(client)
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    seen = bench.rows("SELECT edits FROM source")[0][0]
    bench_edit(client, act="path", field="reading.number", path="$.id")  # somebody else, meanwhile
    page = text(publish_mapping(client, edits=str(seen)))
    assert "The mapping was changed while you looked at it" in page
    assert draft_of(bench)["recipes"]["total"] == "$.id"
    assert draft_of(bench)["reading"]["number"] == "$.id"
    now = bench.rows("SELECT edits FROM source")[0][0]
    assert "is live" in text(publish_mapping(client, edits=str(now)))


def test_a_draft_that_can_not_be_read_is_told_and_discarded_and_the_live_mapping_goes_on(client, bench):
    post(client)
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    with bench.database.writing() as session:
        row = specs.by_key(session, SourceRow, bench.store_id, "shop")
        row.draft = {"format": 2, "reading": {"email": {"nonsense": 1}}}
    page = client.get("/sources/shop/read")
    assert page.status_code == 200
    assert "The draft can’t be read as it is stored" in text(page)
    post(client, made.body(id=5, reference="BK-5"))
    assert bench.plan() == 2
    client.post("/sources/shop/read/discard")
    assert "can’t be read as it is stored" not in text(client.get("/sources/shop/read"))


def test_what_a_draft_does_to_sends_is_compared_event_by_event(client, bench):
    for number in range(3):
        post(client, made.body(id=number, reference=f"BK-{number}"))
    bench.plan()
    bench_edit(client, act="path", field="reading.email", path="$.nobody")
    assert client.get("/sources/shop/read/effect").status_code == 200
    lines = client.get("/sources/shop/read/effect/run?span=100").get_data(as_text=True).splitlines()
    told = json.loads(lines[-1])["html"]
    assert "3</b><span>events" in told.replace("\n", "")
    assert "− gone" in told


def test_a_bundle_that_is_applied_is_a_revision_and_a_draft_of_the_same_is_none(bench, client):
    with bench.database.writing() as session:
        row = specs.by_key(session, SourceRow, bench.store_id, "shop")
        specs.save_live(session, SourceRow, bench.store_id, made.source(decimal_sign=","), bench.clock.now())
        assert len(specs.revisions(session, mappings.KIND, row.id)) == 1  # nothing of the mapping changed
        changed = made.source(recipes={"total": "$.id"})
        specs.save_live(session, SourceRow, bench.store_id, changed, bench.clock.now())
        assert [one.number for one in specs.revisions(session, mappings.KIND, row.id)] == [2, 1]


@pytest.mark.parametrize("act", ["path", "undo", "take_sure", "set_table", "nothing"])
def test_who_changed_the_mapping_is_kept_once_it_is_live(client, bench, act):
    post(client)
    bench_edit(client, act="path", field="recipes.total", path="$.id")
    publish_mapping(client)
    with bench.database.reading() as session:
        last = changes.listed(session, bench.store_id, "source", "shop", 1)[0]
    assert (last.action, last.actor) == ("mapping published", "this machine")
    assert bench_edit(client, act=act, field="").status_code in (200, 422)


def test_the_parts_of_a_mapping_are_those_of_a_source_of_the_same_kinds():
    for name, part in Mapping.model_fields.items():
        assert part.annotation == Source.model_fields[name].annotation, name


def test_what_only_an_unmapped_recipe_used_is_no_loss(client, bench):
    post(client)
    bench_edit(client, act="new_variable", name="a", path="$.buyer.name")
    bench_edit(client, act="new_variable", name="b", path="$.state")
    page = bench_edit(client, act="add_step", field="recipes.b", do="template", **{"p.text": "{{ value }} {{ a }}"})
    assert "paid Jörg" in " ".join(text(page).split())
    publish_mapping(client)
    for name in ("a", "b"):
        bench_edit(client, act="clear", field=f"recipes.{name}")
    assert publish_mapping(client).status_code == 200


def test_of_the_sure_suggestions_single_ones_are_left_out(client, bench):
    bench.change(made.source(reading={}, line={}, recipes={}), SourceRow)
    post(client)
    page = client.get("/sources/shop/read").text
    assert 'name="want" value="reading.email" checked' in page
    form = {"act": "take_sure", "listed": ["reading.email", "reading.total"], "want": ["reading.total"]}
    client.post("/sources/shop/read", data=form)
    assert "email" not in draft_of(bench)["reading"]
    assert "total" in draft_of(bench)["reading"]
    form = {"act": "take_sure", "listed": ["reading.email"]}
    assert "Nothing is ticked." in text(client.post("/sources/shop/read", data=form, follow_redirects=True))


def test_a_mapping_that_parts_one_order_or_mixes_two_is_asked_about(client, bench):
    for number in range(3):
        order = made.order(id=77, reference="BK-77", uid=f"evt_{number}", quantity=2)
        post(client, json.dumps(order).encode())
    bench_edit(client, act="path", field="reading.reference", path="$.uid")
    said = publish_mapping(client)
    assert said.status_code == 409
    assert "Order BK-77 would be 3 orders: its deliveries differ in the reference (evt_0, evt_1, evt_2)" in text(said)
    assert stored(bench).reading["reference"].path == "$.id"
    other = made.order(id=78, reference="BK-78", quantity=2, buyer={"name": "B", "email": "b@example.org"})
    post(client, json.dumps(other).encode())
    bench_edit(client, act="path", field="reading.reference", path="$.quantity")
    said = text(publish_mapping(client))
    assert "“2” would be one order of 2 customers (b@example.org, joerg@example.org)" in said
    client.post("/sources/shop/read/publish", data={"override": "yes"})
    assert stored(bench).reading["reference"].path == "$.quantity", "who insists is believed"
