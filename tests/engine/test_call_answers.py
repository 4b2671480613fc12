"""What another system answers to a call: kept with the event, heard by routes, attached to a mail."""

import base64
import json
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import pytest
from sqlmodel import select

from angelon.core.messages.attachments import written_out
from angelon.core.specs import Gateway, Message, Route, Variable
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, MessageRow, RouteRow, SourceRow
from angelon.standins.box import MailRow
from tests import made
from tests.engine.test_fallbacks import Shop

PDF = b"%PDF-1.7\n" + b"a label " * 20


class System(BaseHTTPRequestHandler):
    status = 200

    def do_POST(self):
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(self.status)
        self.end_headers()
        self.wfile.write(json.dumps({"id": "L-1", "label": base64.b64encode(PDF).decode()}).encode())

    def do_GET(self):
        known = (
            self.path in ("/docs/BK-7.pdf", "/docs/BK-7-2.pdf") and self.headers.get("Authorization") == "Bearer t0k"
        )
        self.send_response(200 if known else 404)
        self.end_headers()
        self.wfile.write(PDF if known else b"no")

    def log_message(self, *_): ...


@pytest.fixture
def shop(bench, mailbox):
    server = ThreadingHTTPServer(("127.0.0.1", 0), System)
    Thread(target=server.serve_forever, daemon=True).start()
    System.status = 200
    shop = Shop(bench)
    shop.store(private_hosts=["127.0.0.1"])
    call = {"url": f"http://127.0.0.1:{server.server_port}"}
    bench.change(Gateway.model_validate({"key": "labels", "name": "Labels", "kind": "call", "call": call,
                                         "auth": {"scheme": "bearer"}}), GatewayRow)  # fmt: skip
    with bench.database.writing() as session:
        row = specs.by_key(session, GatewayRow, bench.store_id, "labels")
        bench.vault.put(session, "gateway", row.id, "t0k", bench.clock.now())
        specs.save_variable(session, bench.store_id, Variable(name="label", required=False))
        specs.save_variable(session, bench.store_id, Variable(name="label_status", required=False))
    source = made.source()
    recipes = source.model_dump(mode="json")["recipes"] | {
        "label": "$['+make_label'].body.label", "label_status": "$['+make_label'].status",
    }  # fmt: skip
    bench.change(source.model_validate(source.model_dump(mode="json") | {"recipes": recipes}), SourceRow)
    text = {"method": "POST", "path": "/labels", "body": '{"order": {{ order.number | json }}}', "keep_answer": True}
    shop.publish(MessageRow, Message.model_validate({"key": "make-label", "name": "Make label", "call": {"en": text}}))
    yield shop
    server.shutdown()


def route(shop, key, when, send, channel, gateway, **more):
    spec = {"key": key, "name": key, "when": [when], "sources": ["shop"], "send": send, "channel": channel}
    shop.publish(RouteRow, Route.model_validate(spec | {"gateway": gateway} | more))


def mail(shop, **attachment):
    text = {
        "subject": "Your label{% if label_status %} {{ label_status }}{% endif %}",
        "blocks": [{"kind": "text", "text": "Here"}],
    }
    spec = {"key": "label", "name": "Label", "email": {"en": text}, "locale": "en"}
    shop.publish(MessageRow, Message.model_validate(spec | {"attachments": [{"kind": "url"} | attachment]}))


def run(shop, times=4):
    for _ in range(times):
        shop.bench.plan()
        shop.bench.dispatcher().run_batch(8)
        shop.later(seconds=1)


def names(shop):
    return [one.type for one in shop.bench.rows("SELECT type FROM event WHERE type = 'call.answered'")]


def mails(shop):
    with shop.bench.box.session() as session:
        return [row.raw for row in session.exec(select(MailRow))]


def test_the_answer_is_heard_by_routes_and_its_document_goes_with_a_mail(shop):
    mail(shop, url="{{ label }}", name="label.pdf")
    route(shop, "call-labels", "order.created", "make-label", "call", "labels")
    route(shop, "send-label", "call.answered", "label", "email", "mailroom")
    shop.bench.deliver(made.body())
    run(shop)
    assert names(shop) == ["call.answered"]
    (raw,) = [one for one in mails(shop) if b"label.pdf" in one]
    assert b"Your label 200" in raw
    assert base64.b64encode(PDF)[:40] in raw.replace(b"\r\n", b"")


def test_a_refusal_is_an_answer_too(shop):
    System.status = 422
    mail(shop, url="{{ label }}", name="label.pdf", required=False)
    route(shop, "call-labels", "order.created", "make-label", "call", "labels")
    route(shop, "send-label", "call.answered", "label", "email", "mailroom")
    shop.bench.deliver(made.body())
    run(shop)
    assert names(shop) == ["call.answered"]
    assert [one for one in mails(shop) if b"Your label 422" in one]


def test_where_nobody_listens_no_event_follows_and_none_follows_from_its_own(shop):
    route(shop, "call-labels", "order.created", "make-label", "call", "labels")
    shop.bench.deliver(made.body())
    run(shop)
    assert names(shop) == []
    assert json.loads(shop.bench.rows("SELECT value FROM inquiry")[0].value)["body"]["id"] == "L-1"
    route(shop, "again", "call.answered", "make-label", "call", "labels", once="event")
    shop.bench.deliver(made.body(id=8, reference="BK-8"), store_delivery="d8")
    run(shop, 6)
    assert names(shop) == ["call.answered"]


def test_files_of_an_order_come_from_a_system_with_its_credentials(shop):
    mail(shop, url="/docs/{{ order.number }}.pdf docs/{{ order.number }}-2.pdf", name="invoice.pdf", through="labels")
    route(shop, "send-files", "order.created", "label", "email", "mailroom")
    shop.bench.deliver(made.body())
    run(shop)
    (raw,) = [one for one in mails(shop) if b"invoice.pdf" in one]
    assert b"BK-7-2.pdf" in raw


@pytest.mark.parametrize(
    ("attachment", "state", "told"),
    [
        ({"url": "/docs/none.pdf"}, "held", "answered 404"),
        ({"url": "/docs/none.pdf", "required": False}, "sent", ""),
        ({"url": "/docs/../secret"}, "held", "from another address"),
        ({"url": "https://elsewhere.example/x"}, "held", "from another address"),
        ({"url": "/docs/BK-7.pdf", "through": "mailroom"}, "held", "can’t be fetched through “mailroom”"),
    ],
)
def test_what_cannot_be_had_holds_or_is_left_out_as_chosen(shop, attachment, state, told):
    mail(shop, **{"through": "labels"} | attachment)
    route(shop, "send-files", "order.created", "label", "email", "mailroom")
    shop.bench.deliver(made.body())
    run(shop, 2)
    row = shop.bench.rows(
        "SELECT s.state, s.reason FROM send s JOIN route r ON r.id = s.route_id WHERE r.key = 'send-files'"
    )[0]
    assert (row.state, told in row.reason) == (state, True), row.reason


def test_only_what_shows_that_it_is_a_document_is_taken_for_one():
    whole = base64.b64encode(PDF).decode()
    assert written_out(whole) == PDF
    assert written_out(f"data:application/pdf;base64,{whole}") == PDF
    assert written_out("data:text/plain,hello") is None
    assert written_out("https://shop.example/" + "a" * 80) is None
    assert written_out(base64.b64encode(b"nothing that is known" * 5).decode()) is None


def test_later_messages_about_the_order_know_the_answer(shop):
    route(shop, "call-labels", "order.created", "make-label", "call", "labels")
    text = {
        "subject": "Packed: {{ order.calls.make_label.body.id or 'none' }}",
        "blocks": [{"kind": "text", "text": "x"}],
    }
    later = {"key": "later", "name": "Later", "email": {"en": text}, "locale": "en"}
    shop.publish(MessageRow, Message.model_validate(later))
    route(shop, "tell-later", "order.status_changed", "later", "email", "mailroom", guards={"even_if_notified": True})
    shop.bench.deliver(made.body())
    run(shop, 2)
    shop.later(minutes=1)
    shop.bench.deliver(made.body(state="packed"), store_event="changed", store_delivery="d-2")
    run(shop, 2)
    assert [one for one in mails(shop) if b"Packed: L-1" in one]
