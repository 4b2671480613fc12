"""SMS and chat over real HTTP against the stand-in providers, with every fault they have; fetching with its guard."""

import datetime as dt
import gzip
import http.server
import threading
import tracemalloc
import zlib

import pytest

from angelon.core.calls import CantCall, make_request, problems_of, read_answer
from angelon.core.specs import Gateway
from angelon.core.specs.gateway import Auth, HttpCall
from angelon.gateways import reviews
from angelon.gateways.fetching import CantFetch, fetch, public
from angelon.gateways.http import HttpTransport
from angelon.gateways.interface import ProviderMessage
from angelon.standins import account as standin
from angelon.standins.box import Box
from angelon.standins.providers import Providers
from tests.made import provider

SMS = {
    "to": "+353209150001",
    "sender": "Kites",
    "text": "Hello “you”\nthere",
    "locale": "en",
    "segments": 1,
    "encoding": "UCS-2",
}


@pytest.fixture
def box(tmp_path):
    return Box(tmp_path)


@pytest.fixture
def server(box):
    running = Providers(box)
    running.start()
    yield running
    running.stop()


def transport(server, kind="sms", **changes):
    return HttpTransport(Gateway.model_validate(provider(kind, server.port) | changes), "tok")


def test_a_text_reaches_the_handset_as_it_was_written(server, box):
    outcome = transport(server).deliver(ProviderMessage(SMS), "sd-1")
    assert (outcome.kind, outcome.code) == ("accepted", "202")
    (text,) = box.texts()
    assert (text.to, text.sender, text.text, text.reference) == (
        "+353209150001",
        "Kites",
        "Hello “you”\nthere",
        outcome.reference,
    )


def test_the_same_key_again_is_the_same_message(server, box):
    gateway = transport(server)
    assert (
        gateway.deliver(ProviderMessage(SMS), "sd-1").reference
        == gateway.deliver(ProviderMessage(SMS), "sd-1").reference
    )
    assert len(box.texts()) == 1


@pytest.mark.parametrize(("fault", "kind", "code"), [("busy", "temporary", "429"), ("broken", "temporary", "500")])
def test_a_busy_or_broken_provider_is_tried_again(server, box, fault, kind, code):
    box.set("sms_fault", fault)
    outcome = transport(server).deliver(ProviderMessage(SMS), "sd-1")
    assert (outcome.kind, outcome.code) == (kind, code)
    assert outcome.retry_after == (3 if fault == "busy" else None)
    assert box.texts() == []


def test_a_dropped_connection_after_the_message_is_an_outcome_nobody_knows(server, box):
    box.set("sms_fault", "drop")
    gateway = transport(server)
    assert gateway.deliver(ProviderMessage(SMS), "sd-1").kind == "unknown"
    box.set("sms_fault", "none")
    assert gateway.deliver(ProviderMessage(SMS), "sd-1").kind == "accepted"
    assert len(box.texts()) == 1, "the key kept it from being sent twice"


def test_a_slow_provider_is_not_waited_for_forever(server, box, monkeypatch):
    monkeypatch.setattr(standin, "SLOW", 1.5)
    box.set("sms_fault", "slow")
    outcome = transport(server, timeout_seconds=0.3).deliver(ProviderMessage(SMS), "sd-1")
    assert (outcome.kind, "no answer in time" in outcome.answer) == ("unknown", True)


def test_a_bad_number_is_refused_for_good_and_what_any_message_would_meet_is_not(server, box):
    outcome = transport(server).deliver(ProviderMessage(SMS | {"to": "020 915"}), "sd-1")
    assert (outcome.kind, outcome.code) == ("permanent", "422")
    assert "no number in the international form" in outcome.answer
    box.set("sms_token", "another")
    outcome = transport(server).deliver(ProviderMessage(SMS), "sd-2")
    assert (outcome.kind, outcome.code, outcome.unreachable) == ("temporary", "401", True)
    box.set("sms_token", "tok")
    box.set("sms_fault", "empty")
    outcome = transport(server).deliver(ProviderMessage(SMS), "sd-3")
    assert (outcome.kind, outcome.code, outcome.unreachable) == ("temporary", "402", True)
    assert "credit is used up" in outcome.answer


def test_a_provider_that_is_not_there_is_tried_again():
    gateway = Gateway.model_validate(provider("sms", 1))
    outcome = HttpTransport(gateway, "tok").deliver(ProviderMessage(SMS), "sd-1")
    assert (outcome.kind, "refused" in outcome.answer) == ("temporary", True)
    told = HttpTransport(gateway, "").deliver(ProviderMessage(SMS), "sd-1")
    assert (told.kind, "no token or password yet" in told.answer) == ("temporary", True)


def test_a_chat_text_is_reviewed_and_then_sent(server, box):
    gateway = Gateway.model_validate(provider("chat", server.port))
    values = {
        "text_key": "m",
        "locale": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "Hello {1}, your order is here.",
        "footer": "",
        "buttons": [],
        "samples": ["Jo"],
        "placeholders": 1,
    }
    verdict = reviews.submit(gateway, "tok", values)
    assert verdict.state == "approved"
    note = {
        "to": "+353209150001",
        "sender": "kites",
        "template": verdict.reference,
        "values": ["{1} <b>"],
        "locale": "en",
    }
    assert transport(server, "chat").deliver(ProviderMessage(note), "sd-1").kind == "accepted"
    assert box.chats()[0].spec["body"] == "Hello {1} <b>, your order is here."
    refused = transport(server, "chat").deliver(ProviderMessage(note | {"values": []}), "sd-2")
    assert (refused.kind, refused.code) == ("permanent", "422")


def test_a_rejected_text_has_its_reason_and_can_not_be_sent(server):
    gateway = Gateway.model_validate(provider("chat", server.port))
    values = {
        "text_key": "m",
        "locale": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "{1}, hello",
        "footer": "",
        "buttons": [],
        "samples": ["Jo"],
        "placeholders": 1,
    }
    verdict = reviews.submit(gateway, "tok", values)
    assert (verdict.state, verdict.reason) == ("rejected", "The body starts or ends with a placeholder.")
    note = {"to": "+353209150001", "sender": "kites", "template": verdict.reference, "values": ["x"], "locale": "en"}
    assert transport(server, "chat").deliver(ProviderMessage(note), "sd-1").kind == "permanent"


def test_a_review_that_takes_its_time_is_asked_after(server, box):
    box.set("chat_review_seconds", 3600)
    gateway = Gateway.model_validate(provider("chat", server.port))
    values = {
        "text_key": "m",
        "locale": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "Hello there.",
        "footer": "",
        "buttons": [],
        "samples": [],
        "placeholders": 0,
    }
    verdict = reviews.submit(gateway, "tok", values)
    assert verdict.state == "submitted"
    assert reviews.look(gateway, "tok", verdict.reference).state == "submitted"
    box.set("chat_review_seconds", 0)
    assert reviews.look(gateway, "tok", verdict.reference).state == "approved"
    assert reviews.look(gateway, "tok", "tx-nothing").state == "failed"


# ---- requests from settings


def test_a_request_is_made_from_its_settings():
    call = HttpCall(
        url="https://p.example/{{ sender | urlencode }}/send",
        headers={"X-Key": "{{ key }}"},
        body='{"to": {{ to | json }}, "text": {{ text | json }}, "n": {{ values | json }}}',
    )
    request = make_request(
        call, Auth(scheme="basic", username="me"), "pw", SMS | {"key": "sd-1", "sender": "a b/c", "values": ["x", '"']}
    )
    assert request.url == "https://p.example/a%20b%2Fc/send"
    assert request.headers["X-Key"] == "sd-1"
    assert request.headers["Authorization"] == "Basic bWU6cHc="
    assert request.body == '{"to": "+353209150001", "text": "Hello “you”\\nthere", "n": ["x","\\""]}'.encode()


@pytest.mark.parametrize(
    ("call", "where"),
    [
        ({"url": ""}, "call.url"),
        ({"url": "https://p.example", "body": '{"to": {{ to }}'}, "call.body"),
        ({"url": "https://p.example", "body": "{{ to"}, "call.body"),
        ({"url": "https://p.example", "headers": {"Bad Name": "x"}, "body": "{}"}, "call.headers.Bad Name"),
        ({"url": "https://p.example", "body": "{}", "id_at": "$["}, "call.id_at"),
    ],
)
def test_settings_that_make_no_request_are_told_where(call, where):
    assert [p.where for p in problems_of(HttpCall.model_validate(call), "call", SMS | {"key": "x"})] == [where]


def test_a_value_can_not_add_a_header_or_another_field():
    call = HttpCall(url="https://p.example", headers={"X-To": "{{ text }}"}, body="{}")
    with pytest.raises(CantCall):
        make_request(call, Auth(), "", {"text": "a\r\nX-Evil: 1"})
    body = HttpCall(url="https://p.example", body='{"a": {{ text | json }}}')
    assert make_request(body, Auth(), "", {"text": '", "b": "'}).body == b'{"a": "\\", \\"b\\": \\""}'
    form = HttpCall(
        url="https://p.example", content_type="application/x-www-form-urlencoded", body="a={{ text | urlencode }}"
    )
    assert make_request(form, Auth(), "", {"text": "x&b=1"}).body == b"a=x%26b%3D1"


def test_an_answer_is_read_where_the_settings_say():
    call = HttpCall(url="https://p.example", id_at="$.data.id", outcome_at="$.data.state", reason_at="$.errors[0].text")
    told = read_answer(call, b'{"data": {"id": 7, "state": "no"}, "errors": [{"text": "why"}]}')
    assert (told.id, told.outcome, told.reason) == ("7", "no", "why")
    assert read_answer(call, b"<html>") == read_answer(call, b"{}")


# ---- fetching


class Site(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        if self.path == "/away":
            self.send_response(302)
            self.send_header("Location", "http://127.0.0.2:1/x")
            self.end_headers()
        elif self.path == "/round":
            self.send_response(302)
            self.send_header("Location", "/round")
            self.end_headers()
        elif self.path == "/missing":
            self.send_error(404)
        elif self.path == "/slow":
            self.send_response(200)
            self.end_headers()
            try:
                for _ in range(40):
                    self.wfile.write(b"x")
                    self.wfile.flush()
                    threading.Event().wait(0.1)
            except OSError:
                pass
        else:
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"%PDF-1.7" + b"x" * (5_000_000 if self.path == "/large" else 10))

    def log_message(self, *_): ...


@pytest.fixture(scope="module")
def site():
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Site)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def test_a_file_comes_from_a_host_that_the_store_allows(site):
    assert fetch(f"{site}/a.pdf", ["127.0.0.1"]) == b"%PDF-1.7xxxxxxxxxx"


@pytest.mark.parametrize(
    ("path", "said", "for_good"),
    [
        ("/large", "larger than 1.0 MB", True),
        ("/missing", "answered 404", True),
        ("/round", "redirects more than 3 times", False),
        ("/away", "127.0.0.2, a private address", True),
        ("/slow", "takes too long", False),
    ],
)
def test_what_is_too_much_or_leads_inside_is_not_fetched(site, path, said, for_good):
    with pytest.raises(CantFetch, match=said) as error:
        fetch(site + path, ["127.0.0.1"], max_bytes=1_000_000, seconds=1)
    assert error.value.for_good is for_good


@pytest.mark.parametrize(
    "address",
    [
        "127.0.0.1",
        "10.1.2.3",
        "172.16.0.1",
        "192.168.1.1",
        "169.254.169.254",
        "0.0.0.0",
        "100.64.0.1",
        "::1",
        "fe80::1",
        "fc00::1",
        "::ffff:127.0.0.1",
        "224.0.0.1",
        "255.255.255.255",
        "64:ff9b::a00:1",
        "2002:a00:1::",
    ],
)
def test_addresses_inside_the_house_are_known(address):
    assert not public(address)


def test_public_addresses_are_public():
    assert public("93.184.215.14")
    assert public("2606:4700::1")


@pytest.mark.parametrize(
    "url",
    [
        "file:///etc/passwd",
        "ftp://x.example/",
        "http://",
        "https://user:pw@x.example/",
        "http://127.0.0.1:1/x",
        "http://localhost:1/",
        "http://[::1]:1/",
        "http://2130706433/",
    ],
)
def test_addresses_that_are_none_or_lead_inside_are_refused(url):
    with pytest.raises(CantFetch):
        fetch(url, seconds=1)


def test_retry_after_may_be_a_date():
    import httpx

    from angelon.gateways.http import retry_after

    at = (dt.datetime.now(dt.UTC) + dt.timedelta(seconds=30)).strftime("%a, %d %b %Y %H:%M:%S GMT")
    assert 25 < retry_after(httpx.Response(429, headers={"Retry-After": at})) <= 31
    assert retry_after(httpx.Response(429, headers={"Retry-After": "soon"})) is None


class Compressed(http.server.BaseHTTPRequestHandler):
    """Takes every message, and answers in a way that nobody asked for."""

    coding, body, asked = "gzip", b"", 0

    def do_POST(self):
        type(self).asked += 1
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(200)
        self.send_header("Content-Encoding", self.coding)
        self.send_header("Content-Length", str(len(self.body)))
        self.end_headers()
        self.wfile.write(self.body)

    def log_message(self, *_):
        pass


@pytest.fixture
def compressed():
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Compressed)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_address[1]
    server.shutdown()


def bomb():
    packer = zlib.compressobj(9, wbits=31)
    return b"".join(packer.compress(bytes(1_000_000)) for _ in range(300)) + packer.flush()


@pytest.mark.parametrize(
    ("coding", "body", "kind"),
    [
        ("gzip", b'{"id": "m-1", "outcome": "queued"}', "unknown"),  # it says so, and is not
        ("gzip, gzip", b"twice", "unknown"),
        ("br", b"xx", "unknown"),
        ("gzip", gzip.compress(b'{"id": "m-1", "outcome": "queued"}', mtime=0), "accepted"),
    ],
    ids=["no gzip", "twice", "unknown coding", "gzip"],
)
def test_an_answer_that_can_t_be_unpacked_is_unknown_and_never_a_reason_to_send_again(compressed, coding, body, kind):
    Compressed.coding, Compressed.body = coding, body
    gateway = Gateway.model_validate(
        provider("sms", compressed)
        | {"call": {"url": f"http://127.0.0.1:{compressed}/", "body": '{"text": {{ text | json }}}'}}
    )
    assert HttpTransport(gateway, "tok").deliver(ProviderMessage(SMS), "sd-1").kind == kind


def test_an_answer_is_unpacked_no_further_than_it_is_read(compressed):
    """300 MB of zeros in 300 kB."""
    Compressed.coding, Compressed.body = "gzip", bomb()
    gateway = Gateway.model_validate(
        provider("sms", compressed)
        | {"call": {"url": f"http://127.0.0.1:{compressed}/", "body": '{"text": {{ text | json }}}'}}
    )
    tracemalloc.start()
    HttpTransport(gateway, "tok").deliver(ProviderMessage(SMS), "sd-1")
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak < 30_000_000
