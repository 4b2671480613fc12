"""Connecting, capturing and mapping through the pages: suggestions, samples, drift, tables, kept steps."""

import base64
import datetime as dt
import hashlib
import hmac
import io
import json
import re
import time

import pytest

from angelon.core.specs import Source
from angelon.core.specs.stored import from_stored
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from tests import made
from tests.web.test_pages import bench_edit, post, publish_mapping, text


@pytest.fixture
def bare(bench):
    """The source without any mapping."""
    bench.change(made.source(reading={}, line={}, recipes={}), SourceRow)
    return bench


def stored(bench) -> Source:
    with bench.database.reading() as session:
        return from_stored(Source, specs.by_key(session, SourceRow, bench.store_id, "shop").spec)


def amounts(bench, client, *totals):
    for number, total in enumerate(totals):
        line = {"sku": "HER-180", "title": "Heron", "quantity": 1, "price": total}
        payload = json.loads(made.body(id=number, reference=f"BK-{number}", total=total, lines=[line]))
        bench.deliver(json.dumps(payload).encode(), store_delivery=f"a-{number}")
    bench_edit(client, act="take_sure")


HUNDREDTHS = "If the store tells them in hundredths (cents), it is"


def test_amounts_that_are_whole_numbers_are_asked_about_and_one_click_reads_them_in_hundredths(client, bare):
    amounts(bare, client, 129900, 25980)
    page = text(client.get("/sources/shop/read"))
    assert HUNDREDTHS in page
    assert "259,80" in page
    assert "Undo 2 suggestions" not in page, "taking all that is sure is one edit"
    bench_edit(client, act="hundredths")
    page = text(client.get("/sources/shop/read"))
    assert HUNDREDTHS not in page
    assert "Undo amounts in hundredths" in page
    publish_mapping(client)
    source = stored(bare)
    for recipe in (source.reading["total"], source.line["price"]):
        assert [step.given for step in recipe.steps] == [{"minor_units": True}]
    bench_edit(client, act="hundredths")  # once more changes nothing
    assert stored(bare) == source


@pytest.mark.parametrize("totals", [(129.5, 25), ("1299.00", "30"), (12, 999), (1299, 1299)])
def test_amounts_with_decimals_small_ones_and_a_single_one_are_not_asked_about(client, bare, totals):
    amounts(bare, client, *totals)
    assert HUNDREDTHS not in text(client.get("/sources/shop/read"))


def test_amounts_that_were_published_as_they_are_are_not_asked_about_again(client, bare):
    amounts(bare, client, 129900, 25980)
    publish_mapping(client)
    assert HUNDREDTHS not in text(client.get("/sources/shop/read"))


def test_a_new_source_shows_why_what_came_was_refused(client, bench):
    bench.change(made.source(signing={"header": "Store-Signature"}), SourceRow)
    with bench.database.connection() as connection:
        connection.exec_driver_sql("DELETE FROM event")
    page = text(client.get("/sources/shop/capture"))
    assert "Nothing has come in the last two days" not in page
    assert "Nothing has come in yet" in page
    assert bench.deliver(made.body()).status == 401
    page = ""
    for _ in range(100):  # it is stored beside the answer
        page = client.get("/sources/shop/capture").text
        if 'id="refused"' in page:
            break
        time.sleep(0.05)
    assert "What came was refused: the reason is below." in " ".join(page.split())
    assert " open>" in page[page.index('id="refused"') :]


def test_one_click_takes_all_that_is_sure_lines_included(client, bare):
    post(client)
    page = text(client.get("/sources/shop/read"))
    assert "suggestions are sure" in page
    assert "its name says total, and it looks like an amount" in page
    bench_edit(client, act="take_sure")
    publish_mapping(client)
    source = stored(bare)
    assert {
        part: r.path
        for part, r in source.reading.items()
        if part in ("email", "currency", "total", "lines", "language")
    } == {
        "email": "$.buyer.email",
        "currency": "$.currency",
        "total": "$.total",
        "lines": "$.lines",
        "language": "$.language",
    }
    assert {part: r.path for part, r in source.line.items()} == {
        "name": "$.title",
        "sku": "$.sku",
        "quantity": "$.quantity",
        "price": "$.price",
    }
    assert "1 × Heron" in text(client.get("/sources/shop/read"))


def test_one_suggestion_is_taken_and_corrected_by_a_click(client, bare):
    post(client)
    bench_edit(client, act="take", field="reading.number", recipe=json.dumps("$.reference"))
    bench_edit(client, act="path", field="reading.number", path="$.id")
    publish_mapping(client)
    assert stored(bare).reading["number"].path == "$.id"
    assert bench_edit(client, act="take", field="reading.number", recipe="{").status_code == 422


def test_a_click_on_an_item_s_field_maps_the_part_of_every_line(client, bench):
    post(client)
    bench_edit(client, act="path", field="line.sku", path="$.lines[0].quantity")
    publish_mapping(client)
    assert stored(bench).line["sku"].path == "$.quantity"


def test_a_recipe_is_shown_over_all_samples_with_the_missing_ones_a_click_away(client, bench):
    for number in range(3):
        post(client, made.body(id=number, reference=f"BK-{number}", total="1.00" if number else None))
    page = bench_edit(client, act="open", field="recipes.total")
    assert "A value in 2 of 3 samples; missing in BK-0" in text(page)


def test_a_sample_is_pasted_or_uploaded_read_and_never_sent(client, bench):
    response = client.post(
        "/sources/shop/sample",
        data={"body": made.body(reference="BK-99").decode(), "name": "placed"},
        follow_redirects=True,
    )
    assert "Kept as a sample" in text(response)
    assert "BK-99" in text(response)
    raw = b"Content-Type: application/json\nStore-Event: placed\n\n" + made.body(reference="BK-98")
    client.post("/sources/shop/sample", data={"file": (io.BytesIO(raw), "order.http")})
    assert bench.plan() == 0
    assert bench.rows("SELECT count(*) FROM send") == [(0,)]
    assert [row[0] for row in bench.rows("SELECT type FROM event")] == ["order.created"] * 2
    assert "Not kept: The body is not JSON" in text(
        client.post("/sources/shop/sample", data={"body": "{nope"}, follow_redirects=True)
    )


def test_a_delivery_is_pinned_and_copied_as_curl(client, bench):
    post(client)
    (event_id,) = bench.rows("SELECT id FROM event")[0]
    assert "Pinned" in text(client.post(f"/sources/shop/events/{event_id}/pin", follow_redirects=True))
    assert bench.rows("SELECT pinned FROM event") == [(1,)]
    page = text(client.get("/sources/shop/capture"))
    assert (
        "curl -X POST http://localhost/in/shop -H 'content-type: application/json' -H 'store-event: placed' "
        "--data-binary"
    ) in page
    assert b"Store-Event: placed" in client.get(f"/sources/shop/events/{event_id}.http").data


def test_two_samples_are_compared(client, bench):
    post(client, made.body(id=1))
    post(client, made.body(id=2, gift="yes", currency=None))
    page = text(client.get("/sources/shop/compare"))
    assert "$.gift" in page
    assert "Added 1 field" in page


def test_drift_is_shown_on_the_source_the_overview_and_the_route(client, bench):
    for number in range(12):
        post(client, made.body(id=number))
    for number in range(3):
        order = made.order(id=100 + number)
        del order["total"]
        post(client, json.dumps(order).encode())
    bench.plan()
    assert "drift" in text(client.get("/sources"))
    page = text(client.get("/sources/shop/read"))
    assert "$.total is missing in the last 3 deliveries; before that in all" in page
    assert "Drift: Shop" in text(client.get("/"))
    assert "$.total is missing in the last 3 deliveries" in text(client.get("/routes/received"))


def test_a_field_that_was_renamed_is_proposed_where_it_is_now(client, bench):
    for number in range(12):
        post(client, made.body(id=number))
    for number in range(3):
        order = made.order(id=100 + number)
        order["buyer"]["emailAddress"] = order["buyer"].pop("email")
        post(client, json.dumps(order).encode())
    bench.plan()
    page = client.get("/sources/shop/read?open=reading.email").text
    assert "It is probably here now:" in " ".join(page.split())
    assert 'aria-label="Accept: $.buyer.emailAddress for email"' in page
    (recipe,) = re.findall(r'value="reading.email"><input[^>]*name="recipe" value=\'(.*?)\'', page, re.S)[:1]
    bench_edit(client, act="take", field="reading.email", recipe=recipe.replace("&#34;", '"'))
    publish_mapping(client)
    assert stored(bench).reading["email"].path == "$.buyer.emailAddress"
    assert "It is probably here now:" not in " ".join(client.get("/sources/shop/read").text.split())


def test_a_table_is_kept_used_and_its_faults_told(client, bench):
    post(client)
    assert (
        "Line 2 of the table is no row"
        in bench_edit(client, act="set_table", table="short", rows="HER-180 = the Heron\nnonsense").json["detail"]
    )
    bench_edit(client, act="set_table", table="short", rows="HER-180 = the Heron\nLIN-050 = a line")
    bench_edit(client, act="new_variable", name="first_sku", path="$.lines[0].sku")
    page = bench_edit(client, act="add_step", field="recipes.first_sku", do="lookup", **{"p.table": "short"})
    assert "the Heron" in text(page)
    twin = bench_edit(client, act="new_table", table="Short", rows="A = b")
    assert "There is a table called “short” already." in twin.json["detail"]
    page = bench_edit(client, act="rename_table", table="short", name="Short names")
    assert "the Heron" in text(page)
    assert "“short”" not in text(page)
    bench_edit(client, act="copy_table", table="short_names")
    assert "short_names_2" in text(bench_edit(client, act="drop_table", table="nothing"))
    bench_edit(client, act="drop_table", table="short_names_2")
    bench_edit(client, act="rename_table", table="short_names", name="short")
    refused = bench_edit(client, act="drop_table", table="short")
    assert (refused.status_code, refused.json["detail"]) == (
        422,
        "The table “short” is used in Shop (the mapping of first_sku). Take the step out first.",
    )
    bench_edit(client, act="drop_step", field="recipes.first_sku", number="0")
    assert bench_edit(client, act="drop_table", table="short").status_code == 200
    assert stored(bench).lookups == {}


def test_steps_are_kept_under_a_name_and_used_again(client, bench):
    post(client)
    bench_edit(client, act="new_variable", name="a", path="$.buyer.name")
    for step in ("strip", "upper"):
        bench_edit(client, act="add_step", field="recipes.a", do=step)
    page = bench_edit(client, act="share_steps", field="recipes.a", name_of_steps="loud name")
    assert "run, steps “loud_name”" in text(page)
    bench_edit(client, act="new_variable", name="b", path="$.state")
    page = bench_edit(client, act="add_step", field="recipes.b", do="run", **{"p.steps": "loud_name"})
    assert "PAID" in text(page)
    assert "loud_name strip · upper" in text(page)
    publish_mapping(client)
    assert [s.do for s in stored(bench).shared_steps["loud_name"]] == ["strip", "upper"]
    bench_edit(client, act="rename_steps", table="loud_name", name="Shouted")
    assert "Delete shouted" in text(bench_edit(client, act="copy_steps", table="shouted"))
    bench_edit(client, act="drop_steps", table="shouted_2")
    bench_edit(client, act="rename_steps", table="shouted", name="loud_name")
    refused = bench_edit(client, act="drop_steps", table="loud_name")
    assert (
        "The steps “loud_name” are used in Shop (the mapping of a), Shop (the mapping of b)" in refused.json["detail"]
    )
    for variable in ("a", "b"):
        bench_edit(client, act="drop_step", field=f"recipes.{variable}", number="0")
    assert bench_edit(client, act="drop_steps", table="loud_name").status_code == 200
    publish_mapping(client)
    assert stored(bench).shared_steps == {}


def test_kept_steps_that_run_one_another_end_with_a_reason():
    from angelon.core.recipes.evaluate import as_variable
    from angelon.core.specs.variable import Recipe, Step

    shared = {"a": [Step.model_validate({"run": {"steps": "b"}})], "b": [Step.model_validate({"run": {"steps": "a"}})]}
    made_ = as_variable(
        {"x": "1"}, Recipe.model_validate({"path": "$.x", "steps": [{"run": {"steps": "a"}}]}), shared=shared
    )
    assert "in a circle" in made_.problem.what


def test_the_rarer_settings_of_a_source_are_kept_and_their_faults_told(client, bench):
    form = {
        "name": "Shop",
        "signing.scheme": "none",
        "more": "1",
        "on": "yes",
        "orders_at": "$.orders",
        "same_body_minutes": "5",
        "country": "de",
        "allow_from": "192.0.2.0/24\n127.0.0.1",
        "challenge.method": "GET",
        "challenge.parameter": "echo",
        "status": ["sent", ""],
        "status_means": ["parcel.picked_up", ""],
    }
    assert client.post("/sources/shop/connect", data=form).status_code == 302
    source = stored(bench)
    assert (source.orders_at, source.same_body_minutes, source.country, source.allow_from) == (
        "$.orders",
        5,
        "DE",
        ["192.0.2.0/24", "127.0.0.1"],
    )
    assert source.challenge.parameter == "echo"
    assert source.statuses == {"sent": "parcel.picked_up"}
    response = client.post(
        "/sources/shop/connect", data=form | {"allow_from": "everybody", "orders_at": "$.[", "country": "Germany"}
    )
    assert response.status_code == 422
    assert "“everybody” is no IP address or network" in text(response)


def test_statuses_that_were_seen_are_offered_for_a_meaning(client, bench):
    post(client, made.body(state="sewn"))
    bench.plan()
    assert 'value="sewn"' in client.get("/sources/shop/connect").get_data(as_text=True)


def test_a_megabyte_of_payload_leaves_the_bench_usable(client, bare):
    lines = [
        {"title": f"a rather long title of a kite number {n}", "quantity": n, "note": "x" * 40} for n in range(8000)
    ]
    assert post(client, json.dumps(made.order(lines=lines)).encode()[:1_048_576]).status_code in (202, 400)
    assert post(client, json.dumps(made.order(lines=lines[:7000])).encode()).status_code == 202
    bare.plan()
    page = client.get("/sources/shop/read")
    assert page.status_code == 200
    assert len(page.data) < 600_000


def refused_delivery(client, bench, secret="a-key-of-the-shop", body=None):
    """A delivery signed otherwise than the source expects; what the page of deliveries then says."""
    body = body or made.body()
    made_signature = base64.b64encode(hmac.new(secret.encode(), body, hashlib.sha256).digest()).decode()
    headers = {"Content-Type": "application/json", "Store-Event": "placed", "X-Quay-Hmac": made_signature}
    before = bench.rows("SELECT count(*) FROM refused")
    assert client.post("/in/shop", data=body, headers=headers).status_code == 401
    until = time.monotonic() + 10
    while bench.rows("SELECT count(*) FROM refused") == before and time.monotonic() < until:
        time.sleep(0.02)  # it is kept a moment after the answer
    return bench.rows("SELECT id FROM refused ORDER BY id DESC LIMIT 1")[0][0], headers, body


@pytest.fixture
def signed(bench):
    """The source, that expects signatures in a header of its own, with a secret."""
    bench.change(made.source(signing={"header": "Store-Signature"}), SourceRow)
    with bench.database.writing() as session:
        row = specs.by_key(session, SourceRow, bench.store_id, "shop")
        bench.vault.put(session, "source", row.id, "a-key-of-the-shop", bench.clock.now())
        specs.touch(session, bench.store_id)
    return bench


def test_the_way_of_signing_is_taken_from_a_refused_delivery_by_one_click(client, signed):
    id_, headers, body = refused_delivery(client, signed)
    page = text(client.get("/sources/shop/capture"))
    assert "The signature is probably in X-Quay-Hmac , written in base64. It matches this source’s secret." in page
    done = client.post(f"/sources/shop/refused/{id_}/signing", follow_redirects=True)
    assert "The signature is now read from X-Quay-Hmac" in text(done)
    assert client.post("/in/shop", data=body, headers=headers).status_code == 202
    assert client.post("/in/shop", data=body + b" ", headers=headers).status_code == 401


def test_with_another_secret_it_is_said_that_the_store_s_own_is_needed(client, signed):
    refused_delivery(client, signed, "some-other-secret")
    assert "It does not match this source’s secret: paste the store’s own" in text(client.get("/sources/shop/capture"))


def test_a_refused_delivery_is_kept_as_a_sample_and_nobody_is_written_to(client, signed):
    id_, _, _ = refused_delivery(client, signed)
    done = client.post(f"/sources/shop/refused/{id_}/sample", follow_redirects=True)
    assert "Kept as a sample" in text(done)
    assert signed.plan() == 0
    assert [row[0] for row in signed.rows("SELECT type FROM event")] == ["order.created"]
    assert client.post("/sources/shop/refused/999/sample").status_code == 404
    assert client.post("/sources/shop/refused/999/signing").status_code == 404


def test_a_refused_delivery_that_is_no_order_or_too_large_says_so(client, signed):
    id_, _, _ = refused_delivery(client, signed, body=b"{nope")
    assert "Not kept: The body is not JSON" in text(
        client.post(f"/sources/shop/refused/{id_}/sample", follow_redirects=True)
    )
    id_, _, _ = refused_delivery(client, signed, body=made.body(note="x" * 70_000))
    assert "was not kept whole" in text(client.post(f"/sources/shop/refused/{id_}/sample", follow_redirects=True))


def test_a_signing_secret_is_shown_for_ten_minutes_and_never_again(client, bench):
    client.post("/sources", data={"name": "Lamps"})
    page = client.get("/sources/lamps/connect").get_data(as_text=True)
    secret = re.search(r'id="secret-1">([^<]+)<', page)[1]
    assert "it is shown until" in text(client.get("/sources/lamps/connect"))
    later = bench.clock.now() + dt.timedelta(minutes=11)
    bench.clock.now = lambda: later
    page = client.get("/sources/lamps/connect").get_data(as_text=True)
    assert secret not in page
    assert "It is not shown again." in " ".join(page.split())
    client.post("/sources/lamps/secret", data={"secret": "whsec_of-the-store-itself-123", "overlap_hours": "1"})
    page = client.get("/sources/lamps/connect").get_data(as_text=True)
    assert "whsec_of-the-store-itself-123" in page
    assert secret not in page
    assert "An older one, made" in " ".join(page.split())
