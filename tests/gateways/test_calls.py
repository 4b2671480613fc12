"""Calls to another system: the request from its template, over real HTTP against the stand-in, signed in every way."""

import base64
import datetime as dt
import hashlib
import hmac
import http.server
import threading

import pytest
from standardwebhooks import Webhook

from angelon.core.calls import CantCall, call_request, problems_of_calls
from angelon.core.messages.channels import compiled_part
from angelon.core.problems import Invalid
from angelon.core.specs import Gateway, Message, Route
from angelon.core.specs.gateway import Auth
from angelon.core.templates import CantRender
from angelon.gateways.http import HttpTransport
from angelon.gateways.interface import ProviderMessage
from angelon.standins.box import Box
from angelon.standins.providers import Providers
from tests.made import store

NOW = dt.datetime(2026, 11, 27, 9, 0, tzinfo=dt.UTC)


def message(**text):
    return Message.model_validate({"key": "mark", "name": "Mark", "call": {"en": text}})


def rendered(values=None, **text):
    return compiled_part(message(**text), "call", "en", store()).render(values or {})


def gateway(url="https://shop.example/api", **changes):
    made = {"key": "shop-api", "name": "Shop API", "kind": "call", "call": {"url": url}, "timeout_seconds": 5}
    return Gateway.model_validate(made | changes)


def test_values_in_a_path_are_encoded_and_those_of_the_body_are_json():
    made = rendered(
        {
            "order_number": "A/1 ü?",
        },
        method="PUT",
        path="/orders/{{ order_number }}/tags",
        body='{"tag": {{ order_number | json }}}',
    )
    assert (made.method, made.path) == ("PUT", "/orders/A%2F1%20%C3%BC%3F/tags")
    assert made.body == '{"tag": "A/1 ü?"}'
    assert made.as_text() == 'PUT /orders/A%2F1%20%C3%BC%3F/tags\n\n{"tag": "A/1 ü?"}'


def test_what_is_encoded_by_hand_is_not_encoded_twice():
    assert rendered({"n": "a b"}, path="/x/{{ n | urlencode }}").path == "/x/a%20b"


@pytest.mark.parametrize(
    ("text", "where", "what"),
    [
        ({"path": "/a b"}, "call.en.path", "space"),
        ({"path": "https://other.example/x"}, "call.en.path", "whole address"),
        ({"path": "/{{ x"}, "call.en.path", ""),
        ({"headers": {"Bad name": "x"}}, "call.en.headers", "header"),
        ({"body": "{{ order.nosuch | json }}"}, "call.en.body", "nosuch"),
    ],
)
def test_what_is_wrong_with_a_call_is_said_at_its_field(text, where, what):
    with pytest.raises(Invalid) as told:
        compiled_part(message(**text), "call", "en", store())
    assert told.value.problems[0].where == where
    assert what in str(told.value.problems[0])


def test_a_body_that_is_no_json_once_it_is_filled_holds_the_send():
    with pytest.raises(CantRender, match="no JSON"):
        rendered({"name": 'a"b'}, body='{"name": "{{ name }}"}')
    assert rendered({"name": "a"}, body="name={{ name | urlencode }}", content_type="application/x-www-form-urlencoded")


def test_a_get_has_no_body():
    made = rendered(method="GET", path="/ping", body='{"x": 1}')
    assert made.body == ""
    assert call_request(gateway(), "", made.provider_values(), "sd-1", NOW).body == b""


def request_of(auth, secret, **changes):
    made = rendered(path="/orders/1", body='{"a": 1}', headers={"X-Own": "yes"})
    return call_request(gateway(auth=auth, **changes), secret, made.provider_values(), "sd-1", NOW)


def test_the_address_the_headers_and_the_key_go_along():
    made = request_of({"scheme": "bearer"}, "tok")
    assert (made.method, made.url) == ("POST", "https://shop.example/api/orders/1")
    assert made.headers["Authorization"] == "Bearer tok"
    assert made.headers["Idempotency-Key"] == "sd-1"
    assert made.headers["X-Own"] == "yes"
    assert made.headers["Content-Type"] == "application/json"


def test_an_hmac_is_over_the_bytes_that_go_out():
    made = request_of({"scheme": "hmac", "header": "X-Sig"}, "a-secret")
    assert made.headers["X-Sig"] == hmac.new(b"a-secret", made.body, hashlib.sha256).hexdigest()


def test_the_reference_library_takes_a_standard_webhooks_signature():
    secret = "whsec_" + base64.b64encode(b"x" * 24).decode()
    now = dt.datetime.now(dt.UTC)
    made = rendered(path="/hook", body='{"a": 1}')
    sent = call_request(gateway(auth={"scheme": "standard-webhooks"}), secret, made.provider_values(), "sd-77", now)
    assert Webhook(secret).verify(sent.body, dict(sent.headers)) == {"a": 1}
    assert sent.headers["webhook-id"] == "sd-77"


@pytest.mark.parametrize(
    ("auth", "secret", "what"),
    [
        ({"scheme": "bearer"}, "", "no token"),
        ({"scheme": "hmac"}, "s", "No header"),
        ({"scheme": "standard-webhooks"}, "not base64!", "base64"),
    ],
)
def test_what_keeps_a_request_from_being_made_is_said(auth, secret, what):
    with pytest.raises(CantCall, match=what):
        request_of(auth, secret)


def test_a_header_can_not_be_broken_out_of():
    made = rendered({"x": "a\r\nEvil: 1"}, path="/", headers={"X-Own": "{{ x }}"})
    sent = call_request(gateway(), "", made.provider_values(), "sd-1", NOW)
    assert sent.headers["X-Own"] == "a Evil: 1"
    made = rendered({"x": "für"}, path="/", headers={"X-Own": "{{ x }}"})
    with pytest.raises(CantCall, match="plain ASCII"):
        call_request(gateway(), "", made.provider_values(), "sd-1", NOW)


def test_a_gateway_without_an_address_is_not_saved():
    assert problems_of_calls(gateway(url=""))[0].where == "call.url"
    assert problems_of_calls(gateway()) == []


def test_a_call_is_for_its_gateways_system_whoever_was_named():
    assert [one.kind for one in Route(key="r", name="R", channel="call", to=["customer"]).to] == ["system"]
    back = Route.model_validate({"key": "r", "name": "R", "channel": "email", "to": [{"kind": "system"}]})
    assert [one.kind for one in back.to] == ["customer"]


# ---- over real HTTP


@pytest.fixture
def box(tmp_path):
    return Box(tmp_path)


@pytest.fixture
def server(box):
    running = Providers(box)
    running.start()
    yield running
    running.stop()


def deliver(server, auth, secret, key="sd-1", **text):
    made = rendered(**({"method": "PUT", "path": "/orders/BK-1/tags", "body": '{"tag": "told"}'} | text))
    way = HttpTransport(
        gateway(
            f"http://127.0.0.1:{server.port}/system",
            auth=auth,
            call={"url": f"http://127.0.0.1:{server.port}/system", "id_at": "$.id", "reason_at": "$.reason"},
        ),
        secret,
    )
    return way, way.deliver(ProviderMessage(made.provider_values()), key)


def test_the_system_is_asked_once_however_often_it_is_tried(server, box):
    box.set("system_token", "tok")
    way, first = deliver(server, {"scheme": "bearer"}, "tok")
    made = rendered(method="PUT", path="/orders/BK-1/tags", body='{"tag": "told"}')
    again = way.deliver(ProviderMessage(made.provider_values()), "sd-1")
    assert (first.kind, again.kind) == ("accepted", "accepted")
    assert first.reference == again.reference
    ((row),) = box.calls()
    assert (row.method, row.path, row.body) == ("PUT", "/orders/BK-1/tags", {"tag": "told"})


@pytest.mark.parametrize(("fault", "kind"), [("busy", "temporary"), ("broken", "temporary"), ("drop", "unknown")])
def test_a_system_that_misbehaves_is_tried_again(server, box, fault, kind):
    box.set("system_fault", fault)
    _, outcome = deliver(server, {"scheme": "none"}, "")
    assert outcome.kind == kind
    assert outcome.retry_after == (3 if fault == "busy" else None)


def test_what_it_does_not_know_is_refused_for_good_with_its_reason(server):
    _, outcome = deliver(server, {"scheme": "none"}, "", path="/orders/unknown-1/tags")
    assert (outcome.kind, outcome.code, outcome.answer) == ("permanent", "404", "There is no such order.")


def oauth(server):
    return {"scheme": "oauth", "username": "angelon", "token_url": f"http://127.0.0.1:{server.port}/system/token"}


def test_a_token_is_asked_for_once_and_anew_when_it_is_withdrawn(server, box):
    box.set("system_token", "one")
    way, outcome = deliver(server, oauth(server), "one")
    assert outcome.kind == "accepted"
    box.set("system_token", "two")  # the old token is not good any more, and neither is the client's secret
    made = rendered(path="/orders/2")
    outcome = way.deliver(ProviderMessage(made.provider_values()), "sd-2")
    assert outcome.kind == "temporary"
    assert "No token" in outcome.answer
    way, outcome = deliver(server, oauth(server), "two", key="sd-3")
    assert outcome.kind == "accepted"


def test_an_answer_that_is_no_token_is_told():
    class Silly(http.server.BaseHTTPRequestHandler):
        def do_POST(self):
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b'{"token": "x"}')

        def log_message(self, *_): ...

    server = http.server.HTTPServer(("127.0.0.1", 0), Silly)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}"
    way = HttpTransport(gateway(url, auth=Auth(scheme="oauth", username="a", token_url=url).model_dump()), "s")
    outcome = way.deliver(ProviderMessage(rendered(path="/x").provider_values()), "sd-1")
    server.shutdown()
    server.server_close()
    assert outcome.kind == "temporary"
    assert "holds no access_token" in outcome.answer
