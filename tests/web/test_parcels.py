"""Parcels on pages: a number typed, a file tried and taken, carriers, and what customers see of it."""

import csv
import io
import re

import pytest

from angelon.client import models
from angelon.core.access import may
from angelon.core.specs import Source
from angelon.core.specs.carrier import Carrier
from angelon.core.specs.store import Store
from angelon.core.specs.stored import from_stored
from angelon.db.setup import specs
from angelon.db.tables import RouteRow, SourceRow, StoreRow
from angelon.engine.clock import utc_now
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations import parcels as operations
from angelon.engine.orders.parcels import Parcels
from angelon.engine.unit import Actor
from angelon.web.customers import proofs
from tests import made
from tests.engine.test_parcels import shop  # noqa: F401 - a fixture
from tests.web.test_api import api
from tests.web.test_forms import fields
from tests.web.test_pages import post, text

__all__ = ["api"]
GANNET = {
    "key": "gannet",
    "name": "Gannet Post",
    "names": {"de": "Basstölpel-Post"},
    "forms": [{"shape": "@@#########@@", "check": "s10"}],
    "link": "https://gannet.example/f/{number}",
    "days": 3,
}
EIDER = {"key": "eider", "name": "Eiderline", "forms": [{"shape": "@@#########@@", "check": "s10"}]}
SALTWAY = {"key": "saltway", "name": "Saltway Couriers", "forms": [{"shape": "SW########"}]}
ONE, TWO = "RR473124829GB", "SW00002220"
ORDER = {"buyer": {"name": "Jo", "email": "jo@example.org", "phone": "+49 30 23125014"}}


def set_up(bench, **changes):
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        spec = {"carriers": [GANNET, SALTWAY], "base_url": "https://shop.example"} | changes
        row.spec = from_stored(Store, row.spec | spec).plain()
        specs.touch(session, row.id)
    bench.services.setups.forget()


@pytest.fixture
def order_id(bench, client, monkeypatch):
    monkeypatch.setattr(proofs, "AT_LEAST", 0)
    for limits in (proofs.by_asker, proofs.by_all):
        limits._left.clear() if hasattr(limits, "_left") else None
    set_up(bench, pages={"follow": True})
    post(client, made.body(placed_at=utc_now().isoformat(), **ORDER))
    bench.plan()
    return bench.rows('SELECT id FROM "order"')[0].id


def add(client, order_id, number=ONE, **more):
    return client.post(f"/parcels/of/{order_id}", data={"number": number, **more}, follow_redirects=True)


def test_a_number_is_added_its_carrier_known_by_it_and_its_stage_set(bench, client, order_id):
    added = add(client, order_id, "rr 473 124 829 gb")
    assert "The parcel rr 473 124 829 gb is added, brought by Gannet Post." in text(added)
    assert "https://gannet.example/f/RR473124829GB" in added.get_data(as_text=True)
    (parcel,) = bench.rows("SELECT id, carrier, stage FROM parcel")
    assert (parcel.carrier, parcel.stage) == ("gannet", "label_printed")
    moved = client.post(f"/parcels/{parcel.id}", data={"order": order_id, "stage": "out_for_delivery"})
    assert moved.status_code == 302
    bench.plan()
    assert bench.rows("SELECT stage FROM parcel")[0].stage == "out_for_delivery"
    types = {row.type for row in bench.rows("SELECT type FROM event WHERE was LIKE 'pc-%'")}
    assert types == {"parcel.added", "parcel.out_for_delivery", "order.shipped"}
    page = text(client.get(f"/orders/{order_id}"))
    assert "out for delivery" in page
    assert "Parcel RR473124829GB: out for delivery" in page.replace("rr 473 124 829 gb", ONE)
    client.post(f"/parcels/{parcel.id}", data={"order": order_id, "act": "take_out"})
    assert bench.rows("SELECT count(*) FROM parcel") == [(0,)]


def test_stages_go_forward_and_a_delivery_can_be_taken_back(bench, client, order_id):
    add(client, order_id)
    (parcel,) = bench.rows("SELECT id FROM parcel")

    def move(stage):
        moved = client.post(f"/parcels/{parcel.id}", data={"order": order_id, "stage": stage}, follow_redirects=True)
        return text(moved), bench.rows("SELECT stage FROM parcel")[0].stage

    assert move("delivered")[1] == "delivered"
    for stage in ("in_transit", "delivered"):
        said, now = move(stage)
        assert "It is “delivered” already, and stages only go forward." in said
        assert "choose “not delivered after all”" in said
        assert now == "delivered"
    assert "It is noted." in move("not_delivered")[0]
    assert move("in_transit")[1] == "in_transit"
    assert move("delivered")[1] == "delivered"


def test_a_parcel_of_long_ago_is_set_and_none_is_made_beside_it(bench, client, order_id):
    add(client, order_id)
    (parcel,) = bench.rows("SELECT id FROM parcel")
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE parcel SET last_at = 0")
        connection.exec_driver_sql("DELETE FROM parcel_line")
    client.post(f"/parcels/{parcel.id}", data={"stage": "delivered"})
    assert [tuple(row) for row in bench.rows("SELECT id, stage FROM parcel")] == [(parcel.id, "delivered")]


def test_the_same_number_twice_is_one_parcel_and_one_event(bench, client, order_id):
    for _ in range(3):
        add(client, order_id)
    bench.plan()
    assert bench.rows("SELECT count(*) FROM parcel") == [(1,)]
    assert bench.rows("SELECT count(*) FROM event WHERE type = 'parcel.added'") == [(1,)]


@pytest.mark.parametrize(
    ("number", "said"),
    [
        ("", "The number is empty"),
        ("  - ", "is no parcel’s number"),
        ("RR473124828GB", "its check digit does not"),
        ("ZZZ-1234-99", "has the form of no carrier that is on"),
    ],
)
def test_a_number_that_does_not_settle_it_is_asked_about_and_stays_typed(bench, client, order_id, number, said):
    refused = add(client, order_id, number)
    assert refused.status_code == 422
    assert said in text(refused)
    assert f'value="{number}"' in refused.get_data(as_text=True)
    assert bench.rows("SELECT count(*) FROM parcel") == [(0,)]


def test_where_two_carriers_could_be_it_a_person_chooses(bench, client, order_id):
    set_up(bench, carriers=[GANNET, EIDER])
    assert "Choose the carrier" in text(client.get(f"/parcels/guess/{order_id}?number={ONE}"))
    refused = add(client, order_id)
    assert refused.status_code == 422
    assert "Gannet Post (its form and check digit fit)" in text(refused)
    assert "brought by Eiderline" in text(add(client, order_id, carrier="eider"))
    assert "There is no such carrier" in text(add(client, order_id, carrier="gone"))


def test_without_carriers_a_number_is_taken_as_it_is(bench, client, order_id):
    set_up(bench, carriers=[])
    assert "The parcel HOME-1 is added." in text(add(client, order_id, "HOME-1"))


FILE = f"""Order;Tracking number;Carrier;Status;At;Expected
BK-7;{ONE};Gannet Post;in transit;2026-11-28 10:00;30.11.2026
BK-7;{TWO};;;;
BK-9;{TWO};;;;
BK-7;x;;;;
BK-7;{TWO};Nobody;;;
BK-7;{TWO};;perched;;
BK-7;{TWO};;;gestern;
"""


def read(client, data, **form):
    given = {"file": (io.BytesIO(data.encode()), "parcels.csv"), **form}
    return client.post("/parcels/file", data=given, content_type="multipart/form-data")


def test_a_file_is_tried_says_what_is_wrong_by_line_and_is_taken_once(bench, client, order_id):
    tried = read(client, FILE)
    page = text(tried)
    assert "2 lines can be taken" in page
    for line in (
        "line 4",
        "order BK-9 is not known",
        "has no parcel’s number",
        "there is no carrier “Nobody”",
        "nobody knows what “perched” means",
        "“gestern” is no day",
    ):
        assert line in page
    assert bench.rows("SELECT count(*) FROM parcel") == [(0,)]
    digest = re.search(r'name="digest" value="(\w+)"', tried.get_data(as_text=True))[1]
    taken = client.post("/parcels/file", data={"digest": digest, "heard": "added"})
    assert "2 of 7 lines were taken." in text(taken)
    rows = bench.rows("SELECT number, carrier, stage, expected_on FROM parcel ORDER BY id")
    assert [tuple(row) for row in rows] == [
        (ONE, "gannet", "in_transit", "2026-11-30"),
        (TWO, "saltway", "label_printed", ""),
    ]
    bench.plan()
    heard = [row.type for row in bench.rows("SELECT type FROM event WHERE was LIKE 'pc-%'")]
    assert heard == ["parcel.added", "parcel.added"], "stages are told to nobody"
    again = client.post("/parcels/file", data={"digest": digest}, follow_redirects=True)
    assert "The file is no longer here." in text(again)
    read(client, FILE)
    client.post("/parcels/file", data={"digest": digest, "heard": "everything"})
    bench.plan()
    assert bench.rows("SELECT count(*) FROM parcel") == [(2,)]
    assert len(bench.rows("SELECT 1 FROM event WHERE type = 'parcel.added'")) == 2


@pytest.mark.parametrize(
    ("data", "said"),
    [
        ("", "Choose a file"),
        ("a,b\n1,2\n", "has no column order"),
        ("order,what\n1,2\n", "has no column number"),
        ("order,number\n\x00", "is no CSV"),
        ("../digest", "no longer here"),
    ],
)
def test_a_file_that_is_none_is_refused_in_words(client, order_id, data, said):
    refused = read(client, data) if data != "../digest" else client.post("/parcels/file", data={"digest": data})
    assert said in text(client.get(refused.headers["location"])) if refused.status_code == 302 else text(refused)


def test_what_is_exported_can_be_read_again(bench, client, order_id):
    add(client, order_id)
    out = client.get("/parcels/all.csv").get_data(as_text=True)
    assert out.splitlines()[1].startswith(f"BK-7,{ONE},Gannet Post,label_printed,")
    assert "1 line can be taken" in text(read(client, out))


def test_what_is_in_a_parcel_and_which_order_it_waits_for_are_exported(bench, client, api, order_id):
    lines = [{"sku": "A", "title": "Sled", "quantity": 1}, {"sku": "B", "title": "Rope", "quantity": 2}]
    plain = made.source().model_dump(mode="json")
    bench.change(Source.model_validate(plain | {"line": plain["line"] | {"sku": "$.sku"}}), SourceRow)
    post(client, made.body(id=1, reference="BK-8", lines=lines, **ORDER))
    bench.plan()
    add(client, bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-8'")[0].id, item="A")
    rows = csv.DictReader(io.StringIO(client.get("/parcels/all.csv").get_data(as_text=True)))
    assert [(row["order"], row["number"], row["items"]) for row in rows] == [("BK-8", ONE, "A")]
    with bench.database.connection() as connection:
        connection.exec_driver_sql("DELETE FROM parcel_line")
        connection.exec_driver_sql("UPDATE parcel SET said_order = 'BK-9'")
    (row,) = csv.DictReader(io.StringIO(client.get("/parcels/all.csv").get_data(as_text=True)))
    assert (row["order"], row["items"]) == ("BK-9", "")


def test_the_list_is_narrowed_and_says_what_needs_attention(bench, client, order_id):
    assert "No parcel is known yet" in text(client.get("/parcels"))
    add(client, order_id)
    add(client, order_id, TWO)
    with bench.database.connection() as connection:
        connection.exec_driver_sql(f"UPDATE parcel SET trouble = 'late', unknown = 'Perched' WHERE number = '{ONE}'")
    page = text(client.get("/parcels"))
    assert "1 late" in page
    assert "1 × “Perched” Gannet Post: not understood" in page
    assert TWO not in text(client.get("/parcels?trouble=late"))
    assert ONE in text(client.get("/parcels?number=rr-473-124-829-gb"))
    assert "No parcel fits" in text(client.get("/parcels?stage=delivered"))
    assert client.get("/parcels?stage=x&carrier=y&before=z&trouble=w&number=%00").status_code == 200


def test_a_carrier_is_made_described_and_its_words_told(bench, client, order_id):
    address = client.post("/carriers", data={"name": "Möwen & Söhne"}).headers["location"]
    form, _ = fields(client.get(address).get_data(as_text=True))
    form["forms"] = "MS-####-#### mod7\n@@@####"
    form["words"] = "Am Kai = in transit\nBeim Nachbarn = delivered"
    form["names"] = "en = Gull & Sons"
    form["link"] = "https://moewen.example/{number}"
    form["countries"] = "de, at"
    saved = client.post(address, data=form, follow_redirects=True)
    assert "Saved." in text(saved)
    bench.services.setups.forget()
    store = bench.services.setups.get(bench.store_id).setup.store
    made_ = next(one for one in store.carriers if one.name == "Möwen & Söhne")
    assert [form.shape for form in made_.forms] == ["MS########", "@@@####"]
    assert made_.forms[0].check == "mod7"
    assert {words: stage.value for words, stage in made_.words.items()} == {
        "Am Kai": "in_transit",
        "Beim Nachbarn": "delivered",
    }
    assert made_.countries == ["DE", "AT"]
    for name, wrong, said in (
        ("words", "Am Kai", "does not say what it means"),
        ("names", "Gull", "has no language"),
        ("days", "few", "is no number of days"),
        ("link", "moewen.example", "whole address"),
        ("link", "https://moewen.example/{order}", "nothing else in braces"),
        ("forms", "x?yz", "is written with #"),
        ("countries", "Germany", ""),
    ):
        refused = client.post(address, data={**form, name: wrong})
        assert refused.status_code == 422, name
        assert said in text(refused)
        assert wrong in refused.get_data(as_text=True)


def test_carriers_are_switched_exported_read_and_deleted(bench, client, order_id):
    client.post("/carriers/switch", data={"key": ["gannet"], "act": "off"})
    assert "has the form of no carrier" in text(client.get(f"/carriers?try={ONE}"))
    client.post("/carriers/switch", data={"key": ["gannet"], "act": "on"})
    assert "Gannet Post its form and check digit fit" in text(client.get(f"/carriers?try={ONE}"))
    out = client.get("/carriers/all.yaml").data
    client.post("/carriers/gannet", data={"act": "delete"})
    assert client.get("/carriers/gannet").status_code == 404
    given = {"file": (io.BytesIO(out), "carriers.yaml")}
    told = client.post("/carriers/file", data=given, content_type="multipart/form-data", follow_redirects=True)
    assert "1 added, 1 replaced." in text(told)
    for wrong in (b"[]", b"carriers: [{key: a}]", b"\xff\xfe", b"carriers: 7", b"- {"):
        given = {"file": (io.BytesIO(wrong), "carriers.yaml")}
        told = client.post("/carriers/file", data=given, content_type="multipart/form-data", follow_redirects=True)
        assert "Nothing was taken" in text(told), wrong
    bench.services.setups.forget()
    store = bench.services.setups.get(bench.store_id).setup.store
    assert Carrier.model_validate(GANNET) in store.carriers


# ---- what customers see


def follow(bench, order_id):
    return f"/f/{Links(bench.vault).follow_token(order_id)}"


def test_a_customer_follows_parcels_in_their_language(bench, client, order_id):
    page = text(client.get(follow(bench, order_id)))
    assert "Nothing is on its way yet." in page
    add(client, order_id)
    row = bench.rows("SELECT id FROM parcel")[0]
    for stage in ("in_transit", "out_for_delivery"):
        client.post(f"/parcels/{row.id}", data={"order": order_id, "stage": stage})
    set_up(bench, pages={"follow": True}, locales=["de"])
    page = client.get(follow(bench, order_id) + "?lang=de")
    assert "Deine Bestellung BK-7" in text(page)
    assert "in Zustellung" in text(page)
    assert f"Basstölpel-Post, {ONE}" in text(page)
    assert "<script" not in page.get_data(as_text=True)
    assert page.headers["Cache-Control"] == "no-store"
    assert len(page.data) < 50_000


def test_a_link_that_is_none_of_ours_or_whose_page_is_off_opens_nothing(bench, client, order_id):
    good = follow(bench, order_id)
    for wrong in (good[:-1] + "0" if good[-1] != "0" else good[:-1] + "1", "/f/x", "/f/1-", "/f/zz-123456789012"):
        assert client.get(wrong).status_code == 404, wrong
    set_up(bench, pages={"follow": False})
    assert client.get(good).status_code == 404
    assert client.get("/where/kites").status_code == 404


def test_a_customer_finds_their_order_by_its_number_and_nobody_else_does(bench, client, order_id):
    assert "Where is my order?" in text(client.get("/where/kites?order=BK-7"))
    found = client.post("/where/kites", data={"number": "bk-7", "proof": "JO@example.org"})
    assert found.headers["location"] == follow(bench, order_id)
    for number, proof in (("BK-7", "other@example.org"), ("BK-77", "jo@example.org"), ("BK-7", "")):
        refused = client.post("/where/kites", data={"number": number, "proof": proof})
        assert refused.status_code in (404, 422)
        assert "There is no order with this number and this address." in text(refused)
    answers = [client.post("/where/kites", data={"number": "BK-8", "proof": f"a{n}@x.org"}) for n in range(12)]
    assert answers[-1].status_code == 429
    assert client.get("/where/nobody").status_code == 404


def test_a_late_parcel_a_notice_and_a_line_that_is_in_none_are_said(bench, client, order_id):
    lines = [{"sku": "A", "title": "Sled", "quantity": 1}, {"sku": "B", "title": "Rope", "quantity": 2}]
    post(client, made.body(id=1, reference="BK-8", lines=lines, **ORDER))
    plain = made.source().model_dump(mode="json")
    bench.change(Source.model_validate(plain | {"line": plain["line"] | {"sku": "$.sku"}}), SourceRow)
    bench.plan()
    other = bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-8'")[0].id
    add(client, other, item="A")
    notice = {"carriers": ["gannet"], "text": {"en": "Gannets rest on Sundays."}}
    set_up(bench, pages={"follow": True, "follow_notices": [notice]})
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE parcel SET trouble = 'late'")
    page = text(client.get(follow(bench, other)))
    assert "It takes longer than expected." in page
    assert "Gannets rest on Sundays." in page
    assert "In no parcel yet 2 × Rope" in page
    assert "1 line is in none yet: Rope" in text(client.get(f"/orders/{other}"))


def test_the_offer_to_tell_takes_the_number_of_the_order_and_no_other(bench, client, order_id):
    offer = {"sign_ups": [{"key": "today", "channel": "sms", "message": "today"}], "follow_sign_up": "today"}
    set_up(bench, country="DE", pages={"follow": True} | offer)
    assert "Tell me by SMS" not in text(client.get(follow(bench, order_id))), (
        "its number is not read: nothing can be sent"
    )
    plain = made.source().model_dump(mode="json")
    bench.change(Source.model_validate(plain | {"reading": plain["reading"] | {"phone": "$.buyer.phone"}}), SourceRow)
    post(client, made.body(id=1, reference="BK-8", **ORDER))
    bench.plan()
    at = follow(bench, bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-8'")[0].id)
    assert "Tell me by SMS" in text(client.get(at))
    for number, said in (("+49 30 23125015", "placed with another number"), ("twelve", "")):
        refused = client.post(at, data={"address": number})
        assert refused.status_code == 422
        assert said in text(refused)
        assert f'value="{number}"' in refused.get_data(as_text=True), "what was typed stays"
    assert bench.rows("SELECT count(*) FROM consent") == [(0,)]
    assert "You will get an SMS." in text(client.post(at, data={"address": "030 23125014"}, follow_redirects=True))
    assert bench.rows("SELECT count(*) FROM consent") == [(1,)]


def test_a_parcel_that_waits_says_so_and_not_what_was_expected(bench, client, order_id):
    add(client, order_id)
    row = bench.rows("SELECT id FROM parcel")[0]
    for stage in ("picked_up", "ready_to_collect"):
        client.post(f"/parcels/{row.id}", data={"order": order_id, "stage": stage})
    page = text(client.get(follow(bench, order_id)))
    assert "Ready to collect" in page
    assert "Expected" not in page


def test_a_viewer_sees_parcels_and_changes_none(bench, client, order_id):
    add(client, order_id)
    assert may("viewer", "parcels", False)
    assert not may("viewer", "parcels", True)
    assert not may("writer", "carriers", False)


@pytest.mark.parametrize("has_page", [True, False])
def test_a_send_shows_the_link_that_its_text_has(shop, client, has_page):  # noqa: F811
    shop.now = made.NOON
    shop.store(carriers=[GANNET], base_url="https://shop.example", pages={"follow": has_page})
    shop.route(key="told", name="Told", when=["parcel.added"], send="parcel", guards={"even_if_notified": True})
    shop.order(parcels=[{"no": ONE}])
    (send,) = shop.bench.rows("SELECT id, order_id, recipient FROM send")
    own = f"https://shop.example{follow(shop.bench, send.order_id)}"
    before = text(client.get(f"/sends/{send.id}"))
    shop.dispatch()
    page = text(client.get(f"/sends/{send.id}"))
    for shown in (before, page):
        assert "follow.invalid" not in shown
        assert (own if has_page else "https://gannet.example/f/RR473124829GB") in shown
    assert page.count(own) == (2 if has_page else 0), "in the text, and among its values"


def test_numbers_are_typed_for_many_orders_and_a_wrong_one_stays(bench, client, order_id):
    post(client, made.body(id=1, reference="BK-8", placed_at=utc_now().isoformat(), **ORDER))
    bench.plan()
    other = bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-8'")[0].id
    typed = {f"number.{order_id}": ONE, f"number.{other}": "RR473124828GB"}
    answer = client.post("/parcels/numbers", data=typed)
    assert answer.status_code == 422
    assert "1 added." in text(answer)
    assert "could be of Gannet Post (its form fits, and its check digit does not): name the carrier" in text(answer)
    assert 'value="RR473124828GB"' in answer.get_data(as_text=True)
    assert "BK-7" not in text(client.get("/parcels/numbers"))
    client.post("/parcels/numbers", data={f"number.{other}": TWO})
    assert "Every order of the last 60 days is in a parcel." in text(client.get("/parcels/numbers"))
    assert client.post("/parcels/numbers", data={"number.x": "1", "number.999999": TWO}).status_code in (404, 422)


def test_a_status_is_set_by_hand_with_the_message_that_goes_with_it_or_without(bench, client, order_id):
    with bench.database.writing() as session:
        spec = made.route(
            key="sent", name="Sent", when=["parcel.picked_up"], send="received", guards={"even_if_notified": True},
            only_if={"of": [{"of": "order.status", "op": "is", "value": "shipped"}]},
        )  # fmt: skip
        row = specs.save_draft(session, RouteRow, bench.store_id, spec, bench.clock.now())
        specs.publish(session, row, bench.clock.now())
        specs.switch(session, row, True, bench.clock.now())
    bench.services.setups.forget()
    silent = client.post("/orders/status", data={"order": order_id, "status": "packed"}, follow_redirects=True)
    assert "1 of 1 changed to packed. No message is sent." in text(silent)
    bench.plan()
    assert bench.rows("SELECT count(*) FROM event WHERE delivery_key LIKE 'hand>%'") == [(0,)]
    told = client.post(
        "/orders/status",
        data={"order": order_id, "status": "shipped", "tell": "1", "from": "order"},
        follow_redirects=True,
    )
    assert "Routes that wait for it send now." in text(told)
    assert "Status packed → shipped" in text(told)
    bench.plan()
    types = [row.type for row in bench.rows("SELECT type FROM event WHERE delivery_key LIKE 'hand>%' ORDER BY type")]
    assert types == ["order.status_changed", "parcel.picked_up"]
    sent = bench.rows("SELECT s.state FROM send s JOIN route r ON r.id = s.route_id WHERE r.key = 'sent'")
    assert [row.state for row in sent] == ["scheduled"], "its condition sees the status that was set"
    again = client.post("/orders/status", data={"order": order_id, "status": "shipped"}, follow_redirects=True)
    assert "0 of 1 changed" in text(again)
    assert "Tick at least one order." in text(client.post("/orders/status", follow_redirects=True))
    empty = client.post("/orders/status", data={"order": order_id, "status": " "}, follow_redirects=True)
    assert "The status is empty." in text(empty)


def test_parcels_are_told_by_the_api_and_listed(bench, api, order_id):
    told = api.tell_parcels(
        models.TellParcel(number=ONE, order="BK-7", status="In transit", place="Athenry"),
        models.TellParcel(number=TWO, order="BK-7"),
        models.TellParcel(number="x"),
        models.TellParcel(number="SW99999999"),
        models.TellParcel(number="SW99999998", order="BK-7", status="perched"),
    )
    assert told.taken == 2
    assert [problem.where for problem in told.problems] == ["parcels[2]", "parcels[3]", "parcels[4]"]
    bench.plan()
    types = sorted(row.type for row in bench.rows("SELECT type FROM event WHERE was LIKE 'pc-%'"))
    assert types == ["order.shipped", "parcel.added", "parcel.added", "parcel.in_transit"]
    listed = {one.number: one for one in api.parcels()}
    assert listed[ONE].carrier == "gannet"
    assert listed[ONE].stage == "in_transit"
    assert listed[TWO].orders == ["BK-7"]
    assert [one.number for one in api.parcels(stage="in_transit")] == [ONE]
    assert {one.number for one in api.order(order_id).parcels} == {ONE, TWO}


@pytest.mark.parametrize("fails_at", [1, 2, 3])
def test_a_file_that_is_interrupted_loses_and_doubles_nothing(bench, client, order_id, monkeypatch, fails_at):
    """Whatever part it breaks off in: the same file again takes the rest, and each event is stored once."""
    monkeypatch.setattr(operations, "AT_ONCE", 2)
    whole, parts = Parcels.tell, iter(range(1, 100))

    def breaks(self, tellings):
        ids = whole(self, tellings)
        if next(parts) == fails_at:
            raise OSError("the machine went down")
        return ids

    lines = "".join(f"BK-7,SW0000{n:04},in transit,2999-01-01\n" for n in range(5))
    data = f"order,number,status,at\n{lines}".encode()
    monkeypatch.setattr(Parcels, "tell", breaks)
    with pytest.raises(OSError, match="went down"):
        operations.take_file(bench.services.installation, bench.store_id, Actor("Ines"), data, False, False)
    there = bench.rows("SELECT count(*) FROM parcel")[0][0]
    assert there == 2 * (fails_at - 1), "the part that broke off left nothing"
    monkeypatch.setattr(Parcels, "tell", whole)
    for _ in range(2):
        taken, left = operations.take_file(
            bench.services.installation, bench.store_id, Actor("Ines"), data, False, False
        )
        assert (taken, left) == (5, [])
    bench.plan()
    assert bench.rows("SELECT count(*) FROM parcel") == [(5,)]
    types = [row.type for row in bench.rows("SELECT type FROM event WHERE was LIKE 'pc-%'")]
    assert sorted(types) == ["order.shipped", *["parcel.added"] * 5, *["parcel.in_transit"] * 5]


def test_a_slip_in_a_number_is_told_in_a_file_and_by_the_api_too(bench, client, api, order_id):
    set_up(bench, carriers=[GANNET, EIDER])
    wrong = f"order,number,carrier\nBK-7,RR473124828GB,\nBK-7,{ONE},\nBK-7,{ONE},Eiderline\n"
    page = text(read(client, wrong))
    assert "1 line can be taken" in page
    assert "could be of Eiderline (its form fits, and its check digit does not) or Gannet Post" in page
    assert "could be of Eiderline (its form and check digit fit) or Gannet Post (its form and check digit fit)" in page
    told = api.tell_parcels(models.TellParcel(number="RR473124828GB", order="BK-7"))
    assert "its check digit does not" in told.problems[0].what
    assert api.tell_parcels(models.TellParcel(number=ONE, order="BK-7", carrier="eider")).taken == 1
