"""From an event to a mail: planned once, tried, retried, held, released; over real SMTP."""

import datetime as dt
import socket
import threading

import pytest

from angelon.cli.serving import free_port
from angelon.core.states import State
from angelon.db.log import sends as queries
from angelon.db.people import suppressions
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, SourceRow
from angelon.engine.sending.dispatcher import recover
from angelon.standins.box import opened
from tests import made


def sends(bench):
    return bench.rows("SELECT state, reason, tries, recipient FROM send ORDER BY id")


def attempts(bench):
    return [row[0] for row in bench.rows("SELECT outcome FROM attempt ORDER BY id")]


def later(bench, **delta):
    at = bench.clock.now() + dt.timedelta(**delta)
    bench.clock.now = lambda: at


def test_an_order_becomes_a_mail_with_its_values(bench, mailbox):
    bench.deliver(made.body())
    assert bench.plan() == 1
    assert bench.dispatcher().run_batch() == 1
    assert sends(bench) == [("sent", "", 1, "joerg@example.org")]
    (mail,) = (opened(row) for row in bench.box.mails())
    assert mail["subject"] == "Danke, Jörg"
    assert mail["to"] == "Jörg <joerg@example.org>"
    assert mail["from"] == "Kites <orders@kites.example>"
    for part in ("1 × Heron und 2 × line", "135,50", "Dienstag, 10. November"):
        assert part in mail["text"]
        assert part in mail["html"].replace("&nbsp;", " ")
    ((id_, subject),) = bench.rows("SELECT id, subject FROM send")
    assert subject == mail["subject"]
    with bench.database.reading() as session:
        found = queries.details(session, bench.store_id, id_)
    assert found.content.page.strip() == mail["html"].replace("\r\n", "\n").strip()


def test_planning_is_once_and_an_order_keeps_its_history(bench):
    bench.deliver(made.body())
    bench.deliver(made.body(state="shipped", changed_at="2026-11-04T10:00:00Z"), store_event="changed")
    bench.plan()
    assert bench.plan() == 0
    types = [row[0] for row in bench.rows("SELECT type FROM event ORDER BY id")]
    assert sorted(types) == ["order.created", "order.status_changed", "order.updated", "parcel.picked_up"]
    ((number, status),) = bench.rows('SELECT number, status FROM "order"')
    assert (number, status) == ("BK-7", "shipped")
    assert bench.rows("SELECT was, now FROM event WHERE type = 'order.status_changed'") == [("paid", "shipped")]
    assert bench.rows("SELECT count(*) FROM event WHERE order_id IS NULL OR planned_at IS NULL") == [(0,)]


def test_a_late_update_makes_no_status_change(bench):
    bench.deliver(made.body(state="shipped", changed_at="2026-11-05T10:00:00Z"), store_event="changed")
    bench.deliver(made.body(state="packed", changed_at="2026-11-04T10:00:00Z"), store_event="changed")
    bench.plan()
    assert bench.rows('SELECT status FROM "order"') == [("shipped",)]
    assert bench.rows("SELECT count(*) FROM event WHERE parent_id IS NOT NULL") == [(0,)], (
        "an order met in the middle of its life is no news either"
    )


def test_the_same_order_twice_is_told_once(bench, mailbox):
    bench.deliver(made.body(), store_delivery="a")
    bench.deliver(made.body(), store_delivery="b")
    bench.plan()
    bench.deliver(made.body(), store_delivery="c")
    bench.plan()
    states = sorted(row[0] for row in sends(bench))  # two of the same millisecond have ids in no order
    assert states == ["scheduled", "skipped", "skipped"]
    assert all("once per order" in row[1] for row in sends(bench) if row[0] == "skipped")


def test_refused_for_now_is_tried_again_and_arrives_once(bench, mailbox):
    bench.box.set("mail_fault", "later")
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:3] == ("retrying", "451 4.3.0 The mailbox is busy, come back later", 1)
    bench.box.set("mail_fault", "none")
    later(bench, seconds=1)
    import time

    time.sleep(0.3)
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:3] == ("sent", "", 2)
    assert attempts(bench) == ["temporary", "accepted"]
    assert bench.box.count_mails() == 1


def test_refused_for_good_is_failed_at_once_and_can_be_sent_again(bench, mailbox):
    bench.box.set("mail_fault", "never")
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:3] == ("failed", "Permanent failure: 550 5.1.1 Nobody of that name lives here", 1)


def test_a_server_that_is_away_is_temporary(bench, mailbox):
    bench.change(made.gateway(free_port()), GatewayRow)
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch()
    assert sends(bench)[0][0] == "retrying"
    assert "the connection is refused" in sends(bench)[0][1]


@pytest.mark.parametrize("fault", ["hang", "drop"])
def test_a_message_handed_over_without_an_answer_is_unknown_and_tried_again_under_the_same_id(bench, mailbox, fault):
    bench.box.set("mail_fault", fault)
    bench.deliver(made.body())
    bench.plan()
    dispatcher = bench.dispatcher()
    dispatcher.run_batch()
    assert attempts(bench) == [{"hang": "unknown", "drop": "unknown"}[fault]]
    assert sends(bench)[0][0] == "retrying"
    bench.box.set("mail_fault", "none")
    later(bench, seconds=3)
    import time

    time.sleep(0.3)
    dispatcher.run_batch()
    assert sends(bench)[0][0] == "sent"
    (send_id,) = bench.rows("SELECT id FROM send")[0]
    assert opened(bench.box.mails()[0])["headers"]["Message-ID"] == f"<{send_id}@kites.example>"


def test_one_connection_is_kept_and_made_anew_when_it_was_closed(bench, mailbox):
    dispatcher = bench.dispatcher()
    for number in range(3):
        bench.deliver(made.body(id=number))
    bench.plan()
    dispatcher.run_batch()
    way = next(iter(dispatcher._transports.values()))[1]
    first = way._server
    assert first is not None
    first.sock.shutdown(socket.SHUT_RDWR)  # as when the server ends an idle connection
    bench.deliver(made.body(id=9))
    bench.plan()
    dispatcher.run_batch()
    assert way._server is not first
    assert [row[0] for row in sends(bench)] == ["sent"] * 4
    assert set(attempts(bench)) == {"accepted"}


def test_a_held_send_goes_out_once_the_recipe_is_mended_and_it_is_released(bench, mailbox):
    bench.change(made.source(recipes=made.source().recipes | {"customer_name": "$.buyer.surname"}), SourceRow)
    bench.deliver(made.body())
    bench.plan()
    state, reason, _, _ = sends(bench)[0]
    assert state == "held"
    assert reason.startswith("customer_name has no value. $.buyer.surname has no value in this event.")
    assert bench.dispatcher().run_batch() == 0
    bench.change(made.source(), SourceRow)
    with bench.database.writing() as session:
        assert queries.move(
            session, bench.store_id, [bench.rows("SELECT id FROM send")[0][0]], State.SCHEDULED, bench.clock.now()
        )
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:2] == ("sent", "")
    assert opened(bench.box.mails()[0])["subject"] == "Danke, Jörg"


def test_an_address_that_is_found_only_when_a_held_send_is_released_is_asked_about_too(bench, mailbox):
    reading = made.source().model_dump(mode="json")["reading"]
    bench.change(made.source(reading=reading | {"email": "$.buyer.mail"}), SourceRow)
    bench.deliver(made.body())
    bench.plan()
    assert bench.rows("SELECT state, recipient FROM send") == [("held", "")]
    bench.change(made.source(), SourceRow)
    with bench.database.writing() as session:
        suppressions.add(session, 1, "email:joerg@example.org", "asked for it.", bench.clock.now())
        assert queries.move(
            session, bench.store_id, [bench.rows("SELECT id FROM send")[0][0]], State.SCHEDULED, bench.clock.now()
        )
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:2] == ("skipped", "joerg@example.org must not be written to: asked for it.")
    assert bench.box.mails() == []


def test_a_paused_gateway_holds_and_going_on_releases(bench, mailbox):
    bench.deliver(made.body())
    bench.plan()
    bench.change(made.gateway(mailbox.port, paused=True), GatewayRow)
    bench.dispatcher().run_batch()
    assert sends(bench)[0][:3] == ("held", "Mailroom is paused.", 0)
    bench.change(made.gateway(mailbox.port), GatewayRow)
    with bench.database.writing() as session:
        assert queries.release_held(session.connection(), 1, "Mailroom is paused.", bench.clock.now()) == 1
    bench.dispatcher().run_batch()
    assert sends(bench)[0][0] == "sent"


def test_each_send_is_taken_by_one_worker(bench, mailbox):
    for number in range(40):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    workers = [bench.dispatcher(f"w-{n}") for n in range(4)]

    def work(dispatcher):
        while dispatcher.run_batch(3):
            pass

    threads = [threading.Thread(target=work, args=(d,)) for d in workers]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert sorted(m.rcpt_to for m in bench.box.mails()) == sorted(f"p{n}@example.org" for n in range(40))
    assert len(attempts(bench)) == 40


def test_what_a_dead_worker_held_is_given_back_with_the_outcome_unknown(bench, mailbox):
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:
        assert len(queries.claim(connection, "dead-0", bench.clock.now(), dt.timedelta(minutes=10), 5)) == 1
    assert recover(bench.database, bench.clock, []) == 0, "its lease still runs"
    assert bench.dispatcher().run_batch() == 0
    later(bench, minutes=11)
    assert recover(bench.database, bench.clock, []) == 1
    assert attempts(bench) == ["unknown"]
    bench.dispatcher().run_batch()
    assert [row[0] for row in sends(bench)] == ["sent"]


def test_a_message_that_loops_for_ever_holds_its_send_and_not_the_worker(bench, mailbox):
    from angelon.db.tables import MessageRow

    loop = "{% for a in order.lines %}" * 3 + "x" + "{% endfor %}" * 3
    with bench.database.writing() as session:
        row = specs.save_draft(
            session,
            MessageRow,
            bench.store_id,
            made.message(email={"en": {"subject": "Hi", "blocks": [{"kind": "text", "text": loop}]}}),
            bench.clock.now(),
        )
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    bench.deliver(made.body(lines=[{"title": "a", "sku": "s", "quantity": 1}] * 300))
    bench.deliver(made.body(id=2))
    bench.plan()
    bench.dispatcher().run_batch()
    assert [row[0] for row in sends(bench)] == ["held", "sent"]
    assert "loops more than" in sends(bench)[0][1]


def test_a_name_with_markup_and_template_syntax_arrives_as_text(bench, mailbox):
    nasty = "<script>alert(1)</script>{{ 7*7 }}{% x %}"
    bench.deliver(made.body(buyer={"name": nasty, "email": "jo@example.org"}, lines=[{"title": nasty, "quantity": 1}]))
    bench.plan()
    bench.dispatcher().run_batch()
    mail = opened(bench.box.mails()[0])
    assert nasty in mail["subject"]
    assert nasty in mail["text"]
    assert "<script>" not in mail["html"]
    assert "{{ 7*7 }}" in mail["html"]


def test_amounts_are_written_as_in_the_reader_s_country_on_every_way(bench, mailbox, client):
    """In the mail, sent again, as a test, and where it would be said; the text's language stays the text's."""
    buyer = {"name": "Resi", "email": "resi@example.org", "country": "AT"}
    bench.deliver(made.body(buyer=buyer))
    bench.plan()
    assert bench.rows("SELECT locale, format_locale FROM send") == [("de", "de-AT")]
    bench.dispatcher().run_batch()
    (mail,) = (opened(row) for row in bench.box.mails())
    assert "€ 135,50" in mail["text"].replace("\xa0", " ")
    assert "135,50 €" not in mail["text"].replace("\xa0", " ")
    ((send,),) = bench.rows("SELECT id FROM send")
    client.post(f"/sends/{send}/again")
    assert bench.rows("SELECT locale, format_locale FROM send") == [("de", "de-AT")] * 2
    page = client.get("/messages/received?locale=de").get_data(as_text=True).replace("\xa0", " ")
    assert "€ 135,50" in page, "the preview, of the sample event"
    assert "135,50 €" not in page
    sent = client.post(
        "/messages/received/test",
        data={"channel": "email", "locale": "de", "to": "me@kites.example", "gateway": "mailroom"},
    )
    assert sent.status_code == 200
    assert bench.rows("SELECT locale, format_locale FROM send WHERE test") == [("de", "de-AT")]
