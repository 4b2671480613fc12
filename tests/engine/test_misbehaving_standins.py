"""What the stand-ins do on demand, and what comes of it: greylisting, bounces, credit at its end, a wrong password."""

import time

import pytest
from aiosmtpd.controller import Controller

from angelon.cli.serving import free_port
from angelon.db.tables import GatewayRow
from angelon.engine.feedback.returns import Returns, ReturnsListener
from angelon.standins.mailbox import Mailbox
from tests import made

PATH = "bounces@mail.kites.example"


@pytest.fixture
def returning(bench):
    """A mailbox whose return paths lead to Angelon."""
    returns = Returns(bench.database, bench.services.setups, bench.vault, bench.clock)
    listener = ReturnsListener(returns, "127.0.0.1", 0)
    listener.start()
    mailbox = Mailbox(bench.box, back=("127.0.0.1", listener.port))
    mailbox.start()
    yield mailbox
    mailbox.stop()
    listener.stop()


def sent(bench, port, **changes):
    bench.change(made.gateway(port, retry={"base_seconds": 0.1, "cap_seconds": 0.1}, **changes), GatewayRow)
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)


def test_a_mail_that_the_mailbox_sends_back_is_failed_and_its_address_suppressed(bench, returning):
    bench.box.set("mail_fault", "bounce")
    sent(bench, returning.port, return_path=PATH)
    until = time.monotonic() + 10
    while time.monotonic() < until and bench.rows("SELECT state FROM send") != [("failed",)]:
        time.sleep(0.05)
    assert bench.rows("SELECT state FROM send") == [("failed",)]
    assert bench.rows("SELECT address_key, origin FROM suppression") == [("email:joerg@example.org", "bounce")]
    assert bench.box.mails() == []


def test_a_mailbox_that_greylists_gets_the_mail_at_the_second_try(bench, mailbox):
    bench.box.set("mail_fault", "greylist")
    sent(bench, mailbox.port)
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "retrying"
    assert "Greylisted" in reason
    until = time.monotonic() + 10
    while time.monotonic() < until and bench.rows("SELECT state FROM send") != [("sent",)]:
        bench.dispatcher().run_batch(8)
    assert bench.rows("SELECT state, tries FROM send") == [("sent", 2)]
    assert len(bench.box.mails()) == 1


@pytest.mark.filterwarnings("ignore:Requiring AUTH")
def test_a_mail_server_that_refuses_the_password_fails_no_send(bench):
    """It would refuse any: who mends the password mends them all."""
    taken = []

    class Door:
        async def handle_DATA(self, server, session, envelope):
            taken.append(envelope.rcpt_tos)
            return "250 OK"

    def check(server, session, envelope, mechanism, data):
        from aiosmtpd.smtp import AuthResult

        return AuthResult(success=data.password == b"right", handled=False)

    door = Controller(
        Door(), hostname="127.0.0.1", port=free_port(), authenticator=check, auth_required=True, auth_require_tls=False
    )
    door.start()
    try:
        bench.change(made.gateway(door.port, username="jo"), GatewayRow)
        gateway_id = bench.services.setups.get(bench.store_id).gateway_ids["mailroom"]
        with bench.database.writing() as session:
            bench.vault.put(session, "gateway", gateway_id, "wrong", bench.clock.now())
        sent(bench, door.port, username="jo")
        ((state, reason),) = bench.rows("SELECT state, reason FROM send")
        assert state == "retrying", reason
        assert "user name and password" in reason
        with bench.database.writing() as session:
            bench.vault.put(session, "gateway", gateway_id, "right", bench.clock.now())
        until = time.monotonic() + 10
        while time.monotonic() < until and bench.rows("SELECT state FROM send") != [("sent",)]:
            bench.dispatcher().run_batch(8)
        assert bench.rows("SELECT state FROM send") == [("sent",)]
        assert len(taken) == 1
    finally:
        door.stop()
