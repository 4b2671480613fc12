"""Several routes or messages at once: switched on and off, tagged, deleted, and each undone."""

import re

import pytest

from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow
from tests import made
from tests.engine.test_fallbacks import Shop
from tests.web.test_pages import text


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    for key in ("one", "two", "three"):
        shop.route(key=key, name=key.capitalize())
    return shop


def live(bench):
    with bench.database.reading() as session:
        return {row.key: (row.on, row.gone_at is not None) for row in session.query(RouteRow) if row.key != "received"}


def undo(client, page):
    act = re.search(r'name="act" value="(\w+)">Undo', page.get_data(as_text=True))[1]
    keys = re.findall(r'type="hidden" name="route"\s+value="([\w-]+)"', page.get_data(as_text=True))
    return client.post("/routes/many", data={"act": act, "route": keys}, follow_redirects=True)


def test_ticked_routes_are_switched_off_and_on_again(shop, client, bench):
    page = client.post("/routes/many", data={"act": "off", "route": ["one", "two"]}, follow_redirects=True)
    assert "2 routes are off: One, Two" in text(page)
    assert live(bench) == {"one": (False, False), "two": (False, False), "three": (True, False)}
    undo(client, page)
    assert {on for on, _ in live(bench).values()} == {True}


def test_what_is_on_already_is_not_published_anew(shop, client, bench):
    with bench.database.writing() as session:
        specs.save_draft(session, RouteRow, bench.store_id, made.route(key="one", name="Not ready"), shop.now)
    said = text(client.post("/routes/many", data={"act": "on", "route": ["one"]}, follow_redirects=True))
    assert "are live" not in said
    with bench.database.reading() as session:
        assert specs.route(session, bench.store_id, "one").draft


def test_ticked_routes_are_deleted_and_restored(shop, client, bench):
    page = client.post("/routes/many", data={"act": "delete", "route": ["one", "three"]}, follow_redirects=True)
    assert "2 routes are deleted: One, Three" in text(page)
    assert [gone for _, gone in live(bench).values()].count(True) == 2
    assert "Restored. They are off" in text(undo(client, page))
    assert not any(gone for _, gone in live(bench).values())


def test_what_can_not_be_done_with_one_keeps_no_other(shop, client, bench):
    shop.publish(RouteRow, made.route(key="four", name="Four", send="nothing"), on=False)
    client.post("/routes/many", data={"act": "off", "route": ["one"]})
    form = {"act": "on", "route": ["four", "one", "nobody"]}
    said = text(client.post("/routes/many", data=form, follow_redirects=True))
    assert "“Four” is as it was" in said
    assert "1 route is live: One" in said
    assert "Tick at least one" in text(client.post("/routes/many", data={"act": "on"}, follow_redirects=True))


def test_ticked_routes_are_tagged_found_by_the_tag_and_untagged_by_undo(client, bench):
    before = bench.rows("SELECT count(*) FROM revision WHERE kind = 'route'")
    form = {"route": ["received"], "act": "tag", "tag": "  spring  2026 "}
    page = client.post("/routes/many", data=form, follow_redirects=True).text
    assert "1 route is tagged “spring 2026”: Received" in " ".join(page.split())
    assert bench.rows("SELECT count(*) FROM revision WHERE kind = 'route'") == before, "it is no change of what is sent"
    bench.services.setups.forget()
    assert bench.services.setups.get(bench.store_id).setup.routes[0].route.tags == ["spring 2026"]
    assert ">Received<" in client.get("/routes?tag=spring+2026").text
    client.post("/routes/many", data=form)  # once more changes nothing
    undo = {"route": ["received"], "act": "untag", "tag": "spring 2026"}
    client.post("/routes/many", data=undo)
    bench.services.setups.forget()
    assert bench.services.setups.get(bench.store_id).setup.routes[0].route.tags == []


@pytest.mark.parametrize(("tag", "said"), [("", "Write the tag."), ("a,b", "is as it was"), ("x" * 31, "is as it was")])
def test_a_tag_that_is_none_is_refused_in_words(client, bench, tag, said):
    form = {"route": ["received"], "act": "tag", "tag": tag}
    assert said in client.post("/routes/many", data=form, follow_redirects=True).text
    bench.services.setups.forget()
    assert bench.services.setups.get(bench.store_id).setup.routes[0].route.tags == []


def test_messages_are_tagged_found_by_the_tag_deleted_and_restored(client, bench):
    with bench.database.writing() as session:
        specs.save_draft(
            session, MessageRow, bench.store_id, made.message(key="other", name="Other"), bench.clock.now()
        )
    before = bench.rows("SELECT count(*) FROM revision")
    form = {"message": ["received", "other"], "act": "tag", "tag": "spring"}
    page = text(client.post("/messages/-/many", data=form, follow_redirects=True))
    assert "2 messages are tagged “spring”" in page
    assert bench.rows("SELECT count(*) FROM revision") == before
    client.post("/messages/-/many", data={"message": ["received"], "act": "untag", "tag": "spring"})
    page = client.get("/messages?tag=spring").text
    assert "<strong>Other</strong>" in page
    assert "<strong>Received</strong>" not in page
    form = {"message": ["received", "other"], "act": "delete"}
    said = text(client.post("/messages/-/many", data=form, follow_redirects=True))
    assert "“Received” is as it was: “Received” is used by" in said
    assert "1 message is deleted: Other" in said
    said = text(client.post("/messages/-/many", data={"message": ["other"], "act": "restore"}, follow_redirects=True))
    assert "Restored." in said
    assert "Other" in text(client.get("/messages"))
