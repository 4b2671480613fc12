"""What is asked elsewhere about deliveries: set up and tried on its page, asked by the worker, asked again."""

import json
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Thread

import pytest

from angelon.core.specs import Source
from angelon.db.setup import bundles, specs
from angelon.db.tables import MessageRow, SourceRow
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.operations import bundles as operations
from angelon.gateways.fetching import CantFetch, fetch
from tests import made
from tests.web.test_route_pages import post, team, text


class Answers(BaseHTTPRequestHandler):
    def do_POST(self):
        body = self.rfile.read(int(self.headers["Content-Length"]))
        self.asked.append((self.path, self.headers.get("Authorization"), json.loads(body)))
        moved = self.path == "/moved"
        self.send_response(308 if moved else 201 if self.headers.get("Authorization") == "Bearer t0ken" else 401)
        if moved:
            self.send_header("Location", "/elsewhere")
        self.end_headers()
        self.wfile.write(b'{"note": "by post"}')

    def do_GET(self):
        if self.path.startswith("/away"):
            self.send_response(302)
            self.send_header("Location", self.path.removeprefix("/away?to="))
            self.end_headers()
            self.asked.append((self.path[:5], self.headers.get("X-Key")))
            return
        if self.path.startswith("/slow"):
            __import__("time").sleep(3)
        status, body = {
            "/o": (200, b'{"label": "https://x.example/l.pdf", "note": "Kein Drachen ohne Schwanz"}'),
            "/h": (500, b"no"),
            "/b": (200, b"x" * 6_000_000),
        }.get(self.path[:2], (404, b""))
        self.asked.append(self.path if self.headers.get("X-Key") is None else (self.path, self.headers.get("X-Key")))
        self.send_response(status)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_): ...


@pytest.fixture
def answering():
    Answers.asked = []
    server = HTTPServer(("127.0.0.1", 0), Answers)
    Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def asking(bench, url, **changes):
    retry = {"base_seconds": 0.1, "cap_seconds": 0.2, "max_tries": 2}
    one = {
        "name": "more",
        "url": url,
        "parameters": {"number": "$.reference"},
        "timeout_seconds": 20,
        "retry": retry,
    } | changes
    recipes = made.source().model_dump(mode="json")["recipes"] | {"gift_note": {"path": "$['+more'].note"}}
    bench.change(
        Source.model_validate(made.source(enrichments=[one], recipes=recipes).model_dump(mode="json")), SourceRow
    )


def says_the_note(bench):
    """The message says what the look-up answers."""
    with bench.database.writing() as session:
        specs.save_variable(session, bench.store_id, made.Variable(name="gift_note"))
        spec = made.message().model_dump(mode="json")
        spec["email"]["de"]["blocks"][0]["text"] = "{{ gift_note }}"
        row = specs.save_draft(
            session, MessageRow, bench.store_id, made.Message.model_validate(spec), bench.clock.now()
        )
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()


def test_a_route_that_uses_nothing_of_an_answer_waits_for_none(client, bench, answering):
    team(bench, private_hosts=["127.0.0.1"])
    asking(bench, f"{answering}/slow")
    post(client)
    assert bench.plan() == 1
    assert Answers.asked == []


def test_an_address_is_asked_once_and_what_uses_the_answer_waits_for_it(client, bench, answering):
    team(bench, private_hosts=["127.0.0.1"])
    asking(bench, f"{answering}/orders/{{number}}")
    says_the_note(bench)
    post(client)
    assert bench.plan() == 0  # it waits for the answer, and says so
    assert "It waits for the answer of the look-up “more”" in bench.rows("SELECT decisions FROM event")[0][0]
    assert enrich(bench) == 1
    assert bench.plan() == 1
    assert Answers.asked == ["/orders/BK-7"]
    page = client.get("/sources/shop/read").get_data(as_text=True)
    assert "Kein Drachen ohne Schwanz" in page
    assert "answered" in text(client.get("/sources/shop/ask"))


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("/h", "answered 500"),
        ("/b", "is larger than 0.5 MB"),
        ("/slow", "did not answer within 0.5 s"),
        ("/nothing", "answered 404"),
    ],
)
def test_an_address_that_does_not_answer_is_told_and_the_event_goes_on_without(client, bench, answering, path, said):
    team(bench, private_hosts=["127.0.0.1"])
    asking(bench, f"{answering}{path}", timeout_seconds=0.5 if path == "/slow" else 20)
    says_the_note(bench)
    post(client)
    for _ in range(2):
        enrich(bench)
        __import__("time").sleep(0.25)
    bench.plan()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "held"
    assert "“more” was asked in vain" in reason
    assert said in reason


def test_an_address_inside_the_house_is_not_asked_and_bad_settings_are_said(client, bench, answering):
    asking(bench, f"{answering}/orders/{{number}}")
    post(client)
    enrich(bench)
    assert Answers.asked == []
    assert "a private address" in text(client.get("/sources/shop/ask"))
    assert "a private address" in text(client.get("/sources/shop/ask?try=more"))
    refused = client.post("/sources/shop/ask", data={"name": "Bad name", "url": "ftp://x", "parameters": "a = $.b["})
    assert refused.status_code == 422
    page = text(refused)
    assert "lower-case letters, digits and underscores" in page
    assert "ftp://x" in refused.get_data(as_text=True)
    assert "has {ref} in its address" in text(
        client.post("/sources/shop/ask", data={"name": "x", "url": "https://x.example/{ref}", "parameters": ""})
    )


def enrich(bench):
    """Plans what came, which makes the inquiries, and asks them."""
    bench.plan()
    return Inquirer(
        bench.database, bench.services.setups, bench.clock, vault=bench.services.installation.vault
    ).run_due()


FORM = {
    "name": "more",
    "method": "POST",
    "parameters": 'number = $.reference\nview = "full"',
    "format": "json",
    "timeout_seconds": "5",
    "max_bytes": "500",
    "auth.scheme": "bearer",
}


def test_a_look_up_is_posted_with_a_token_that_no_page_shows(client, bench, answering):
    team(bench, private_hosts=["127.0.0.1"])
    post(client)  # the sample event, which came before
    bench.plan()
    form = FORM | {"url": f"{answering}/posted"}
    assert client.post("/sources/shop/ask", data=form | {"secret": "wrong"}).status_code == 302
    assert "answered 401" in text(client.get("/sources/shop/ask?try=more&open=more"))
    client.post("/sources/shop/ask", data=form | {"was": "more", "secret": "t0ken"})
    client.post("/sources/shop/ask", data=form | {"was": "more"})  # without a new one the old one stays
    page = client.get("/sources/shop/ask?open=more").get_data(as_text=True)
    assert "set; type to replace it" in page
    assert "t0ken" not in page
    post(client, made.body(placed_at="2026-03-02T11:00:00Z"))
    enrich(bench)
    assert Answers.asked[-1] == ("/posted", "Bearer t0ken", {"number": "BK-7", "view": "full"})
    assert bench.rows("SELECT problem FROM inquiry") == [("",)]
    client.post("/sources/shop/ask", data=form | {"was": "more", "name": "detail"})
    assert "set; type" in client.get("/sources/shop/ask?open=detail").get_data(as_text=True)
    client.post("/sources/shop/ask/drop", data={"name": "detail"})
    assert bench.rows("SELECT count(*) FROM secret WHERE kind LIKE 'look-up%'") == [(0,)]


def test_what_the_form_does_not_show_of_a_parameter_stays(client, bench):
    steps = [{"removeprefix": {"prefix": "BK-"}}]
    asking(bench, "https://shop.example/{number}", parameters={"number": {"path": "$.reference", "steps": steps}})
    form = FORM | {"was": "more", "method": "GET", "url": "https://shop.example/{number}", "auth.scheme": "none"}
    client.post("/sources/shop/ask", data=form | {"timeout_seconds": "7"})
    (one,) = made_source(bench).enrichments
    assert one.timeout_seconds == 7
    assert one.parameters["number"].model_dump(mode="json") == {"path": "$.reference", "steps": steps}
    assert one.parameters["view"].default == "full"
    refused = client.post("/sources/shop/ask", data=form | {"parameters": "number"})
    assert refused.status_code == 422
    assert "has no value. Write number = $.reference" in text(refused)


def made_source(bench):
    bench.services.setups.forget()
    return bench.services.setups.get(bench.store_id).setup.sources["shop"]


def test_credentials_do_not_go_along_to_another_origin(client, bench, answering):
    team(bench, private_hosts=["127.0.0.1", "localhost"])
    port = answering.rpartition(":")[2]
    allowed = ["127.0.0.1", "localhost"]
    body = fetch(f"{answering}/away?to=/o", allowed, headers={"X-Key": "k"})
    assert b"Drachen" in body
    assert Answers.asked == [("/away", "k"), ("/o", "k")]
    Answers.asked.clear()
    fetch(f"{answering}/away?to=http://localhost:{port}/o", allowed, headers={"X-Key": "k"})
    assert Answers.asked == [("/away", "k"), "/o"]
    with pytest.raises(CantFetch, match="a POST does not follow"):
        fetch(f"{answering}/moved", allowed, headers={}, body=b"{}")


def test_a_look_up_that_failed_is_told_on_the_overview_and_asked_again_from_the_order(client, bench, answering):
    team(bench, private_hosts=["127.0.0.1"])
    asking(bench, f"{answering}/nothing")
    with bench.database.writing() as session:
        specs.save_variable(session, bench.store_id, made.Variable(name="gift_note"))
        spec = made.message().model_dump(mode="json")
        spec["email"]["de"]["blocks"][0]["text"] = "{{ gift_note }}"
        row = specs.save_draft(
            session, MessageRow, bench.store_id, made.Message.model_validate(spec), bench.clock.now()
        )
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    post(client)
    enrich(bench)
    bench.plan()
    assert bench.rows("SELECT state FROM send") == [("held",)]
    assert "1 look-up was not answered" in text(client.get("/"))
    assert "answered 404" in text(client.get("/events"))
    ((event, order),) = bench.rows("SELECT id, order_id FROM event WHERE name != 'sample'")
    page = client.get(f"/orders/{order}").get_data(as_text=True)
    assert f"/events/{event}/ask" in page
    still = client.post(f"/events/{event}/ask", data={"name": "more"}, follow_redirects=True)
    assert "Still no answer: 127.0.0.1 answered 404" in text(still)
    asking(bench, f"{answering}/o")
    mended = text(client.post(f"/events/{event}/ask", data={"name": "more"}, follow_redirects=True))
    assert "Answered: the values of +more are there. 1 held send goes out now." in mended
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]
    assert "was not answered" not in text(client.get("/"))
    assert client.post(f"/events/{event}/ask", data={"name": "none"}).status_code == 404
    assert client.post("/events/ev_none/ask", data={"name": "more"}).status_code == 404


def test_a_bundle_asks_for_a_look_up_s_token_by_name_and_takes_it(client, bench, monkeypatch):
    asking(bench, "https://shop.example/{number}", auth={"scheme": "bearer"})
    with bench.database.reading() as session:
        bundle = bundles.export(session, bench.store_id)
    (missing,) = [
        one for one in operations.missing_secrets(bench.services.installation, bundle) if one.kind == "look-up"
    ]
    assert missing.variable == "ANGELON_SECRET_LOOK_UP_SHOP_MORE"
    monkeypatch.setenv(missing.variable, "t0ken")
    secrets = operations.from_environment([missing])
    operations.apply(bench.services.installation, bundle, secrets=secrets)
    assert not [one for one in operations.missing_secrets(bench.services.installation, bundle) if one.kind == "look-up"]
    assert bench.rows("SELECT kind FROM secret WHERE kind LIKE 'look-up%'") == [("look-up:more",)]
