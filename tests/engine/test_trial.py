"""A store on trial: everything is decided and kept as ever, and no customer is written to."""

import pytest

from angelon.core.specs import Gateway, Message
from angelon.db.tables import GatewayRow, MessageRow
from angelon.gateways.interface import Outcome
from tests.engine.test_fallbacks import Shop
from tests.web.test_pages import text

DEVELOPER = {"name": "Tomas", "role": "developer", "email": "tomas@kites.example", "phone": "+353209150002"}
OWNER = {"name": "Nuala", "role": "owner", "email": "nuala@kites.example"}


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(team=[OWNER, DEVELOPER])
    shop.route(key="received")
    shop.route(key="by-text", channel="sms", gateway="line")
    shop.route(key="inside", to=[{"kind": "role", "who": "owner"}], guards={"even_if_notified": True})
    return shop


def trial(shop, client, which):
    answer = client.post("/settings/trial", data={"trial": which}, follow_redirects=True)
    shop.bench.services.setups.forget()
    return text(answer)


def sends(shop):
    sql = (
        "SELECT route.key, send.state, send.recipient, send.reason FROM send JOIN route ON route.id = send.route_id "
        "ORDER BY route.key"
    )
    return {row[0]: tuple(row[1:]) for row in shop.bench.rows(sql)}


def test_for_the_team_each_message_goes_there_and_says_for_whom(shop, client):
    assert "no customer is written to" in trial(shop, client, "team")
    shop.order()
    shop.dispatch()
    mails = {mail.to_address: mail.data.decode() for mail in shop.ways["email"].mails}
    assert set(mails) == {"tomas@kites.example", "nuala@kites.example"}
    assert "Subject: [trial, for jo@example.org]" in mails["tomas@kites.example"]
    assert "[trial" not in mails["nuala@kites.example"], "what is for the team is as ever"
    (sms,) = shop.ways["sms"].mails
    assert (sms.values["to"], sms.values["text"]) == ("+353209150002", "[trial, for +493023125014] Order of Jo")
    state, recipient, reason = sends(shop)["received"]
    assert (state, recipient) == ("sent", "jo@example.org"), "the log says whom it was for"
    assert reason == ("On trial: it went to tomas@kites.example, and would have gone by email to jo@example.org.")


def test_for_nobody_each_message_is_kept_with_what_it_says(shop, client):
    trial(shop, client, "nobody")
    shop.order()
    shop.dispatch()
    assert [mail.to_address for mail in shop.ways["email"].mails] == ["nuala@kites.example"]
    assert shop.ways["sms"].mails == []
    state, _, reason = sends(shop)["received"]
    assert (state, reason) == ("skipped", "On trial: it would have gone by email to jo@example.org.")
    assert [one.text for one in shop.bench.said("channel = 'sms'")] == ["Order of Jo"]
    assert shop.bench.rows("SELECT cost FROM send WHERE channel = 'sms'") == [("",)]


def test_other_systems_are_not_called(shop, client):
    shop.publish(
        MessageRow, Message.model_validate({"key": "tell", "name": "Tell", "call": {"en": {"path": "/x", "body": "1"}}})
    )
    shop.bench.change(
        Gateway.model_validate(
            {"key": "api", "name": "API", "kind": "call", "call": {"url": "https://api.example", "body": ""}}
        ),
        GatewayRow,
    )
    shop.route(key="call", send="tell", channel="call", gateway="api")
    trial(shop, client, "team")
    shop.order()
    shop.dispatch()
    assert sends(shop)["call"][0] == "skipped"
    assert "On trial" in sends(shop)["call"][2]


def test_a_refused_address_of_the_team_suppresses_no_customer(shop, client):
    trial(shop, client, "team")
    shop.ways["email"].outcome = Outcome("permanent", "550", "5.1.1 no such user")
    shop.order()
    shop.dispatch()
    assert shop.bench.rows("SELECT address_key FROM suppression") == []


def test_once_it_is_over_what_waits_goes_to_customers_and_the_page_says_so(shop, client):
    trial(shop, client, "nobody")
    shop.order()
    assert "On trial:" in text(client.get("/orders"))
    said = trial(shop, client, "")
    assert "3 sends wait, and go to customers when they are due" in said
    shop.dispatch()
    assert sends(shop)["received"][0] == "sent"
    assert "On trial:" not in text(client.get("/orders"))


def test_a_set_up_that_is_applied_keeps_the_trial(shop, client):
    trial(shop, client, "nobody")
    bundle = client.get("/changes").status_code
    assert bundle == 200
    shop.store(name="Kites and more")
    assert shop.bench.services.setups.get(shop.bench.store_id).trial == "nobody"
    assert client.post("/settings/trial", data={"trial": "everybody"}, follow_redirects=True).status_code == 200
    assert shop.bench.rows("SELECT trial FROM store") == [("nobody",)]
