"""Signatures that another library verifies, records that DNS has, keys that take over from one another."""

import datetime as dt
import email
import email.policy

import dkim as verifier
import pytest

from angelon.core.messages.dkim import new_key, record, signed
from angelon.db.tables import GatewayRow
from angelon.gateways.dns import Resolver, records_of
from tests import made
from tests.web.test_pages import text

NOW = dt.datetime(2026, 11, 27, 9, 0, tzinfo=dt.UTC)


@pytest.fixture(scope="module")
def pem():
    return new_key()


def passes(mail, pem):
    return verifier.verify(mail, dnsfunc=lambda name, timeout=5: record(pem).encode())


@pytest.mark.parametrize(
    "body",
    [b"", b"\r\n", b"hello\r\n", b"hello", b"a  b\t\r\n \r\n\r\n", "grüße\r\n".encode(), b"x" * 2000 + b"\r\n"],
)
def test_a_signature_is_verified_by_another_library(pem, body):
    mail = (
        b"Date: Fri, 27 Nov 2026 09:00:00 +0000\r\nFrom: Kites <orders@kites.example>\r\n"
        b"To:  joerg@example.org\r\nSubject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=\r\n a  folded one\r\n"
        b"List-Unsubscribe:\r\n <https://angelon.example/p/x>\r\nMessage-ID: <sd-1@kites.example>\r\n\r\n" + body
    )
    out = signed(mail, "kites.example", "angelon1", pem, NOW)
    assert passes(out, pem)
    assert not passes(out.replace(b"folded", b"forged"), pem)
    assert not passes(out.replace(b"From: Kites", b"From: Kited"), pem)
    assert not passes(b"From: other@evil.example\r\n" + out, pem), "a second From can't be put before it"
    if body == b"hello\r\n":
        assert not passes(out.replace(b"hello", b"hallo"), pem)


def test_a_real_mail_goes_out_signed_and_a_new_key_takes_over(bench, mailbox, client):
    client.post("/senders", data={"address": "orders@kites.example"})
    (key,) = [sender.key for sender in bench.services.setups.get(bench.store_id).setup.store.senders]
    bench.change(made.gateway(mailbox.port, dkim=True), GatewayRow)
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "held"
    assert "no key for kites.example" in reason
    client.post(f"/senders/{key}/signing-key")
    page = client.get(f"/senders/{key}").get_data(as_text=True)
    assert "v=DKIM1; k=rsa; p=" in page
    assert "PRIVATE" not in page
    client.post(f"/senders/{key}/signing-key", data={"act": "use"})
    client.post("/sends/bulk", data={"act": "retry", "send": bench.rows("SELECT id FROM send")[0][0]})
    bench.dispatcher().run_batch(8)
    (row,) = bench.box.mails()
    from angelon.engine.sending import signing_keys

    with bench.database.reading() as session:
        own = signing_keys.active(bench.vault, session, bench.store_id, "kites.example", bench.clock.now())
    assert passes(row.raw, own.pem)
    assert email.message_from_bytes(row.raw, policy=email.policy.default)["DKIM-Signature"]
    refused = client.post(f"/senders/{key}/signing-key", data={"act": "use"}, follow_redirects=True)
    assert "There is no new key" in text(refused)


ZONE = """$TTL 60
kites.example. IN TXT "v=spf1 include:_spf.provider.example" " -all"
kites.example. IN MX 10 mail.kites.example.
_spf.provider.example. IN TXT "v=spf1 ip4:192.0.2.0/24 -all"
_dmarc.kites.example. IN TXT "v=DMARC1; p=reject"
mail.kites.example. IN A 192.0.2.7
7.2.0.192.in-addr.arpa. IN PTR mail.kites.example.
"""


def test_a_domain_is_checked_on_its_sender_s_page_against_a_zone_file(bench, client, tmp_path):
    (tmp_path / "zone").write_text(ZONE)
    bench.services.settings.zone = tmp_path / "zone"
    found = records_of(Resolver(tmp_path / "zone"), "kites.example", "mail.kites.example", ["angelon1"])
    assert found.txt == ["v=spf1 include:_spf.provider.example -all"]
    assert found.included == {"_spf.provider.example": ["v=spf1 ip4:192.0.2.0/24 -all"]}
    assert found.reverse == {"192.0.2.7": ["mail.kites.example."]}
    bench.change(made.gateway(25, host="mail.kites.example"), GatewayRow)
    client.post("/senders", data={"address": "orders@kites.example"})
    (key,) = [sender.key for sender in bench.services.setups.get(bench.store_id).setup.store.senders]
    page = text(client.post(f"/senders/{key}/domain"))
    assert "Your mail server may send for the domain." in page
    assert "treated as “reject”" in page
    assert "Angelon does not sign for this domain." in page
    bench.services.settings.zone = None


def test_dns_that_does_not_answer_is_said(monkeypatch):
    import dns.resolver

    def silent(*_, **__):
        raise dns.resolver.LifetimeTimeout(timeout=3, errors=[])

    monkeypatch.setattr(dns.resolver.Resolver, "resolve", silent)
    monkeypatch.setattr(dns.resolver.Resolver, "__init__", lambda self: None)
    found = records_of(Resolver(), "kites.example", "mail.kites.example")
    assert found.txt == []
    assert "kites.example TXT" in found.failed
