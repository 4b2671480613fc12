"""A gateway is tried stage by stage: what works is ticked, the first that fails says why, the rest is not reached."""

import socket
import ssl
import threading

import pytest
from cryptography import x509

from angelon.core.specs import Gateway
from angelon.gateways import probing
from angelon.gateways.probing import probe
from angelon.standins.box import Box
from angelon.standins.mailbox import Mailbox
from angelon.standins.providers import Providers
from tests import made
from tests.web.test_pages import text


def told(stages):
    return [(stage.name, stage.ok) for stage in stages]


@pytest.fixture
def mail(tmp_path):
    server = Mailbox(Box(tmp_path))
    server.start()
    yield server
    server.stop()


def test_a_mail_server_is_gone_through_and_nothing_is_sent(mail, tmp_path):
    stages = probe(made.gateway(mail.port), "")
    assert told(stages) == [("name", True), ("port", True), ("greeting", True), ("sender", True)]
    assert "orders@kites.example may send" in stages[-1].said
    assert Box(tmp_path).count_mails() == 0


def test_the_first_stage_that_fails_says_why_and_what_to_do(mail):
    unknown = probe(made.gateway(host="nosuch.invalid"), "")
    assert told(unknown)[:2] == [("name", False), ("port", None)]
    assert "not known" in unknown[0].said
    with socket.socket() as closed:
        closed.bind(("127.0.0.1", 0))
        refused = probe(made.gateway(closed.getsockname()[1]), "")
    assert told(refused)[1] == ("port", False)
    assert "nothing listens" in refused[1].said
    starttls = probe(made.gateway(mail.port, tls="starttls"), "")
    assert next(one for one in starttls if one.ok is False).name == "TLS"
    login = probe(made.gateway(mail.port, username="me"), "pw")
    assert next(one for one in login if one.ok is False).name == "login"
    implicit = probe(made.gateway(mail.port, tls="implicit", timeout_seconds=2), "")
    assert next(one for one in implicit if one.ok is False).name == "greeting"


def test_a_server_that_says_nothing_is_waited_for_only_so_long():
    with socket.socket() as quiet:
        quiet.bind(("127.0.0.1", 0))
        quiet.listen(5)
        stages = probe(made.gateway(quiet.getsockname()[1], timeout_seconds=0.5), "")
    failed = [one for one in stages if one.ok is False]
    assert [one.name for one in failed] == ["greeting"]
    assert "No answer in time" in failed[0].said


def test_a_provider_is_tried_without_a_request(tmp_path):
    box = Box(tmp_path)
    server = Providers(box)
    server.start()
    try:
        spec = made.provider("sms", server.port)
        assert told(probe(Gateway.model_validate(spec), "tok")) == [("settings", True), ("name", True), ("port", True)]
        missing = probe(Gateway.model_validate(spec), "")
        assert "no token or password yet" in missing[0].said
        assert told(missing)[1:] == [("name", None), ("port", None)]
        call = {"url": f"http://127.0.0.1:{server.port}/system"}
        auth = {"scheme": "oauth", "username": "a", "token_url": f"{call['url']}/token"}
        system = Gateway(key="s", name="S", kind="call", call=call, auth=auth)
        assert told(probe(system, "s"))[-1] == ("token", True)
        box.set("system_token", "other")
        assert "No token" in probe(system, "s")[-1].said
        assert box.calls() == []
        assert box.texts() == []
    finally:
        server.stop()


def test_a_certificate_that_nobody_trusts_is_told(tmp_path, monkeypatch):
    import datetime as dt

    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    now = dt.datetime.now(dt.UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - dt.timedelta(days=1))
        .not_valid_after(now + dt.timedelta(days=5))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), False)
        .sign(key, hashes.SHA256())
    )
    file = tmp_path / "both.pem"
    file.write_bytes(
        certificate.public_bytes(serialization.Encoding.PEM)
        + key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    listener = socket.create_server(("127.0.0.1", 0))

    def serve():
        while True:
            try:
                plain, _ = listener.accept()
                with context.wrap_socket(plain, server_side=True) as sealed:
                    sealed.recv(10)
            except OSError:
                if listener.fileno() < 0:
                    return

    threading.Thread(target=serve, daemon=True).start()
    port = listener.getsockname()[1]
    gateway = Gateway(key="s", name="S", kind="call", call={"url": f"https://localhost:{port}/api"})
    stages = probe(gateway, "")
    assert next(one for one in stages if one.ok is False).name == "TLS"
    assert "not trusted" in stages[-1].said
    own = ssl.create_default_context(cafile=str(file))
    monkeypatch.setattr(probing, "trusted", lambda: own)
    good = probe(gateway, "")[-1]
    listener.close()
    assert good.ok is True
    assert "It runs out soon" in good.said


def test_it_is_tried_on_its_page(client, bench, mailbox):
    page = client.post("/gateways/mailroom/try")
    assert page.status_code == 200
    assert "The server accepts mail from Angelon, and the gateway is on. Nothing was sent" in text(page)
    assert bench.box.count_mails() == 0
