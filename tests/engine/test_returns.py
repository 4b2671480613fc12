"""What comes back: refusals for good, reports of non-delivery over real SMTP, complaints, STOP and START."""

import smtplib
from email.message import EmailMessage

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.replies import command
from angelon.core.sending.codes import is_nobody, meaning
from angelon.core.sending.returned import read_returned, return_path, send_of
from angelon.core.specs import Gateway, Store
from angelon.db.tables import GatewayRow
from angelon.engine.feedback.receipts import take_all
from angelon.engine.feedback.returns import Returns, ReturnsListener, from_maildir
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from tests import made

PATH = "bounces@mail.kites.example"


def bounce(action="failed", status="5.1.1", said="550 5.1.1 User unknown", original="sd-1@kites.example"):
    """A report as mail servers write it."""
    return f"""From: MAILER-DAEMON@mx.example
To: {PATH}
Subject: Undelivered
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary="b"

--b
Content-Type: text/plain

It could not be delivered.
--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.example

Final-Recipient: rfc822; joerg@example.org
Action: {action}
Status: {status}
Diagnostic-Code: smtp; {said}

--b
Content-Type: text/rfc822-headers

Message-ID: <{original}>
Subject: Danke

--b--
""".encode()


def complaint(kind="abuse"):
    return f"""From: fbl@mx.example
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report; boundary="b"

--b
Content-Type: text/plain

This is a complaint.
--b
Content-Type: message/feedback-report

Feedback-Type: {kind}
User-Agent: mx/1
Version: 1

--b--
""".encode()


# ---- what it says


def nested(levels):
    """A mail whose parts have parts."""
    head = "".join(f'Content-Type: multipart/mixed; boundary="b{n}"\n\n--b{n}\n' for n in range(levels))
    return (head + "Content-Type: text/plain\n\nx\n").encode()


@pytest.mark.parametrize(
    "mail",
    [
        nested(3_000),
        b"Content-Type: message/delivery-status; " + b"a=b;\n " * 50_000 + b"\n\nx",
        b'Content-Type: multipart/report; boundary="b"\n\n' + b"--b\nContent-Type: text/plain\n\nx\n" * 5_000,
        b"Subject: " + b"x" * 200_000 + b"\n\nx",
    ],
    ids=["nested", "parameters", "parts", "a long header"],
)
def test_what_no_mail_server_writes_is_not_parsed_at_all(mail, monkeypatch):
    monkeypatch.setattr("angelon.core.sending.returned.email", None)
    assert read_returned(mail).kind == "other"


def test_a_report_before_a_large_mail_is_read():
    whole = b"--b\nContent-Type: message/rfc822\n\nSubject: x\n\n" + b"x" * 70 + b"\n"
    assert read_returned(bounce().replace(b"--b--", whole + b"lorem ipsum\n" * 100_000)).kind == "failed"


def test_a_report_is_read_and_other_mail_is_not_taken_for_one():
    told = read_returned(bounce())
    assert (told.kind, told.status, told.message_id) == ("failed", "5.1.1", "sd-1@kites.example")
    assert told.reason == "550 5.1.1 User unknown"
    assert told.recipient == "joerg@example.org"
    assert read_returned(bounce("delayed", "4.4.1")).kind == "delayed"
    assert read_returned(bounce("relayed", "2.0.0")).kind == "other"
    assert read_returned(complaint()).kind == "complaint"
    assert read_returned(complaint("not-spam")).kind == "other"
    away = EmailMessage()
    away.set_content("I am away until Monday. Status: 5.1.1")
    assert read_returned(away.as_bytes()).kind == "other"


@given(st.binary(max_size=2000))
def test_whatever_a_stranger_sends_is_read_or_left(data):
    assert read_returned(data).kind in ("failed", "delayed", "complaint", "other")
    assert read_returned(bounce()[:-300] + data).kind in ("failed", "delayed", "complaint", "other")


@pytest.mark.parametrize(
    ("answer", "nobody"),
    [
        ("550 5.1.1 Nobody of that name lives here", True),
        ("556 5.1.10 null MX", True),
        ("552 5.2.2 Mailbox full", False),
        ("450 4.1.1 try later", False),
        ("550 5.7.1 Message refused", False),
        ("550 User unknown", False),
    ],
)
def test_only_an_enhanced_code_that_says_so_for_good_means_that_nobody_is_there(answer, nobody):
    assert is_nobody(answer) is nobody
    assert meaning("550 5.7.26 no") is not None


def test_a_return_path_names_its_send_and_fits():
    address = return_path(PATH, "sd-01kx5a7m9q2r4t6v8w0y2z4b6d", "0123456789ab")
    assert send_of(address) == ("sd-01kx5a7m9q2r4t6v8w0y2z4b6d", "0123456789ab")
    assert len(address.partition("@")[0]) <= 64, "RFC 5321, section 4.5.3.1.1"
    assert send_of(f"<{address.upper()}>") == ("sd-01kx5a7m9q2r4t6v8w0y2z4b6d", "0123456789ab")
    for other in ("a@b.c", "bounces+@x", "bounces+sd-1@x", "bounces+=1@x", ""):
        assert send_of(other) is None


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("STOP", "stop"),
        (" Stop. ", "stop"),
        ("ARRÊT", "stop"),
        ("stopp!", "stop"),
        ("Start", "start"),
        ("please stop by on Monday", ""),
        ("No, cancel it", ""),
        ("", ""),
    ],
)
def test_a_command_is_the_whole_answer(text, word):
    assert command(text) == word


# ---- what it does


@pytest.fixture
def sent(bench, mailbox):
    bench.change(made.gateway(mailbox.port, return_path=PATH), GatewayRow)
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)
    ((send, state),) = bench.rows("SELECT id, state FROM send")
    assert state == "sent"
    return send


def returns(bench):
    return Returns(bench.database, bench.services.setups, bench.vault, bench.clock)


def test_a_mail_goes_out_under_an_envelope_of_its_own(bench, sent):
    (row,) = bench.box.mails()
    assert row.mail_from == return_path(PATH, sent, bench.vault.proof(sent))
    assert b"From: Kites <orders@kites.example>" in row.raw


def test_a_bounce_over_smtp_fails_its_send_and_suppresses_within_a_second(bench, sent):
    listener = ReturnsListener(returns(bench), "127.0.0.1", 0)
    listener.start()
    try:
        with smtplib.SMTP("127.0.0.1", listener.port) as server:
            server.sendmail("", [return_path(PATH, sent, bench.vault.proof(sent))], bounce())
        with smtplib.SMTP("127.0.0.1", listener.port) as server, pytest.raises(smtplib.SMTPRecipientsRefused):
            server.sendmail("", [return_path(PATH, sent, "0" * 12)], bounce())
        with smtplib.SMTP("127.0.0.1", listener.port) as server, pytest.raises(smtplib.SMTPRecipientsRefused):
            server.sendmail("", ["orders@kites.example"], bounce())
    finally:
        listener.stop()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert (state, reason) == ("failed", "Came back: 550 5.1.1 User unknown")
    assert bench.rows("SELECT address_key, origin FROM suppression") == [("email:joerg@example.org", "bounce")]
    bench.deliver(made.body(id=2, reference="BK-8"), store_delivery="d-2")
    bench.plan()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send WHERE id != ?", sent)
    assert state == "skipped"
    assert "its mail came back" in reason


@pytest.mark.parametrize(
    ("data", "came", "state", "suppressed"),
    [
        (bounce("delayed", "4.4.1"), "delayed: nothing to do yet", "sent", []),
        (bounce("failed", "5.2.2", "552 5.2.2 full"), "failed", "failed", []),
        (complaint(), "complaint", "sent", ["complaint"]),
        (b"hello", "no report", "sent", []),
    ],
)
def test_what_else_comes_back(bench, sent, data, came, state, suppressed):
    assert returns(bench).take(sent, data) == came
    assert bench.rows("SELECT state FROM send") == [(state,)]
    assert [origin for (origin,) in bench.rows("SELECT origin FROM suppression")] == suppressed


def test_the_same_report_again_changes_nothing(bench, sent):
    assert returns(bench).take(sent, bounce()) == "failed"
    assert returns(bench).take(sent, bounce()) == "is failed already"
    assert len(bench.rows("SELECT * FROM suppression")) == 1


def test_a_maildir_is_taken_once(bench, sent, tmp_path):
    (tmp_path / "new").mkdir()
    address = return_path(PATH, sent, bench.vault.proof(sent))
    (tmp_path / "new" / "1.a").write_bytes(f"Delivered-To: {address}\n".encode() + bounce())
    (tmp_path / "new" / "2.b").write_bytes(b"Delivered-To: somebody@else.example\n\nhello")
    (tmp_path / "new" / "0.folder").mkdir()
    assert from_maildir(returns(bench), tmp_path) == 1
    assert from_maildir(returns(bench), tmp_path) == 0
    assert bench.rows("SELECT state FROM send") == [("failed",)]


def test_a_refusal_that_says_nobody_is_there_suppresses_and_another_does_not(bench, mailbox):
    bench.box.set("mail_fault", "never")  # 550 5.1.1
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)
    assert bench.rows("SELECT state FROM send") == [("failed",)]
    ((key, why),) = bench.rows("SELECT address_key, why FROM suppression")
    assert key == "email:joerg@example.org"
    assert "5.1.1" in why


def test_a_store_may_have_none_of_this_done_by_itself(bench, sent):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"suppress_on": []})
    assert returns(bench).take(sent, bounce()) == "failed"
    assert bench.rows("SELECT * FROM suppression") == []


def test_stop_and_start_by_answers_with_a_send_and_without(bench):
    spec = made.provider("sms", 1) | {"receipts": {"from_at": "$.from"}}
    gateway = Gateway.model_validate(spec)
    bench.change(gateway, GatewayRow)
    live = bench.services.setups.get(bench.store_id)

    def told(text):
        body = [{"state": "answered", "from": "+353 20 915 1299", "text": text}]
        return take_all(bench.database, live, gateway, body, bench.clock)

    assert told("Stop!") == ["stopped."]
    assert bench.rows("SELECT address_key, origin, why FROM suppression") == [
        ("phone:+353209151299", "stop", "answered “Stop!”.")
    ]
    assert told("What is this?") == ["There is no id at $.id."]
    assert told("START") == ["started again."]
    assert bench.rows("SELECT * FROM suppression") == []


def test_an_event_that_the_store_names_ends_the_optional_messages(bench):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"leave_on": ["order.created"]})
    bench.deliver(made.body())
    bench.plan()
    assert bench.rows("SELECT address_key, scope, origin FROM suppression ORDER BY address_key") == [
        ("email:joerg@example.org", "optional", "event"),
    ]
    assert bench.rows("SELECT state FROM send") == [("scheduled",)], "a needed message goes out"
    assert Store.model_validate(made.store().model_dump()).leave_on == []
