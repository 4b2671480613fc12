"""The shop's settings, its senders: each page changes its own and leaves the rest; what is wrong says so and loses
nothing.
"""

import datetime as dt
import html
import re

import pytest

from angelon.db.setup import live_setup
from angelon.db.tables import ContactRow, RouteRow
from tests import made


def text(answer):
    return html.unescape(re.sub(r"\s+", " ", answer.get_data(as_text=True)))


def live(bench):
    with bench.database.reading() as session:
        return live_setup.load(session, bench.store_id)


def store(bench):
    return live(bench).setup.store


SHOP = {
    "name": "Kites & Lines",
    "country": "IE",
    "currency": "EUR",
    "timezone": "Europe/Dublin",
    "reader_times": "reader",
    "locale": "en",
    "locales": "de, en-AU",
    "support_email": "hello@kites.example",
    "support_phone": "020 915 1234",
    "website": "https://kites.example/",
    "hours": "9 to 5",
    "base_url": "https://angelon.kites.example",
}
PEOPLE = {
    "member.name": ["Nuala", "Tomas", ""],
    "member.role": ["owner", "", ""],
    "member.email": ["nuala@kites.example", "tomas@kites.example", ""],
    "member.phone": ["+353 20 915 0001", "", ""],
}


def test_the_shop_s_settings_are_saved_and_nothing_else_is_touched(client, bench):
    client.post("/settings/team", data=PEOPLE)
    client.post("/settings/rules", data={"rules.forbidden": "act now\nhurry", "rules.link_hosts": "kites.example"})
    assert client.post("/settings", data=SHOP).status_code == 302
    kept = store(bench)
    assert (kept.name, kept.locales, kept.reader_times, kept.support_phone) == (
        "Kites & Lines",
        ["de", "en-AU"],
        "reader",
        "+353209151234",
    )
    assert kept.website == "https://kites.example"
    assert [(one.name, one.role, one.phone) for one in kept.team] == [
        ("Nuala", "owner", "+353209150001"),
        ("Tomas", "", ""),
    ]
    assert kept.rules.forbidden == ["act now", "hurry"]
    client.post("/letterhead", data={"letterhead.footer": "By the sea"})
    assert [one.role for one in store(bench).team] == ["owner", ""], "the letterhead leaves roles alone"
    shown = text(client.get("/sources/shop/connect"))
    assert "https://angelon.kites.example/in/shop" in shown


@pytest.mark.parametrize(
    ("field", "value", "told"),
    [
        ("name", "", "“name” is empty"),
        ("support_email", "hello@", "is no email address"),
        ("support_phone", "12", "is no phone number"),
        ("website", "kites", "whole web address, such as https://shop.example"),
        ("base_url", "ftp://x", "whole web address"),
        ("locales", "German", "“locales, number 1” is no language code. It was “German”."),
        ("timezone", "Mars", "is no time zone of the IANA database"),
        ("currency", "EURO", "“currency” is no currency code. It was “EURO”."),
    ],
)
def test_a_setting_that_can_not_be_says_so_and_all_that_was_typed_stays(client, bench, field, value, told):
    refused = client.post("/settings", data=SHOP | {field: value})
    assert refused.status_code == 422
    assert told in text(refused)
    assert "9 to 5" in text(refused)
    assert store(bench).name == "Kites"


def test_somebody_of_the_team_without_a_name_or_with_half_an_address_is_told(client, bench):
    nameless = client.post("/settings/team", data=PEOPLE | {"member.name": ["", "Tomas", ""]})
    assert "Somebody has no name (nuala@kites.example)" in text(nameless)
    assert "tomas@kites.example" in text(nameless)
    half = client.post("/settings/team", data=PEOPLE | {"member.email": ["nuala@", "", ""]})
    assert half.status_code == 422
    assert "is no email address" in text(half)
    assert store(bench).team == []


def test_rules_for_a_channel_or_some_routes_are_kept_and_an_address_is_no_host(client, bench):
    form = {
        "rules.forbidden": "",
        "set": ["1", "2"],
        "1.channel": "sms",
        "1.forbidden": "hurry",
        "2.routes": ["received"],
        "2.link_hosts": "market.example",
    }
    client.post("/settings/rules", data=form)
    kept = store(bench).more_rules
    assert [(one.channel, one.routes, one.forbidden, one.link_hosts) for one in kept] == [
        ("sms", [], ["hurry"], []),
        ("", ["received"], [], ["market.example"]),
    ]
    refused = client.post("/settings/rules", data=form | {"2.link_hosts": "https://market.example/a"})
    assert "Write the host alone, like shop.example." in text(refused)


def test_a_language_is_added_from_where_its_text_was_written(client, bench):
    there = "/messages/received?channel=email&locale=de"
    answer = client.post("/settings/languages", data={"language": "de", "back": there})
    assert answer.headers["Location"] == there
    assert store(bench).locales == ["de"]
    client.post("/settings/languages", data={"language": "de", "back": "//elsewhere.example"})
    assert store(bench).locales == ["de"], "once is enough"
    assert (
        client.post("/settings/languages", data={"language": "x", "back": "//evil.example"})
        .headers["Location"]
        .startswith("/settings")
    )


# ---- senders


def test_a_sender_is_made_verified_by_code_used_and_can_not_go_while_it_is(client, bench, mailbox):
    client.post("/senders", data={"address": "workshop@KITES.example", "name": "The workshop"})
    assert [(one.key, one.verified) for one in store(bench).senders] == [("workshop", False)]
    refused = client.post("/senders", data={"address": "not one", "name": "Keep me"})
    assert (refused.status_code, "is no email address" in text(refused), "Keep me" in text(refused)) == (
        422,
        True,
        True,
    )

    bench.deliver(made.body())
    with bench.database.writing() as session:
        row = session.query(RouteRow).one()
        from angelon.db.setup import specs

        specs.save_draft(session, RouteRow, bench.store_id, made.route(sender="workshop"), bench.clock.now())
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    bench.plan()
    why = "workshop@kites.example is not verified yet, so nothing is sent from it."
    assert bench.rows("SELECT state, reason FROM send") == [("held", why)]
    assert why in text(client.get("/routes/received"))

    assert "A code is on its way" in text(
        client.post("/senders/workshop/verify", data={"gateway": "mailroom"}, follow_redirects=True)
    )
    code = re.search(rb"Subject: (\d{6})", bench.box.mails()[0].raw)[1].decode()
    wrong = client.post("/senders/workshop/verify", data={"code": "12"}, follow_redirects=True)
    assert "That is not the code" in text(wrong)
    right = client.post("/senders/workshop/verify", data={"code": code}, follow_redirects=True)
    assert "is verified. 1 held send goes out now." in text(right)
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT state FROM send") == [("sent",)]
    assert b"From: The workshop <workshop@kites.example>" in bench.box.mails()[0].raw

    gone = client.post("/senders/workshop/delete", follow_redirects=True)
    assert "The sender is used by Received." in text(gone)
    with bench.database.writing() as session:  # the draft asks for it no more; what is live still does
        specs.save_draft(session, RouteRow, bench.store_id, made.route(), bench.clock.now())
    gone = client.post("/senders/workshop/delete", follow_redirects=True)
    assert "The sender is used by Received." in text(gone)
    moved = client.post("/senders/workshop", data={"address": "new@kites.example", "name": "The workshop"})
    assert moved.status_code == 302
    assert not store(bench).senders[0].verified, "another address is verified anew"


def gateway_sender(bench, key):
    from angelon.db.setup.live_setup import load

    with bench.database.reading() as session:
        return load(session, bench.store_id).setup.gateways[key].sender


def test_a_code_read_at_an_address_verifies_it_for_whatever_sends_from_it(client, bench, mailbox):
    form = {"name": "Second", "host": "127.0.0.1", "port": str(mailbox.port), "sender.address": "hello@kites.example"}
    client.post("/gateways", data={"name": "Second", "kind": "smtp"})
    client.post("/gateways/second", data=form)
    client.post("/senders", data={"address": "Hello@kites.example", "name": "Hello"})
    page = text(client.get("/senders"))
    assert page.count("not verified") == 2
    assert page.count("Have a code sent") == 2, "each row leads to where it is verified"
    client.post("/senders/hello/verify", data={"gateway": "mailroom"})
    code = re.search(rb"Subject: (\d{6})", bench.box.mails()[0].raw)[1].decode()
    client.post("/senders/hello/verify", data={"code": code})
    assert gateway_sender(bench, "second").verified, "the gateway's own sender is the same address"
    assert store(bench).senders[0].verified
    client.post("/senders", data={"address": "hello@kites.example", "name": "Hello again"})
    assert [one.verified for one in store(bench).senders] == [True, True], "and asks for no second code"
    client.post("/gateways/second", data=form | {"sender.address": "other@kites.example"})
    assert not gateway_sender(bench, "second").verified
    client.post("/gateways/second", data=form)
    assert gateway_sender(bench, "second").verified


def test_nobody_writes_in_a_customer_s_name(client, bench):
    with bench.database.writing() as session:
        identity = "email:jo@example.org"
        session.add(ContactRow(store_id=bench.store_id, identity=identity, email="jo@example.org"))
    refused = client.post("/senders", data={"address": "Jo@example.org"})
    assert "jo@example.org is a customer’s address" in text(refused).replace("Jo@", "jo@")
    assert store(bench).senders == []
    page = client.get("/gateways/mailroom").get_data(as_text=True)
    edits = re.search(r'name="edits"\s+value="(\d+)"', page)[1]
    form = {"name": "Mailroom", "host": "127.0.0.1", "port": "25", "sender.address": "jo@example.org", "edits": edits}
    assert "is a customer’s address" in text(client.post("/gateways/mailroom", data=form))


def test_twins_of_a_sender_are_refused_and_the_same_address_with_another_name_is_not(client, bench):
    client.post("/senders", data={"address": "a@kites.example", "name": "One"})
    assert "with this name already" in text(client.post("/senders", data={"address": "a@kites.example", "name": "One"}))
    client.post("/senders", data={"address": "a@kites.example", "name": "Two"})
    assert [one.key for one in store(bench).senders] == ["a", "a-kites-example"]
    client.post("/senders/a/delete")
    assert [one.name for one in store(bench).senders] == ["Two"]
    assert client.get("/senders/a").status_code == 404


def test_orders_that_would_go_at_once_are_counted_and_asked_about(client, bench):
    for number in range(4):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d-{number}")
    bench.plan()
    later = bench.clock.now() + dt.timedelta(days=50)
    bench.clock.now = lambda: later
    form = SHOP | {"name": "Kites & More", "keep.orders_days": "40", "keep.bodies_days": ""}
    with bench.database.connection() as connection:  # the fourth one's send waits still
        connection.exec_driver_sql("UPDATE send SET state = 'sent' WHERE id != (SELECT max(id) FROM send)")
    asked = client.post("/settings", data=form)
    assert asked.status_code == 422
    assert "Not saved yet: 3 orders would go" in text(asked)
    assert "Their last event is over 40 days ago" in text(asked)
    assert 'value="Kites &amp; More"' in asked.get_data(as_text=True), "what was typed is still there"
    assert store(bench).keep.orders_days == 0
    assert client.post("/settings", data=form | {"orders_go": "1"}).status_code == 302
    assert (store(bench).keep.orders_days, store(bench).keep.bodies_days) == (40, 0)
    assert client.post("/settings", data=form).status_code == 302, "what is so already is not asked about"
    assert client.post("/settings", data=form | {"keep.orders_days": "90"}).status_code == 302, "nor what keeps longer"
    wrong = client.post("/settings", data=form | {"keep.orders_days": "-3"})
    assert wrong.status_code == 422
    assert "Not saved. What you wrote is still here." in text(wrong)
