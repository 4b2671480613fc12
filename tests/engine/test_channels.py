"""One order by email, SMS and chat, through real servers: what goes out, what is held and why, what is tried again."""

import datetime as dt
import email
import email.policy
import http.server
import json
import re
import threading

import pytest

from angelon.core.messages.attachments import LibraryFile
from angelon.core.messages.chat import compile_chat
from angelon.core.specs import Gateway, Message, Route
from angelon.core.states import State
from angelon.db.setup import files, reviews, specs
from angelon.db.tables import GatewayRow, MessageRow, RouteRow
from angelon.engine.followers.reviews import ReviewService
from angelon.standins.box import ChatTextRow
from angelon.standins.providers import Providers
from tests import made

PARTS = {
    "sms": {"en": {"text": "Hi {{ customer_name }}: {{ total }}"}},
    "chat": {
        "en": {
            "body": "Hello {{ customer_name }}, {{ total }} it is.",
            "samples": {"customer_name": "Jo", "total": "€5"},
        }
    },
}


@pytest.fixture
def providers(bench):
    server = Providers(bench.box)
    server.start()
    bench.change(Gateway.model_validate(made.provider("sms", server.port)), GatewayRow)
    bench.change(Gateway.model_validate(made.provider("chat", server.port)), GatewayRow)
    with bench.database.writing() as session:
        for row in session.exec(specs.select(GatewayRow).where(GatewayRow.key != "mailroom")):
            bench.vault.put(session, "gateway", row.id, "a-token", bench.clock.now())
    yield server
    server.stop()


def speak(bench, *channels, **parts):
    """Makes the message live with these parts, and a live route for each channel."""
    now = bench.clock.now()
    with bench.database.writing() as session:
        row = specs.save_draft(
            session,
            MessageRow,
            bench.store_id,
            Message.model_validate(made.message().model_dump() | PARTS | parts),
            now,
        )
        specs.publish(session, row, now)
        for channel in channels:
            gateway = {"email": "mailroom"}.get(channel, channel)
            route = specs.save_draft(
                session,
                RouteRow,
                bench.store_id,
                Route(
                    key=f"by-{channel}",
                    name=channel,
                    when=["order.created"],
                    sources=["shop"],
                    send="received",
                    channel=channel,
                    gateway=gateway,
                ),
                now,
            )
            specs.publish(session, route, now)
            specs.switch(session, route, True, now - (now - now.replace(year=2020)))
    bench.services.setups.forget()


def approve(bench):
    live = bench.services.setups.get(bench.store_id)
    message = live.setup.messages["received"]
    row = ReviewService(bench.database, bench.services.setups, bench.vault, bench.clock).submit(
        live, message, live.message_ids["received"], "chat", "en"
    )
    bench.services.setups.forget()
    return row


def body(**changes):
    return made.body(
        buyer={"name": "Jörg", "email": "joerg@example.org", "phone": "+49 30 23125014", "country": "DE"}, **changes
    )


def source(bench):
    from angelon.db.tables import SourceRow

    spec = made.source().model_dump(mode="json", exclude_defaults=True)
    spec["reading"] = spec["reading"] | {"phone": {"path": "$.buyer.phone", "steps": [{"phone": {"region": "DE"}}]}}
    from angelon.core.specs import Source

    bench.change(Source.model_validate(spec), SourceRow)


def sends(bench, channel):
    return bench.rows(
        "SELECT state, reason, recipient, cost, reference, tries FROM send WHERE channel = ? ORDER BY created_at",
        channel,
    )


def test_one_order_is_told_by_all_three(bench, mailbox, providers):
    source(bench)
    speak(bench, "sms", "chat")
    approve(bench)
    bench.deliver(body())
    assert bench.plan() == 3
    bench.dispatcher().run_batch()
    assert [row[0] for channel in ("email", "sms", "chat") for row in sends(bench, channel)] == ["sent"] * 3
    (text,) = bench.box.texts()
    assert (text.to, text.text) == ("+493023125014", "Hi Jörg: €135.50")
    (chat,) = bench.box.chats()
    assert (chat.to, chat.spec["body"]) == ("+493023125014", "Hello Jörg, €135.50 it is.")
    assert sends(bench, "sms")[0][3:5] == ("0.05", text.reference)
    assert bench.box.count_mails() == 1


def test_a_chat_text_that_is_not_approved_is_held_and_goes_when_it_is(bench, providers):
    source(bench)
    speak(bench, "chat")
    bench.deliver(body())
    bench.plan()
    ((state, reason, *_),) = sends(bench, "chat")
    assert (state, reason) == ("held", "The chat text in en is not approved by the provider yet.")
    approve(bench)
    with bench.database.writing() as session:
        from angelon.db.log import sends as queries

        id_ = bench.rows("SELECT id FROM send WHERE channel = 'chat'")[0][0]
        session.get(queries.SendRow, id_).revision_id = None
        session.flush()
        assert queries.move(session, bench.store_id, [id_], State.SCHEDULED, bench.clock.now())
    bench.dispatcher().run_batch()
    assert sends(bench, "chat")[0][0] == "sent"


def test_a_live_text_stays_in_use_while_its_successor_is_in_review(bench, providers):
    source(bench)
    speak(bench, "chat")
    approve(bench)
    bench.box.set("chat_review_seconds", 3600)
    live = bench.services.setups.get(bench.store_id)
    changed = live.setup.messages["received"].model_copy(deep=True)
    changed.chat["en"].body = "Well, {{ customer_name }}, {{ total }} it is."
    row = ReviewService(bench.database, bench.services.setups, bench.vault, bench.clock).submit(
        live, changed, live.message_ids["received"], "chat", "en"
    )
    assert row.state == "submitted"
    bench.deliver(body())
    bench.plan()
    bench.dispatcher().run_batch()
    assert bench.box.chats()[0].spec["body"].startswith("Hello Jörg")
    # the worker asks after it, and hears when it is decided
    bench.box.set("chat_review_seconds", 0)
    later = bench.clock.now() + dt.timedelta(seconds=10)
    bench.clock.now = lambda: later
    assert ReviewService(bench.database, bench.services.setups, bench.vault, bench.clock).check_pending() == 1
    with bench.database.reading() as session:
        mark = compile_chat(changed.chat["en"], live.setup.store, "en").numbered.digest("order")
        assert reviews.states(session, live.message_ids["received"])["en", mark] == "approved"


def test_a_busy_provider_is_tried_again_at_the_time_it_names(bench, providers):
    source(bench)
    speak(bench, "sms")
    bench.box.set("sms_fault", "busy")
    bench.deliver(body())
    bench.plan()
    bench.dispatcher().run_batch()
    ((state, reason, *_),) = sends(bench, "sms")
    assert (state, reason) == ("retrying", "429 Too many messages at once.")
    bench.box.set("sms_fault", "none")
    later = bench.clock.now() + dt.timedelta(seconds=10)
    bench.clock.now = lambda: later
    bench.dispatcher().run_batch()
    assert [(row[0], row[5]) for row in sends(bench, "sms")] == [("sent", 2)]
    assert [
        row[0]
        for row in bench.rows(
            "SELECT outcome FROM attempt JOIN send ON send.id = send_id WHERE channel = 'sms' ORDER BY attempt.id"
        )
    ] == ["temporary", "accepted"]


def test_an_order_without_a_phone_number_is_held_for_sms_and_told_by_email(bench, mailbox, providers):
    source(bench)
    speak(bench, "sms")
    bench.deliver(made.body(buyer={"name": "Jörg", "email": "joerg@example.org", "phone": "nothing", "country": "DE"}))
    bench.plan()
    assert sends(bench, "sms")[0][0] == "held"
    assert "no usable phone" in sends(bench, "sms")[0][1]
    assert sends(bench, "email")[0][0] == "scheduled"


def test_a_route_through_a_gateway_of_another_channel_is_held(bench):
    speak(bench, "email")
    with bench.database.writing() as session:
        row = specs.save_draft(
            session,
            RouteRow,
            bench.store_id,
            Route(
                key="odd",
                name="Odd",
                when=["order.created"],
                sources=["shop"],
                send="received",
                channel="sms",
                gateway="mailroom",
            ),
            bench.clock.now(),
        )
        specs.publish(session, row, bench.clock.now())
        specs.switch(session, row, True, bench.clock.now().replace(year=2020))
    bench.services.setups.forget()
    bench.deliver(made.body())
    bench.plan()
    trace = bench.rows("SELECT trace FROM send WHERE channel = 'sms'")[0][0]
    assert "Mailroom sends email, and the route sends SMS." in trace


def test_an_sms_over_the_gateway_s_cap_is_held_when_it_is_planned(bench, providers):
    source(bench)
    bench.change(Gateway.model_validate(made.provider("sms", providers.port) | {"max_segments": 1}), GatewayRow)
    speak(bench, "sms", sms={"en": {"text": "x" * 150 + " {{ customer_name }} {{ total }}"}})
    bench.deliver(body())
    bench.plan()
    assert sends(bench, "sms")[0][:2] == ("held", "The SMS takes 2 segments, and The sms line allows 1.")


# ---- what goes with a mail


def keep(bench, shelf, name, data, by="", match="", type_="application/pdf"):
    with bench.database.writing() as session:
        files.put(
            session, bench.store_id, LibraryFile(0, shelf, name, type_, len(data), by, match), data, bench.clock.now()
        )
    bench.services.setups.forget()


def received(bench):
    return email.message_from_bytes(bench.box.mails()[0].raw, policy=email.policy.strict)


def publish(bench, **changes):
    with bench.database.writing() as session:
        row = specs.save_draft(session, MessageRow, bench.store_id, made.message(**changes), bench.clock.now())
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()


def run(bench, **changes):
    bench.deliver(made.body(**changes))
    bench.plan()
    bench.dispatcher().run_batch()
    return bench.rows("SELECT state, reason FROM send ORDER BY created_at DESC LIMIT 1")[0]


def test_each_order_gets_the_files_of_its_own_and_its_calendar_entry(bench, mailbox):
    keep(bench, "care", "all.pdf", b"%PDF-1 all")
    keep(bench, "care", "heron.pdf", b"%PDF-1 heron", "sku", "HER-180")
    keep(bench, "care", "other.pdf", b"%PDF-1 other", "sku", "XXX")
    publish(
        bench,
        attachments=[
            {"kind": "library", "shelf": "care"},
            {"kind": "calendar", "day": "expected_on", "title": "Comes"},
        ],
        envelope={"cc": "c@example.com", "bcc": "b@example.com", "reply_to": "r@example.com"},
    )
    assert run(bench)[0] == "sent"
    mail = received(bench)
    assert [(a.get_filename(), a.get_content_type()) for a in mail.iter_attachments()] == [
        ("all.pdf", "application/pdf"),
        ("heron.pdf", "application/pdf"),
        ("delivery.ics", "text/calendar"),
    ]
    assert (str(mail["Cc"]), str(mail["Reply-To"]), mail["Bcc"]) == ("c@example.com", "r@example.com", None)
    assert sorted(row.rcpt_to for row in bench.box.mails()) == ["b@example.com", "c@example.com", "joerg@example.org"]


def test_an_empty_shelf_holds_only_where_it_is_required(bench, mailbox):
    publish(bench, attachments=[{"kind": "library", "shelf": "none"}])
    assert run(bench)[0] == "sent"
    publish(bench, attachments=[{"kind": "library", "shelf": "none", "required": True}])
    assert run(bench, id=2, reference="BK-8") == ("held", "The folder “none” has no file for this order.")


def test_a_file_over_the_gateway_s_limits_is_held_with_the_reason(bench, mailbox):
    keep(bench, "care", "a.pdf", b"MZ\x90\x00", type_="application/x-msdownload")
    publish(bench, attachments=[{"kind": "library", "shelf": "care"}])
    state, reason = run(bench)
    assert (state, "application/x-msdownload by its content" in reason) == ("held", True)


def test_a_bad_address_in_cc_is_held(bench, mailbox):
    publish(bench, envelope={"cc": "{{ customer_name }}"})
    assert run(bench) == ("held", "“Jörg” in cc is no email address.")


class Invoices(http.server.BaseHTTPRequestHandler):
    broken = False

    def do_GET(self):
        self.send_response(503 if self.broken else 200)
        self.end_headers()
        self.wfile.write(b"%PDF-1.7 " + self.path.encode())

    def log_message(self, *_): ...


@pytest.fixture
def invoices():
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Invoices)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    Invoices.broken = False


def allow(bench, *hosts):
    from angelon.db.tables import StoreRow

    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = {**row.spec, "private_hosts": list(hosts)}
        specs.touch(session, bench.store_id)
    bench.services.setups.forget()


def test_a_file_from_an_address_in_the_payload_is_fetched_with_its_guard(bench, mailbox, invoices):
    publish(
        bench,
        attachments=[
            {
                "kind": "url",
                "url": invoices + "/{{ customer_name | lower }}.pdf",
                "name": "Invoice {{ customer_name }}.pdf",
            }
        ],
    )
    state, reason = run(bench)
    assert (state, "a private address" in reason) == ("held", True)
    allow(bench, "127.0.0.1")
    assert run(bench, id=2, reference="BK-8")[0] == "sent"
    (attached,) = received(bench).iter_attachments()
    assert attached.get_filename() == "Invoice Jörg.pdf"
    assert attached.get_content().startswith(b"%PDF-1.7 /j")
    Invoices.broken = True
    state, reason = run(bench, id=3, reference="BK-9")
    assert (state, "answered 503" in reason) == ("retrying", True)
    assert bench.rows("SELECT outcome FROM attempt ORDER BY id DESC LIMIT 1")[0][0] == "temporary"


def test_a_file_that_is_not_required_is_left_out_and_told(bench, mailbox, invoices):
    publish(bench, attachments=[{"kind": "url", "url": invoices + "/x", "required": False}])
    assert run(bench)[0] == "sent"
    assert "a private address" in bench.said()[0].about["left_out"][0]


def test_the_logo_travels_with_the_mail(bench, mailbox):
    from angelon.db.tables import StoreRow

    keep(bench, "letterhead", "kite.png", b"\x89PNG\r\n\x1a\n" + b"0" * 30, type_="image/png")
    with bench.database.writing() as session:
        row = session.get(StoreRow, bench.store_id)
        row.spec = {**row.spec, "letterhead": {"logo": "library:letterhead/kite.png"}}
        specs.touch(session, bench.store_id)
    bench.services.setups.forget()
    assert run(bench)[0] == "sent"
    mail = received(bench)
    assert mail.get_content_type() == "multipart/related"
    picture = list(mail.iter_parts())[1]
    assert picture["Content-ID"].strip("<>") in mail.get_body(("html",)).get_content()


def test_a_text_that_the_provider_approved_before_is_taken_over_and_sent_without_a_review(bench, providers, client):
    at = dt.datetime.now(dt.UTC)
    spec = {"language": "en", "category": "order", "header": {"kind": "none"}, "footer": "", "buttons": []}
    bench.box.keep(
        ChatTextRow(
            reference="tx-old",
            submitted_at=at,
            state="approved",
            spec={**spec, "name": "soon", "body": "Hello {1}, {2} it is.", "samples": ["Jo", "3"], "placeholders": 2},
        )
    )
    page = client.get("/messages/received/approved?locale=en").get_data(as_text=True)
    assert "Hello {1}, {2} it is." in page
    assert "approved with" in page
    given = {"gateway": "chat", "locale": "en", "reference": "tx-old", "gap.1": "customer_name"}
    refused = client.post("/messages/received/approved", data=given)
    assert refused.status_code == 422
    assert "Gap {2} has no variable" in refused.get_data(as_text=True)
    assert '<option value="customer_name" selected>' in re.sub(r"\s+", " ", refused.get_data(as_text=True))
    client.post("/messages/received/approved", data=given | {"gap.2": "total"})
    assert client.post("/messages/received/approved", data=given | {"reference": "none"}).status_code == 404
    with bench.database.reading() as session:
        row = specs.message(session, bench.store_id, "received")
        assert row.draft.chat["en"].body == "Hello {{ customer_name }}, {{ total }} it is."
        assert "approved" in reviews.states(session, row.id).values()
    bench.box.set("chat_fault", "broken")
    broken = client.get("/messages/received/approved").get_data(as_text=True)
    assert "The list can’t be read" in broken
    assert "could not be asked" in broken


BODY = '{"t": {{ total | plain }}, "c": {{ total.currency | json }}}'
CALL = {"call": {"en": {"method": "PUT", "path": "/orders/{{ order.number }}", "body": BODY}}}


def system(bench, providers, **changes):
    call = {"url": f"http://127.0.0.1:{providers.port}/system"}
    made_ = {"key": "call", "name": "Shop API", "kind": "call", "call": call} | changes
    bench.change(Gateway.model_validate(made_), GatewayRow)


def test_a_route_calls_another_system_once_an_order(bench, providers):
    system(bench, providers)
    speak(bench, "call", **CALL)
    bench.deliver(made.body())
    assert bench.plan() == 2  # the mail, and the call
    bench.dispatcher().run_batch(8)
    ((state, recipient, name, whom),) = bench.rows(
        "SELECT state || reason, recipient, recipient_name, whom FROM send WHERE channel = 'call'"
    )
    assert (state, recipient, name, whom) == ("sent", f"127.0.0.1:{providers.port}", "Shop API", "system")
    ((row),) = bench.box.calls()
    assert (row.method, row.path, row.body) == ("PUT", "/orders/BK-7", {"t": 135.5, "c": "EUR"})
    bench.deliver(made.body(state="packed"), store_event="changed", store_delivery="d-2")
    assert bench.plan() == 0


def test_an_address_that_moves_is_called_where_it_is_now(bench, providers):
    system(bench, providers, paused=True)
    speak(bench, "call", **CALL)
    bench.deliver(made.body())
    bench.plan()
    assert bench.rows("SELECT state, reason FROM send WHERE channel = 'call'") == [("held", "Shop API is paused.")]


def test_a_call_is_not_kept_back_by_who_the_customer_is(bench, providers):
    """Consent, suppression and caps are about people."""
    from angelon.engine.operations import suppressions
    from angelon.engine.unit import unit

    system(bench, providers)
    speak(bench, "call", **CALL)
    with unit(bench.services.installation, bench.store_id) as work:
        suppressions.add(work, ["joerg@example.org"], "asked")
    bench.deliver(made.body())
    bench.plan()
    assert bench.rows("SELECT channel, state FROM send ORDER BY channel") == [
        ("call", "scheduled"),
        ("email", "skipped"),
    ]


def test_what_a_provider_answers_to_a_test_is_kept_with_its_gateway_and_to_others_is_not(bench, mailbox, providers):
    source(bench)
    speak(bench, "sms")
    bench.deliver(body())
    bench.plan()
    bench.dispatcher().run_batch()
    assert bench.rows("SELECT count(*) FROM test_answer") == [(0,)]
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'scheduled', test = true, due_at = 0 WHERE channel = 'sms'")
    bench.dispatcher().run_batch()
    ((key, said),) = bench.rows("SELECT g.key, t.body FROM test_answer t JOIN gateway g ON g.id = t.gateway_id")
    assert key == "sms"
    assert set(json.loads(said)) >= {"id", "state"}
