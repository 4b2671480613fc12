"""A provider's gateway stays off until it has accepted a test; the request stands beside the test, without secrets."""

import json

import pytest

from angelon.core.calls import shown_request
from angelon.core.specs import Gateway, Message
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, MessageRow
from angelon.gateways.interface import Outcome
from tests import made
from tests.web.test_pages import text

LINE = {"key": "line", "name": "Text line", "kind": "sms", "sender_id": "Kites"}
BODY = '{"to": {{ to | json }}, "text": {{ text | json }}, "api_token": "s3cret"}'


def line(url="http://127.0.0.1:9/send", **changes):
    call = {"url": url, "body": BODY, "headers": {"X-Api-Key": "s3cret", "X-Shop": "kites"}}
    return Gateway.model_validate({**LINE, "call": call, **changes})


@pytest.fixture
def shop(bench):
    bench.change(line(untried=True, auth={"scheme": "bearer"}), GatewayRow)
    spec = made.message().model_dump(mode="json") | {"sms": {"en": {"text": "Order of {{ customer_name }}"}}}
    with bench.database.writing() as session:
        row = specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(spec), bench.clock.now())
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    bench.deliver(made.body())
    bench.plan()
    return bench


def test_a_port_that_opens_switches_no_provider_on(shop, client, mailbox):
    shop.change(line(f"http://127.0.0.1:{mailbox.port}/send", untried=True), GatewayRow)
    said = text(client.post("/gateways/line/try"))
    assert "The request and its authentication are not tested yet" in said
    assert "stays off until a test message is accepted" in said
    assert "Send a test of Received" in said
    assert shop.services.setups.get(shop.store_id).setup.gateways["line"].untried


@pytest.mark.parametrize(("kind", "on"), [("accepted", True), ("permanent", False)])
def test_a_test_that_is_accepted_switches_it_on(shop, client, kind, on):
    class Way:
        def deliver(self, mail, key):
            return Outcome(kind, "200" if on else "403", "said so")

        def close(self): ...

    form = {"channel": "sms", "locale": "en", "gateway": "line", "to": "+353209150000"}
    send = client.post("/messages/received/test", data=form).json["send"]
    dispatcher = shop.dispatcher()
    dispatcher._make_transport = lambda *_: Way()
    dispatcher.run_batch(8)
    said = text(client.get(f"/messages/received/test/{send}"))
    assert ("The gateway Text line is switched on now." in said) is on
    assert shop.services.setups.get(shop.store_id).setup.gateways["line"].untried is not on


def test_the_request_stands_beside_the_test_as_it_is_made(shop, client):
    page = client.get("/messages/received?channel=sms").text
    assert "Show the request" in page
    seen = json.loads(page.partition("data-seen>")[2].partition("</script>")[0])
    shown = seen["more"]["request"]
    assert shown.startswith("POST http://127.0.0.1:9/send\n")
    assert "Order of Jörg" in shown
    assert "Authorization: Bearer •••" in shown
    assert "X-Shop: kites" in shown
    assert "s3cret" not in page


@pytest.mark.parametrize(
    ("auth", "line_of_it"),
    [
        ({"scheme": "basic", "username": "kites"}, "Authorization: Basic ••• (kites)"),
        ({"scheme": "header", "header": "X-Token"}, "X-Token: •••"),
        ({"scheme": "hmac", "header": "X-Sign"}, "X-Sign: ••• (HMAC-SHA256 of the body)"),
        ({"scheme": "standard-webhooks"}, "webhook-signature: •••"),
        ({"scheme": "none"}, "X-Shop: kites"),
    ],
)
def test_every_proof_is_named_and_none_is_shown(auth, line_of_it):
    shown = shown_request(line(auth=auth), {"to": "+1", "text": "hi"})
    assert line_of_it in shown.split("\n")
    assert "s3cret" not in shown
    assert '"to": "+1"' in shown
