"""Renaming, copying and deleting the things of the set-up, where they are used, and undone; publishing by channel."""

import html
import json
import re

import pytest
from lxml import html as markup

from angelon.core.specs import Message
from angelon.db.setup import live_setup, specs
from angelon.db.tables import GatewayRow, MessageRow
from tests import made

PAGES = {"message": "/messages", "gateway": "/gateways", "source": "/sources"}


def text(answer):
    return html.unescape(re.sub(r"\s+", " ", answer.get_data(as_text=True)))


def live(bench):
    with bench.database.reading() as session:
        return live_setup.load(session, bench.store_id)


def keys(bench):
    now = live(bench)
    with bench.database.reading() as session:
        messages = {row.key: row.spec.name for row in specs.messages(session, bench.store_id)}
    return {
        "message": messages,
        "gateway": {key: one.name for key, one in now.setup.gateways.items()},
        "source": {key: one.name for key, one in now.sources.items()},
    }


THINGS = [("message", "received", "Received"), ("gateway", "mailroom", "Mailroom"), ("source", "shop", "Shop")]


@pytest.mark.parametrize(("kind", "key", "name"), THINGS)
def test_a_thing_is_renamed_copied_and_its_copy_deleted_and_brought_back(client, bench, kind, key, name):
    told = client.post(f"/upkeep/{kind}/{key}/rename", data={"name": "Größe 凧"}, follow_redirects=True)
    assert f"“{name}” is called “Größe 凧” now." in text(told)
    client.post(f"/upkeep/{kind}/{key}/copy")
    assert keys(bench)[kind] == {key: "Größe 凧", f"{key}-2": "Größe 凧 (copy)"}
    client.post(f"/upkeep/{kind}/{key}/copy")
    assert keys(bench)[kind][f"{key}-3"] == "Größe 凧 (copy 2)"
    gone = client.post(f"/upkeep/{kind}/{key}-2/delete", follow_redirects=True)
    assert f"“{key}-2” is deleted." in text(gone)
    assert f"{key}-2" not in keys(bench)[kind]
    assert client.get(f"{PAGES[kind]}/{key}-2", follow_redirects=True).status_code == 404
    back = client.post(f"/upkeep/{kind}/{key}-2/restore", follow_redirects=True)
    assert "“Größe 凧 (copy)” is back." in text(back)
    assert f"{key}-2" in keys(bench)[kind]


@pytest.mark.parametrize(("kind", "key", "name"), THINGS)
def test_what_is_used_is_not_deleted_and_twins_of_a_name_are_refused(client, bench, kind, key, name):
    told = client.post(f"/upkeep/{kind}/{key}/delete", follow_redirects=True)
    assert f"Not deleted: “{name}” is used by Received" in text(told)
    client.post(f"/upkeep/{kind}/{key}/copy")
    twin = client.post(f"/upkeep/{kind}/{key}-2/rename", data={"name": name.upper()}, follow_redirects=True)
    assert f"Not renamed: There is a {kind} called “{name.upper()}” already." in text(twin)
    new = client.post(PAGES[kind], data={"name": f" {name.lower()} ", "kind": "smtp"}, follow_redirects=True)
    assert f"There is a {kind} called “{name.lower()}” already." in text(new)
    for bad, why in (("", "is empty"), ("x" * 101, "is longer than 100 characters"), ("a\x00b", "")):
        refused = client.post(f"/upkeep/{kind}/{key}/rename", data={"name": bad}, follow_redirects=True)
        assert "Not renamed" in text(refused)
        assert why in text(refused)
    assert keys(bench)[kind][key] == name


@pytest.mark.parametrize(("kind", "key", "name"), THINGS)
def test_a_new_thing_may_have_the_name_of_one_that_was_deleted(client, bench, kind, key, name):
    client.post(f"/upkeep/{kind}/{key}/copy")
    client.post(f"/upkeep/{kind}/{key}-2/delete")
    answer = client.post(PAGES[kind], data={"name": f"{name} (copy)", "kind": "smtp"})
    assert answer.status_code == 302
    assert f"{name} (copy)" in keys(bench)[kind].values()


def test_titles_in_any_script_make_keys(client, bench):
    for name, key in (("Größe", "groesse"), ("凧の店", None), ("Ελένη", None)):
        client.post("/messages", data={"name": name})
        found = {said: made_key for made_key, said in keys(bench)["message"].items()}
        assert re.fullmatch(r"[a-z0-9]+(-[a-z0-9]+)*", found[name])
        assert key is None or found[name] == key


def test_events_of_a_deleted_source_are_still_there_and_it_takes_no_more(client, bench):
    bench.deliver(made.body())
    bench.plan()
    with bench.database.writing() as session:
        row = session.query(__import__("angelon.db.tables", fromlist=["RouteRow"]).RouteRow).one()
        row.on, row.gone_at = False, bench.clock.now()
    bench.services.setups.forget()
    assert client.post("/upkeep/source/shop/delete").headers["Location"].endswith("?gone=shop")
    bench.services.setups.forget()
    assert "BK-7" in text(client.get("/orders"))
    assert client.get("/orders/1").status_code == 200
    assert bench.deliver(made.body(id=9)).status >= 400
    assert "/sources/shop" not in client.get("/sources").get_data(as_text=True)


def test_one_channel_goes_live_while_another_stays_a_draft(client, bench):
    spec = made.message().model_dump(mode="json")
    spec["sms"] = {"en": {"text": "Order in: {{ total }}"}}
    spec["email"]["en"]["subject"] = "Thank you so much"
    with bench.database.writing() as session:
        specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(spec), bench.clock.now())
    page = text(client.get("/messages/received"))
    assert "Publish these only; the rest stays a draft." in page
    told = client.post("/messages/received/publish", data={"only": "email", "channel": "email"}, follow_redirects=True)
    assert "Revision 2 is live." in text(told)
    now = live(bench).setup.messages["received"]
    assert (now.email["en"].subject, now.sms) == ("Thank you so much", {})
    with bench.database.reading() as session:
        stored = specs.message(session, bench.store_id, "received")
    assert stored.draft is not None
    assert stored.draft.sms["en"].text == "Order in: {{ total }}"
    client.post("/messages/received/publish", data={"only": "sms", "channel": "sms"})
    with bench.database.reading() as session:
        stored = specs.message(session, bench.store_id, "received")
    assert stored.live.sms["en"].text == "Order in: {{ total }}"
    assert stored.draft is None or stored.draft == stored.live


def test_a_segment_is_renamed_copied_deleted_and_brought_back(client, bench):
    def names():
        return {one.key: one.name for one in live(bench).setup.store.segments}

    client.post("/segments", data={"name": "凧の店"})
    (key,) = names()
    client.post("/segments", data={"name": "Regulars"})
    twin = client.post("/segments", data={"name": "regulars "}, follow_redirects=True)
    assert "There is an audience called “regulars” already." in text(twin)
    client.post("/segments/regulars/rename", data={"name": "Größe"})
    assert names() == {key: "凧の店", "regulars": "Größe"}
    refused = client.post("/segments/regulars/rename", data={"name": "凧の店"}, follow_redirects=True)
    assert "Not renamed: There is an audience called “凧の店” already." in text(refused)
    client.post("/segments/regulars/copy")
    client.post("/segments/regulars/copy")
    assert list(names().values()) == ["凧の店", "Größe", "Größe (copy)", "Größe (copy 2)"]
    before = live(bench).setup.store.segments
    gone = client.post("/segments/regulars/delete", follow_redirects=True)
    assert "“regulars” is deleted." in text(gone)
    assert "regulars" not in names()
    assert client.post("/segments/regulars/delete").status_code == 404, "the second click of two"
    assert "“Größe” is back." in text(client.post("/segments/regulars/restore", follow_redirects=True))
    assert sorted(live(bench).setup.store.segments, key=str) == sorted(before, key=str)
    client.post("/segments/regulars/restore")
    assert len(names()) == 4, "brought back once"
    assert client.post("/segments/never/restore").status_code == 404
    assert 'action="/segments/regulars/restore"' in text(client.get("/changes"))


def test_a_segment_that_only_the_live_route_asks_for_is_not_deleted(client, bench):
    asked = json.dumps({"of": [{"kind": "compare", "of": "segment.regulars", "op": "yes"}]})
    client.post("/segments", data={"name": "Regulars"})
    client.post("/routes/received", data={"only_if": asked}, headers={"X-Fragment": "1"})
    client.post("/routes/received/switch", data={"on": "yes", "late": "no"})
    client.post("/routes/received", data={"only_if": json.dumps({"of": []})}, headers={"X-Fragment": "1"})
    told = client.post("/segments/regulars/delete", follow_redirects=True)
    assert "Not deleted: The audience is used by Received." in text(told)


def test_two_copies_of_a_route_have_two_names_and_its_menu_deletes_it(client, bench):
    for _ in range(2):
        client.post("/upkeep/route/received/copy")
    with bench.database.reading() as session:
        names = [row.spec.name for row in specs.routes(session, bench.store_id)]
    assert sorted(names) == ["Received", "Received (copy 2)", "Received (copy)"]
    assert 'action="/routes/received/delete"' in text(client.get("/routes/received"))


@pytest.mark.parametrize(
    ("page", "taken", "more"),
    [
        ("/sources", "Shop", {}),
        ("/messages", "Received", {}),
        ("/messages", "Received", {"starter": "order-shipped"}),
        ("/gateways", "Mailroom", {"kind": "sms"}),
        ("/routes", "Received", {"when": "order.created"}),
    ],
)
def test_a_name_that_is_refused_is_still_in_its_field(client, page, taken, more):
    told = text(client.post(page, data={"name": taken, **more}, follow_redirects=True))
    assert f"called “{taken}” already." in told
    assert f'value="{taken}"' in told
    for name, chosen in more.items():
        kept = f'<option value="{chosen}" selected' in told or f'name="{name}" value="{chosen}"' in told
        assert kept or f'value="{chosen}"' not in told, (name, chosen)


@pytest.mark.parametrize("kind", ["message", "gateway", "source", "route"])
def test_what_was_deleted_does_not_come_back_beside_another_of_its_name(client, bench, kind):
    (key,) = {"message": ["received"], "gateway": ["mailroom"], "source": ["shop"], "route": ["received"]}[kind]
    home = PAGES.get(kind, "/routes")
    client.post(f"/upkeep/{kind}/{key}/copy")
    client.post(f"/upkeep/{kind}/{key}-2/rename", data={"name": "Kite"})
    client.post(f"/routes/{key}-2/delete" if kind == "route" else f"/upkeep/{kind}/{key}-2/delete")
    client.post(home, data={"name": "kite", "kind": "smtp", "when": "order.created"})
    back = f"/routes/{key}-2/restore" if kind == "route" else f"/upkeep/{kind}/{key}-2/restore"
    told = text(client.post(back, follow_redirects=True))
    assert f"Not restored: There is a {kind} called “Kite” already. Rename that one" in told
    assert "Undo" in told, "it can still be undone from here"
    assert f'action="{back}"' in text(client.get(f"/changes?kind={kind}")), "and from Changes, later"
    client.post(f"/upkeep/{kind}/kite/rename", data={"name": "Another"})
    client.post(back)
    client.post(back)
    assert client.get(f"{home}/{key}-2", follow_redirects=True).status_code == 200
    assert len(bench.rows("SELECT id FROM change WHERE action = 'restored'")) == 1, "once, however often it is clicked"


def test_a_new_gateway_has_no_made_up_values_and_is_off_until_it_was_tried(client, bench, mailbox):
    client.post("/gateways", data={"name": "Second room", "kind": "smtp"})
    page = client.get("/gateways/second-room").get_data(as_text=True)
    assert 'name="host" value=""' in re.sub(r"\s+", " ", page)
    assert "Off until the test passes" in page
    on = client.post("/gateways/second-room/pause", data={"paused": "no"}, follow_redirects=True)
    assert "Not switched on: The server has no name yet." in text(on)
    assert gateways_of(bench)["second-room"].off == "was not tried yet", "and the set-up can still be read"
    form = {"name": "Second room", "host": "", "port": "25", "sender.address": ""}
    refused = client.post("/gateways/second-room", data=form)
    assert refused.status_code == 422
    assert "The server has no name yet." in text(refused)
    assert "No From address is set." in text(refused)
    form |= {"host": "127.0.0.1", "port": "1", "sender.address": "hello@kites.example"}
    assert client.post("/gateways/second-room", data=form).status_code == 302
    client.post("/gateways/second-room/try")  # nobody answers there
    assert gateways_of(bench)["second-room"].off == "was not tried yet"
    client.post("/gateways/second-room", data=form | {"port": str(mailbox.port)})
    assert "The server accepts mail from Angelon, and the gateway is on." in text(
        client.post("/gateways/second-room/try")
    )
    assert gateways_of(bench)["second-room"].off == ""


def test_what_is_held_for_a_gateway_that_was_not_tried_goes_when_it_is_switched_on(client, bench):
    bench.change(made.gateway(untried=True), GatewayRow)
    bench.deliver(made.body())
    bench.plan()
    assert bench.rows("SELECT state, reason FROM send") == [("held", "Mailroom was not tried yet.")]
    done = client.post("/gateways/mailroom/pause", data={"paused": "no"}, follow_redirects=True)
    assert "1 held sends were released" in text(done)
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]


def gateways_of(bench):
    bench.services.setups.forget()
    return bench.services.setups.get(bench.store_id).setup.gateways


def test_trying_keeps_what_is_typed_and_save_saves_on_the_page_that_answers(client, bench, mailbox):
    client.post("/gateways", data={"name": "Post office", "kind": "smtp"})
    form = {"name": "Post office", "host": "127.0.0.1", "port": "1", "sender.address": "hello@kites.example"}
    unreached = client.post("/gateways/post-office/try", data=form | {"username": "kites"}).get_data(as_text=True)
    page = markup.fromstring(unreached)
    typed = {field.get("name"): field.get("value") for field in page.iterfind(".//form[@id='settings']//input")}
    assert (typed["host"], typed["port"], typed["username"]) == ("127.0.0.1", "1", "kites")
    action = page.find(".//form[@id='settings']").get("action")
    again = client.post(action, data=form | {"port": str(mailbox.port), "edits": typed["edits"]})
    assert again.status_code == 302
    assert gateways_of(bench)["post-office"].port == mailbox.port
    assert client.get("/gateways/post-office/try").headers["Location"] == "/gateways/post-office"
    wrong = client.post("/gateways/post-office/try", data=form | {"port": "many", "host": "mail.kites.example"})
    assert wrong.status_code == 422
    assert 'value="mail.kites.example"' in wrong.get_data(as_text=True), "and nothing typed is lost"
