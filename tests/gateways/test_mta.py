"""A real mail server (postfix) takes our mail, signed, and its real bounce comes back as one."""

import tempfile
import time
from pathlib import Path

import dkim as verifier
import pytest

from angelon.cli.serving import free_port
from angelon.db.tables import GatewayRow
from angelon.engine.feedback.returns import Returns, ReturnsListener
from angelon.engine.sending import signing_keys
from tests import made
from tests.gateways import mta

PATH = "bounces@mail.kites.example"

pytestmark = pytest.mark.skipif(not mta.can_run(), reason="no postfix, or not root: scripts/ensure-mail-tools.sh")


@pytest.fixture
def server(bench):
    listener = ReturnsListener(Returns(bench.database, bench.services.setups, bench.vault, bench.clock), "127.0.0.1", 0)
    listener.start()
    with tempfile.TemporaryDirectory(prefix="mta") as home:
        running = mta.MailServer(Path(home), free_port(), PATH.partition("@")[2], listener.port)
        running.start()
        yield running
        running.stop()
    listener.stop()


def order(bench, number, address):
    body = made.body(id=number, reference=f"BK-{number}", buyer={"name": "Jo", "email": address})
    bench.deliver(body, store_delivery=f"d-{number}")
    bench.plan()
    bench.dispatcher().run_batch(8)


def test_a_mail_arrives_signed_and_another_comes_back(bench, client, server):
    client.post("/senders", data={"address": "orders@kites.example"})
    (sender,) = bench.services.setups.get(bench.store_id).setup.store.senders
    client.post(f"/senders/{sender.key}/signing-key")
    client.post(f"/senders/{sender.key}/signing-key", data={"act": "use"})
    bench.change(made.gateway(server.port, return_path=PATH, dkim=True), GatewayRow)

    order(bench, 1, "jo@there.example")
    (mail,) = server.mails()
    with bench.database.reading() as session:
        key = signing_keys.active(bench.vault, session, bench.store_id, "kites.example", bench.clock.now())
    assert verifier.verify(mail, dnsfunc=lambda name, timeout=5: key.record.encode()), "it passes after the way"
    assert mail.startswith(b"Return-Path: <bounces+sd-"), mail[:200]

    order(bench, 2, "nobody@there.example")
    until = time.monotonic() + 15
    while time.monotonic() < until and ("failed",) not in bench.rows("SELECT state FROM send"):
        time.sleep(0.1)
    assert sorted(bench.rows("SELECT recipient, state FROM send")) == [
        ("jo@there.example", "sent"),
        ("nobody@there.example", "failed"),
    ], server.log
    ((reason,),) = bench.rows("SELECT reason FROM send WHERE state = 'failed'")
    assert "5.1.1" in reason
    assert bench.rows("SELECT address_key, origin FROM suppression") == [("email:nobody@there.example", "bounce")]
