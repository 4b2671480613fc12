"""Messages, letterhead, files and gateways through their pages: what is kept, refused, and told."""

import io
import json
import re

import pytest

from angelon.core.specs import Gateway
from angelon.db.setup import live_setup, specs
from angelon.db.tables import GatewayRow, MessageRow, SourceRow, StoreRow
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from angelon.standins.providers import Providers
from angelon.web.messages.comparing import compare
from angelon.web.messages.starters import STARTERS
from tests import made
from tests.web.test_pages import text

PNG = b"\x89PNG\r\n\x1a\n" + b"\x00" * 40


def draft(client, spec, key="received", **more):
    return client.post(f"/messages/{key}/draft", json={"spec": spec, "channel": "email", "locale": "en", **more})


def spec(**changes):
    return made.message(**changes).model_dump(mode="json")


def current(bench, key="received"):
    with bench.database.reading() as session:
        return specs.current_spec(session, specs.by_key(session, MessageRow, bench.store_id, key))


@pytest.mark.parametrize(
    "address",
    [
        "/messages/received?channel=sms",
        "/messages/received?channel=chat",
        "/messages/received?channel=email&locale=de",
        "/messages/received/revisions",
        "/letterhead",
        "/files",
        "/standins/handset",
        "/standins/chat",
    ],
)
def test_every_new_page_opens_without_an_event_and_with_one(client, bench, address):
    assert client.get(address).status_code == 200
    client.post("/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"})
    bench.plan()
    page = client.get(address)
    assert page.status_code == 200
    assert not re.search(r"<script(?![^>]*(src=|application/json))", page.get_data(as_text=True))


def test_a_draft_is_kept_and_its_preview_is_of_this_very_text(client, bench):
    client.post("/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"})
    changed = spec()
    changed["email"]["en"]["subject"] = "Now {{ customer_name }}"
    told = draft(client, changed).json
    assert (told["saved"], told["preview"]["subject"], told["preview"]["made"]) == (True, "Now Jörg", True)
    assert current(bench)["email"]["en"]["subject"] == "Now {{ customer_name }}"
    changed["email"]["en"]["subject"] = "Now {{ customer_name"
    told = draft(client, changed).json
    assert (told["saved"], told["preview"]["made"]) == (True, False)
    assert told["preview"]["problems"][0]["where"] == "email.en.subject"


def test_a_draft_that_was_changed_elsewhere_is_not_overwritten(client, bench):
    first = draft(client, spec()).json
    other = draft(client, spec(name="Theirs")).json
    assert first["known"] != other["known"]
    late = draft(client, spec(name="Mine"), known=first["known"])
    assert (late.status_code, late.json["elsewhere"]) == (409, True)
    assert current(bench)["name"] == "Theirs"
    assert draft(client, spec(name="Mine"), known=first["known"], force=True).json["saved"]
    assert current(bench)["name"] == "Mine"


def test_a_page_that_is_left_while_it_saves_keeps_its_last_change(client, bench):
    known = draft(client, spec()).json["known"]
    draft(client, spec(name="Under way"), known=known)
    left = draft(client, spec(name="Last"), known=known, after=spec(name="Under way"))
    assert left.json["saved"]
    assert current(bench)["name"] == "Last"
    # the other way round the one that was under way comes too late, and what was written last stays
    late = draft(client, spec(name="Under way"), known=known)
    assert late.status_code == 409
    assert current(bench)["name"] == "Last"
    assert draft(client, spec(name="Mine"), known=known, after=spec(name="Another")).status_code == 409
    assert draft(client, spec(name="Mine"), known=known, after={"key": "nothing"}).status_code == 409


def test_a_draft_that_is_no_message_is_refused_and_says_why(client, bench):
    answer = draft(client, {**spec(), "sms": {"en": {"text": 5}}})
    assert answer.status_code == 422
    assert answer.json["problems"][0]["where"] == "sms.en.text"
    assert draft(client, {"key": "other"}).status_code == 400


def test_parts_and_languages_are_added_and_taken_out(client, bench):
    client.post("/messages/received/variant", data={"channel": "sms", "locale": "en"})
    assert current(bench)["sms"] == {"en": {}}
    client.post("/messages/received/variant", data={"channel": "email", "locale": "de-AT"})
    assert current(bench)["email"]["de-AT"] == current(bench)["email"]["de"]
    client.post("/messages/received/variant", data={"channel": "email", "locale": "de-AT", "act": "remove"})
    assert "de-AT" not in current(bench)["email"]
    page = client.post(
        "/messages/received/variant", data={"channel": "email", "locale": "GERMAN"}, follow_redirects=True
    )
    assert "“GERMAN” is no language" in text(page)


def test_an_imported_page_is_cleaned_and_a_bad_one_refused(client):
    def upload(data, name="a.html"):
        return client.post(
            "/messages/received/import", data={"file": (io.BytesIO(data), name)}, headers={"X-Fragment": "1"}
        )

    told = upload(
        b"<html><body><script>x</script><p onclick='x'>Hi {{ customer_name }}</p>"
        b"{% for l in order.lines %}<p>{{ l.name }}</p>{% endfor %}</body></html>"
    ).json
    assert told["taken"] == ["a script", "“onclick”, which runs a script"]
    assert "{{ customer_name }}" in told["html"]
    assert told["html"].index("{% for") < told["html"].index("{{ l.name }}") < told["html"].index("{% endfor %}")
    assert upload(b"\xff\xfe\x00").status_code == 415
    assert upload(b"just words").status_code == 415
    assert upload(b"<p>" + b"x" * 300_001).status_code == 413
    assert upload(b"<p>{{ a </p>").status_code == 422


def test_publishing_is_refused_with_the_first_error_and_allowed_without(client, bench):
    bad = spec()
    bad["email"]["en"]["blocks"] = [{"kind": "text", "text": "{{ nobody }}"}]
    draft(client, bad)
    page = client.post("/messages/received/publish", follow_redirects=True)
    assert "Not published: There is no variable “nobody”" in text(page)
    assert '#blocks.0.text"' in page.get_data(as_text=True)
    good = spec(name="Better")
    draft(client, good)
    assert "Revision 2 is live." in text(client.post("/messages/received/publish", follow_redirects=True))


def test_revisions_are_compared_and_an_old_one_is_brought_back(client, bench):
    changed = spec()
    changed["email"]["en"]["subject"] = "Many thanks, {{ customer_name }}"
    draft(client, changed)
    client.post("/messages/received/publish")
    page = client.get("/messages/received/revisions?old=1&new=2").get_data(as_text=True)
    assert "<del>Thank</del> <del>you</del>, {{ customer_name }}" in page
    assert "<ins>Many</ins> <ins>thanks</ins>, {{ customer_name }}" in page
    client.post("/messages/received/restore", data={"revision": 1})
    assert current(bench)["email"]["en"]["subject"] == "Thank you, {{ customer_name }}"
    assert client.post("/messages/received/restore", data={"revision": 9}).status_code == 404


def test_comparing_marks_words_and_never_half_a_variable():
    (change,) = compare({"sms": {"en": {"text": "Hi {{ a }} <b>"}}}, {"sms": {"en": {"text": "Hi {{ b }} <b>"}}})
    assert (change.where, str(change.old), str(change.new)) == (
        "SMS · en · text",
        "Hi <del>{{ a }}</del> &lt;b&gt;",
        "Hi <ins>{{ b }}</ins> &lt;b&gt;",
    )
    assert compare({"a": 1}, {"a": 1}) == []


@pytest.mark.parametrize("starter", STARTERS, ids=lambda s: s.key)
def test_every_starting_point_stands_in_three_languages_and_brings_its_variables(client, bench, starter):

    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = {**row.spec, "locales": ["de", "fr"]}
        specs.touch(session, bench.store_id)
    bench.services.setups.forget()
    client.post("/messages", data={"starter": starter.key})
    made_ = current(bench, re.sub(r"[^a-z0-9]+", "-", starter.name.lower()).strip("-"))
    assert {channel: sorted(made_[channel]) for channel in ("email", "sms", "chat")} == {
        channel: ["de", "en", "fr"] for channel in ("email", "sms", "chat")
    }
    page = client.get(f"/messages/{made_['key']}/preflight").get_data(as_text=True)
    assert "There is no variable" not in page
    assert "Stops publishing" not in page, page


def test_a_test_send_is_marked_goes_the_real_way_and_counts_for_nothing(client, bench, mailbox):
    client.post("/in/shop", data=made.body(), headers={"Content-Type": "application/json", "Store-Event": "placed"})
    bench.plan()
    changed = spec()
    changed["email"]["en"]["subject"] = "Draft for {{ customer_name }}"
    draft(client, changed)
    sent = client.post(
        "/messages/received/test",
        data={"channel": "email", "locale": "en", "gateway": "mailroom", "to": "me@example.com"},
    ).json
    bench.dispatcher().run_batch()
    look = client.get(f"/messages/received/test/{sent['send']}")
    assert (look.headers["X-Settled"], "The gateway accepted it." in text(look)) == ("yes", True)
    mails = [row for row in bench.box.mails() if row.rcpt_to == "me@example.com"]
    assert b"Draft for =?utf-8" in mails[0].raw or b"=?utf-8?" in mails[0].raw
    assert b"X-Test: yes" in mails[0].raw
    page = client.get(f"/sends/{sent['send']}")
    assert "Sent as a test by somebody of the shop." in text(page)
    assert bench.rows("SELECT count(*) FROM send WHERE NOT test AND recipient = 'me@example.com'") == [(0,)]


@pytest.mark.parametrize(
    ("form", "said"),
    [
        ({"to": "nobody"}, "is no email address"),
        ({"gateway": "none"}, "no gateway for email"),
        ({"locale": "fr"}, "no email in fr"),
        ({}, "no sample event"),
    ],
)
def test_a_test_that_can_not_go_says_why(client, bench, form, said):
    answer = client.post(
        "/messages/received/test",
        data={"channel": "email", "locale": "en", "gateway": "mailroom", "to": "me@example.com"} | form,
    )
    assert answer.status_code == 422
    assert said in answer.json["detail"]


def test_a_chat_test_waits_for_approval(client, bench):
    server = Providers(bench.box)
    server.start()
    bench.change(Gateway.model_validate(made.provider("chat", server.port)), GatewayRow)
    with bench.database.writing() as session:
        bench.vault.put(
            session, "gateway", specs.by_key(session, GatewayRow, bench.store_id, "chat").id, "t", bench.clock.now()
        )
    draft(client, spec(chat={"en": {"body": "Hello there.", "samples": {}}}))
    form = {"channel": "chat", "locale": "en", "gateway": "chat", "to": "+353 20 915 1234"}
    answer = client.post("/messages/received/test", data=form)
    assert "not approved yet" in answer.json["detail"]
    page = client.post("/messages/received/review", data={"locale": "en"}, follow_redirects=True)
    assert "It is approved" in text(page)
    assert "Approved" in text(client.get("/messages/received/review?locale=en"))
    sent = client.post("/messages/received/test", data=form).json
    bench.dispatcher().run_batch()
    assert "The gateway accepted it." in text(client.get(f"/messages/received/test/{sent['send']}"))
    assert bench.box.chats()[0].to == "+353209151234"
    server.stop()


# ---- letterhead and files


def test_the_letterhead_is_seen_on_all_before_it_is_kept(client, bench):
    form = {
        "letterhead.accent": "#AA3300",
        "letterhead.font": "serif",
        "letterhead.logo": "",
        "letterhead.logo_alt": "",
        "letterhead.logo_width": "160",
        "letterhead.header": "KITES",
        "letterhead.signature": "",
        "letterhead.footer": "By the sea",
        "letterhead.subject_prefix": "[K]",
        "fixed_words.cy.total": "Cyfanswm",
        "fixed_words.cy.tax": " ",
    }
    told = client.post("/letterhead/seen", data=form).json
    assert "By the sea" in told["sheets"]["received"]
    assert "#AA3300" in told["sheets"]["received"]
    with bench.database.reading() as session:
        assert live_setup.load(session, bench.store_id).setup.store.letterhead.footer == ""
    bad = client.post("/letterhead/seen", data=form | {"letterhead.accent": "red"})
    assert (bad.status_code, bad.json["problems"][0]["where"]) == (422, "letterhead.accent")
    client.post(
        "/letterhead", data=form | {"logo_file": (io.BytesIO(PNG), "kite.png")}, content_type="multipart/form-data"
    )
    with bench.database.reading() as session:
        kept = live_setup.load(session, bench.store_id)
    assert (kept.setup.store.letterhead.logo, kept.setup.store.letterhead.subject_prefix) == (
        "library:letterhead/kite.png",
        "[K]",
    )
    assert kept.setup.store.letterhead.fixed_words == {"cy": {"total": "Cyfanswm"}}
    client.post("/letterhead", data=form | {"fixed_words.cy.nothing": "x"})
    with bench.database.reading() as session:
        assert "nothing" not in str(live_setup.load(session, bench.store_id).setup.store.letterhead.fixed_words)
    assert client.get("/files/shown/letterhead/kite.png").data == PNG
    refused = client.post(
        "/letterhead",
        data=form | {"letterhead.footer": "keep me", "logo_file": (io.BytesIO(b"<svg onload=x>"), "x.png")},
        content_type="multipart/form-data",
    )
    assert refused.status_code == 422
    assert "image/svg+xml by its content" in text(refused)
    assert "keep me" in text(refused)


def test_files_are_kept_by_what_they_are_and_taken_off(client, bench):
    def upload(data, name, **form):
        return client.post(
            "/files",
            data={"file": (io.BytesIO(data), name), "shelf": "Care sheets", **form},
            content_type="multipart/form-data",
            follow_redirects=True,
        )

    assert "is in the folder care-sheets. By its content it is application/pdf." in text(
        upload(b"%PDF-1 x", "../a.exe")
    )
    assert "it is image/png" in text(upload(PNG, "b.pdf", by="sku", match="HER-180"))
    assert "Choose a file that is not empty." in text(upload(b"", "c.pdf"))
    assert "Say which sku" in text(upload(b"x", "c.txt", by="sku"))
    rows = bench.rows("SELECT id, name, type, by, match FROM file ORDER BY id")
    assert [row[1:] for row in rows] == [
        ("..a.exe", "application/pdf", "", ""),
        ("b.pdf", "image/png", "sku", "HER-180"),
    ] or rows[0][1].endswith("a.exe")
    answer = client.get(f"/files/{rows[0][0]}")
    assert (answer.data, answer.mimetype, "attachment" in answer.headers["Content-Disposition"]) == (
        b"%PDF-1 x",
        "application/octet-stream",
        True,
    )
    assert client.get("/files/shown/care-sheets/b.pdf").status_code == 404, (
        "a picture for one sku is no picture for a page"
    )
    client.post(f"/files/{rows[0][0]}/remove")
    assert client.get(f"/files/{rows[0][0]}").status_code == 404


# ---- gateways


def test_an_sms_gateway_is_set_up_from_its_page(client, bench):
    client.post("/gateways", data={"name": "Text line", "kind": "sms"})
    form = {
        "name": "Text line",
        "sender_id": "Kites",
        "price": "0.07",
        "max_segments": "2",
        "timeout_seconds": "5",
        "auth.scheme": "bearer",
        "password": "secret-token",
        "call.method": "POST",
        "call.url": "https://p.example/send",
        "call.content_type": "application/json",
        "call.headers": "Idempotency-Key: {{ key }}\nX-A: b",
        "call.body": '{"to": {{ to | json }}, "text": {{ text | json }}}',
        "call.id_at": "$.id",
        "call.outcome_at": "",
        "call.reason_at": "",
        "call.refused": "no, never",
        "call.later": "",
    }
    assert client.post("/gateways/text-line", data=form).status_code == 302
    with bench.database.reading() as session:
        gateway = live_setup.load(session, bench.store_id).setup.gateways["text-line"]
    assert (str(gateway.price), gateway.call.headers, gateway.call.refused) == (
        "0.07",
        {"Idempotency-Key": "{{ key }}", "X-A": "b"},
        ["no", "never"],
    )
    assert "secret-token" not in client.get("/gateways/text-line").get_data(as_text=True)
    for change, said in (
        ({"call.body": '{"to": {{ to }}}'}, "no JSON once it is filled"),
        ({"call.url": ""}, "address is empty"),
        ({"call.headers": "nonsense"}, "is no header"),
        ({"price": "much"}, "price"),
        ({"call.id_at": "$["}, "no JSONPath"),
    ):
        refused = client.post("/gateways/text-line", data=form | change)
        assert refused.status_code == 422
        assert said in text(refused)
        assert "https://p.example/send" in refused.get_data(as_text=True) or "call.url" in change


def test_a_sender_is_verified_with_a_code_sent_to_it(client, bench, mailbox):
    page = client.post("/gateways/mailroom/verify", follow_redirects=True)
    assert "A code is on its way to orders@kites.example." in text(page)
    code = re.search(rb"Subject: (\d{6})", bench.box.mails()[0].raw)[1].decode()
    assert "That is not the code" in text(
        client.post(
            "/gateways/mailroom/verify", data={"code": "000000" if code != "000000" else "1"}, follow_redirects=True
        )
    )
    assert "is verified" in text(client.post("/gateways/mailroom/verify", data={"code": code}, follow_redirects=True))
    with bench.database.reading() as session:
        assert live_setup.load(session, bench.store_id).setup.gateways["mailroom"].sender.verified
    form = {"name": "Mailroom", "host": "127.0.0.1", "port": "25", "tls": "none", "sender.address": "new@kites.example"}
    client.post("/gateways/mailroom", data=form)
    with bench.database.reading() as session:
        assert not live_setup.load(session, bench.store_id).setup.gateways["mailroom"].sender.verified


def test_the_stand_ins_speak_json(client, bench):
    from angelon.standins.box import SmsRow

    bench.box.keep(SmsRow(received_at=bench.clock.now(), sender="K", to="+1", text="hi", reference="sm-1"))
    (row,) = client.get("/standins/sms.json?to=%2B1").json
    assert (row["from"], row["to"], row["text"], row["segments"]) == ("K", "+1", "hi", 1)
    assert client.get("/standins/chat.json").json == []
    client.post("/standins/providers", data={"which": "chat", "fault": "busy", "seconds": "5"})
    assert (bench.box.setting("chat_fault"), bench.box.setting("chat_review_seconds")) == ("busy", 5)
    assert json.loads(client.get("/standins/mail.json").data) == []


def test_an_empty_text_is_not_tested(client, bench):
    bench.deliver(made.body())
    bench.plan()
    spec = made.message().model_dump(mode="json")
    spec["email"]["en"] |= {"text_only": True, "text": "  "}
    spec["sms"] = {"en": {"text": ""}}
    client.post("/messages/received/draft", json={"spec": spec, "locale": "en"})
    form = {"channel": "email", "locale": "en", "gateway": "mailroom", "to": "a@example.org"}
    said = client.post("/messages/received/test", data=form)
    assert (said.status_code, "The mail has no text." in said.json["detail"]) == (422, True)
    assert bench.rows("SELECT count(*) FROM send WHERE test")[0][0] == 0


def test_a_starter_uses_what_is_mapped_and_asks_for_nothing_twice(client, bench):
    bench.change(made.source(recipes={}), SourceRow)
    client.post("/messages", data={"starter": "order-received"})
    made_ = current(bench, "order-received")
    said = json.dumps(made_)
    for field in ("order.name", "order.number", "order.total"):
        assert f"{{{{ {field} }}}}" in said
    assert "customer_name" not in said
    assert bench.rows("SELECT count(*) FROM variable WHERE name = 'order_number'")[0][0] == 0
    bench.change(made.source(), SourceRow)
    client.post("/messages", data={"starter": "order-received", "name": "Second"})
    assert "{{ customer_name }}" in json.dumps(current(bench, "second")), "a variable that is mapped is used"


def test_a_language_added_later_brings_the_starter_s_text(client, bench):
    client.post("/messages", data={"starter": "order-received"})
    for channel in ("email", "sms"):
        form = {"channel": channel, "locale": "de"}
        said = text(client.post("/messages/order-received/variant", data=form, follow_redirects=True))
        assert "de has the starter text in this language." in said
    made_ = current(bench, "order-received")
    assert "ist bei uns" in made_["email"]["de"]["subject"]
    assert "Bestellung" in made_["sms"]["de"]["text"]
    changed = current(bench, "order-received")
    changed["chat"]["en"]["body"] = "My own words"
    client.post("/messages/order-received/draft", json={"spec": changed, "locale": "en"})
    form = {"channel": "chat", "locale": "de"}
    assert "translate it" in text(client.post("/messages/order-received/variant", data=form, follow_redirects=True))


def test_a_starter_text_in_no_language_of_the_shop_says_that_it_is_english(client, bench):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"locale": "sv", "locales": []})
    bench.services.setups.forget()
    page = client.post("/messages", data={"starter": "order-received", "name": "Tack"}, follow_redirects=True).text
    assert "There is no starter text in Swedish yet: this one is in English." in page
