"""The SMTP gateway against real servers: with and without pipelining, refusing at each command, with TLS."""

import contextlib
import datetime as dt
import ssl

import pytest
from aiosmtpd.controller import Controller
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from angelon.cli.serving import free_port
from angelon.gateways.interface import Mail
from angelon.gateways.smtp import SmtpTransport
from tests import made

MAIL = Mail("orders@kites.example", "jo@example.org", b"Subject: hi\r\n\r\n.leading dot\r\nend")


class Server:
    """Takes mail, or answers as it is told to at RCPT or DATA."""

    def __init__(self, pipelining=True, rcpt=None, data=None):
        self.pipelining, self.rcpt, self.data, self.got = pipelining, rcpt, data, []

    async def handle_EHLO(self, server, session, envelope, hostname, responses):
        session.host_name = hostname
        return [*responses[:-1], "250-PIPELINING", responses[-1]] if self.pipelining else responses

    async def handle_RCPT(self, server, session, envelope, address, options):
        if self.rcpt:
            return self.rcpt
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        self.got.append((envelope.mail_from, envelope.rcpt_tos, envelope.original_content))
        return self.data or "250 OK"


@contextlib.contextmanager
def serving(server, **options):
    controller = Controller(server, hostname="127.0.0.1", port=free_port(), **options)
    controller.start()
    try:
        yield controller.port
    finally:
        controller.stop()


@pytest.mark.parametrize("pipelining", [True, False])
def test_a_mail_arrives_byte_by_byte_and_the_connection_is_used_again(pipelining):
    server = Server(pipelining)
    with serving(server) as port:
        transport = SmtpTransport(made.gateway(port))
        assert [transport.deliver(MAIL, "k").kind for _ in range(3)] == ["accepted"] * 3
        transport.close()
    assert server.got == [("orders@kites.example", ["jo@example.org"], MAIL.data + b"\r\n")] * 3


@pytest.mark.parametrize("pipelining", [True, False])
@pytest.mark.parametrize(
    ("answers", "kind", "code"),
    [
        ({"rcpt": "550 5.1.1 nobody"}, "permanent", "550"),
        ({"rcpt": "451 4.3.0 later"}, "temporary", "451"),
        ({"data": "554 5.7.1 no"}, "permanent", "554"),
        ({"data": "452 4.2.2 full"}, "temporary", "452"),
    ],
)
def test_refusals_for_now_and_for_good_are_told_apart(pipelining, answers, kind, code):
    server = Server(pipelining, **answers)
    with serving(server) as port:
        transport = SmtpTransport(made.gateway(port))
        first, second = transport.deliver(MAIL, "k"), transport.deliver(MAIL, "k")
        assert (first.kind, first.code, second.kind) == (kind, code, kind)
        server.rcpt = server.data = None
        assert transport.deliver(MAIL, "k").kind == "accepted", "the same connection goes on after a refusal"


def test_an_address_outside_ascii_needs_smtputf8():
    for enabled, kind in ((True, "accepted"), (False, "permanent")):
        with serving(Server(), enable_SMTPUTF8=enabled) as port:
            assert (
                SmtpTransport(made.gateway(port))
                .deliver(Mail("a@example.org", "jörg@example.org", b"Subject: x\r\n\r\nx"), "k")
                .kind
                == kind
            )


def test_nobody_there_and_an_unknown_host_are_temporary():
    assert SmtpTransport(made.gateway(free_port())).deliver(MAIL, "k").kind == "temporary"
    assert (
        "can't be reached"
        in SmtpTransport(made.gateway(25, host="nowhere.invalid", timeout_seconds=2)).deliver(MAIL, "k").answer
    )


def test_a_certificate_that_can_t_be_trusted_ends_the_try(tmp_path):
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = dt.datetime.now(dt.UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now)
        .not_valid_after(now + dt.timedelta(days=1))
        .sign(key, hashes.SHA256())
    )
    (tmp_path / "c.pem").write_bytes(
        certificate.public_bytes(serialization.Encoding.PEM)
        + key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "c.pem")
    server = Server()
    with serving(server, tls_context=context) as port:
        outcome = SmtpTransport(made.gateway(port, tls="starttls", timeout_seconds=3)).deliver(MAIL, "k")
    assert (outcome.kind, server.got) == ("temporary", [])


def test_a_server_without_starttls_gets_no_mail_in_the_clear():
    server = Server()
    with serving(server) as port:
        outcome = SmtpTransport(made.gateway(port, tls="starttls")).deliver(MAIL, "k")
    assert (outcome.kind, server.got) == ("temporary", [])
    assert "TLS" in outcome.answer
