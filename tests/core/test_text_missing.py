"""A provider's request has to hold what a message says: at saving, in routes and messages, and at every send."""

import pytest

from angelon.core.calls import text_missing
from angelon.core.planning.readiness import problems_of
from angelon.core.sending.outgoing import ProviderMessage
from angelon.core.specs import Gateway
from angelon.engine.operations import gateways as operations
from angelon.gateways.http import HttpTransport
from tests import made

URL = "https://p.example/send"
REVIEW = {"submit": {"url": URL}, "look": {"url": URL}}


def provider(body: str, kind: str = "chat", **more) -> Gateway:
    call = {"url": URL, "body": body}
    return Gateway.model_validate({"key": "p", "name": "Line", "kind": kind, "call": call, **more})


@pytest.mark.parametrize(
    ("body", "kind", "more", "speaks"),
    [
        ('{"text": {{ text | json }}}', "sms", {}, True),
        ('{"to": {{ to | json }}}', "sms", {}, False),
        ('{"text": {{ template | json }}}', "chat", {}, False),
        ('{"text": {{ template | json }}}', "chat", {"review": REVIEW}, True),
        ('{"text": {{ text | json }}}', "chat", {"review": REVIEW}, True),
        ('{"values": {{ values | json }}}', "chat", {"review": REVIEW}, False),
        ('{"to": "template and text"}', "chat", {}, False),
        ("{}", "call", {}, True),
    ],
)
def test_a_request_without_the_text_is_found(body, kind, more, speaks):
    assert (text_missing(provider(body, kind, **more)) is None) is speaks


def test_the_text_may_stand_in_the_address():
    call = {"url": URL + "?text={{ text | urlencode }}", "method": "GET"}
    assert text_missing(Gateway.model_validate({"key": "p", "name": "Line", "kind": "sms", "call": call})) is None


@pytest.mark.parametrize("kind", ["sms", "chat"])
def test_what_a_new_provider_starts_from_says_the_text(kind):
    started = Gateway.model_validate(
        {"key": "p", "name": "P", "kind": kind, "call": {"url": URL, **operations._FIRST_CALLS[kind]}}
    )
    assert text_missing(started) is None


def test_a_send_without_words_waits_for_the_gateway_to_be_mended():
    gateway = HttpTransport(provider('{"text": {{ template | json }}}'), "")
    outcome = gateway.deliver(ProviderMessage({"to": "a", "text": "Hello", "template": ""}), "sd-1")
    assert (outcome.kind, outcome.unreachable) == ("temporary", True)
    assert "does not hold what a message says" in outcome.answer


def test_a_route_by_it_does_not_go_live():
    route = made.route(gateway="p", channel="chat")
    setup = made.setup(gateways={"p": provider('{"text": {{ template | json }}}')})
    assert any("does not hold what a message says" in problem.what for problem in problems_of(route, setup))
