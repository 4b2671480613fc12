"""Servers and providers that drip, hang up, talk nonsense or never end: each try is over in time, and its outcome is
what was said.
"""

import contextlib
import socket
import threading
import time

import pytest

from angelon.core.specs import Gateway
from angelon.gateways.deadline import whole_try
from angelon.gateways.fetching import CantFetch, fetch, public
from angelon.gateways.http import HttpTransport
from angelon.gateways.interface import Mail, ProviderMessage
from angelon.gateways.smtp import SmtpTransport
from tests import made

MAIL = Mail("a@example.org", "b@example.org", b"Subject: x\r\n\r\nHello\r\n")
MESSAGE = ProviderMessage(
    {"to": "+353209150001", "sender": "Kites", "text": "Hi", "locale": "en", "segments": 1, "encoding": "GSM-7"}
)


@contextlib.contextmanager
def server(talk):
    """A server whose every connection is talked to by `talk(connection, file)`, in a thread of its own."""
    listening = socket.create_server(("127.0.0.1", 0))
    open_ones = []

    def serve(connection):
        with contextlib.suppress(OSError, ValueError):
            talk(connection, connection.makefile("rwb", buffering=0))

    def accept():
        with contextlib.suppress(OSError):
            while True:
                connection, _ = listening.accept()
                open_ones.append(connection)
                threading.Thread(target=serve, args=(connection,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        listening.close()
        for connection in open_ones:
            connection.close()


def smtp(rcpt=b"250 ok", data=b"250 taken", hang_up_after=None, pipelining=True, greeting=b"220 here", drip=None):
    """A mail server that answers as it is told to; `hang_up_after` names the command after whose answer it closes."""

    def talk(connection, file):
        def say(text):
            if drip:
                for byte in text + b"\r\n":
                    file.write(bytes([byte]))
                    time.sleep(drip)
            else:
                file.write(text + b"\r\n")

        say(greeting)
        while line := file.readline():
            word = line.split()[0].upper().rstrip(b":") if line.split() else b""
            if word in (b"EHLO", b"HELO"):
                say(b"250-here\r\n250-PIPELINING\r\n250 OK" if pipelining else b"250 here")
            elif word == b"RCPT":
                say(rcpt)
            elif word == b"DATA":
                say(b"354 go on" if rcpt.startswith(b"250") else b"503 no")
                if rcpt.startswith(b"250"):
                    while (line := file.readline()) and line != b".\r\n":
                        pass
                    say(data)
            elif word == b"QUIT":
                say(b"221 bye")
                return
            else:
                say(b"250 ok")
            if word == hang_up_after:
                connection.shutdown(socket.SHUT_RDWR)
                return

    return talk


def deliver(port, **changes):
    transport = SmtpTransport(made.gateway(port, timeout_seconds=1, **changes))
    try:
        return transport.deliver(MAIL, "k")
    finally:
        transport.close()


@pytest.mark.parametrize("pipelining", [True, False])
def test_a_refusal_followed_by_a_hang_up_is_that_refusal(pipelining):
    with server(smtp(rcpt=b"550 5.1.1 nobody of that name", hang_up_after=b"RCPT", pipelining=pipelining)) as port:
        outcome = deliver(port)
    assert (outcome.kind, outcome.code, outcome.answer, outcome.unreachable) == (
        "permanent",
        "550",
        "5.1.1 nobody of that name",
        False,
    )
    with server(smtp(data=b"554 5.6.0 not this", hang_up_after=b"DATA", pipelining=pipelining)) as port:
        outcome = deliver(port)
    assert (outcome.kind, outcome.code) == ("permanent", "554")


@pytest.mark.parametrize(
    ("said", "kind"),
    [
        (b"250 taken", "accepted"),
        (b"451 later", "temporary"),
        (b"421 closing", "temporary"),
        (b"554 no", "permanent"),
        (b"220 hello", "unknown"),
        (b"999 what", "unknown"),
        (b"000 ?", "unknown"),
        (b"garbage", "unknown"),
        (b"354 go on", "unknown"),
        (b"", "unknown"),
    ],
)
def test_what_comes_after_the_message_and_is_no_known_answer_is_unknown(said, kind):
    with server(smtp(data=said)) as port:
        assert deliver(port).kind == kind


def test_the_server_forgets_a_refused_message_before_the_next_one():
    answers = iter([b"550 nobody", b"250 ok"])
    heard = []

    def talk(connection, file):
        file.write(b"220 here\r\n")
        while line := file.readline():
            heard.append(line.split()[0])
            if line.startswith(b"DATA"):
                file.write(b"354 go on\r\n")
                while (line := file.readline()) and line != b".\r\n":
                    pass
                file.write(b"250 ok\r\n")
            elif line.startswith(b"RCPT"):
                file.write(next(answers) + b"\r\n")
            else:
                file.write(b"250 ok\r\n")

    with server(talk) as port:
        transport = SmtpTransport(made.gateway(port, timeout_seconds=2))
        assert [transport.deliver(MAIL, "k").kind for _ in range(2)] == ["permanent", "accepted"]
        transport.close()
    assert heard == [b"ehlo", b"MAIL", b"RCPT", b"RSET", b"MAIL", b"RCPT", b"DATA", b"QUIT"] or [
        word.upper() for word in heard
    ] == [b"EHLO", b"MAIL", b"RCPT", b"RSET", b"MAIL", b"RCPT", b"DATA", b"QUIT"]


@pytest.mark.parametrize("where", ["greeting", "answers", "handshake"])
def test_a_mail_server_that_drips_is_cut_off(where):
    """A byte every 0.4 s beats a timeout of one second for each read; the whole try is over after three of them."""
    talk = (
        smtp(drip=0.4)
        if where == "greeting"
        else smtp(greeting=b"220 here", drip=0.4)
        if where == "answers"
        else lambda connection, file: [file.write(b"\x16") or time.sleep(0.4) for _ in range(60)]
    )
    with server(talk) as port:
        began = time.monotonic()
        outcome = deliver(port, **({"tls": "implicit"} if where == "handshake" else {}))
    assert time.monotonic() - began < whole_try(1) + 6
    assert (outcome.kind, outcome.unreachable) == ("temporary", True)


def test_an_answer_without_end_is_not_read_into_memory():
    def talk(connection, file):
        with contextlib.suppress(OSError):
            while True:
                file.write(b"220-on and on\r\n" * 1000)

    with server(talk) as port:
        began = time.monotonic()
        assert "has no end" in deliver(port).answer
    assert time.monotonic() - began < 10


def http(answer, drip=0.0, after=0.0):
    """A provider that answers every request with these bytes."""

    def talk(connection, file):
        while True:
            length = 0
            while line := file.readline().strip():
                if line.lower().startswith(b"content-length:"):
                    length = int(line.split(b":")[1])
            if length:
                file.read(length)
            time.sleep(after)
            for piece in [bytes([byte]) for byte in answer] if drip else [answer]:
                file.write(piece)
                time.sleep(drip)
            return

    return talk


def provider(port, **changes):
    transport = HttpTransport(
        Gateway.model_validate(made.provider("sms", port) | {"timeout_seconds": 1} | changes), "tok"
    )
    try:
        return transport.deliver(MESSAGE, "sd-1")
    finally:
        transport.close()


def answer(body: bytes, status: bytes = b"200 OK", headers: bytes = b"") -> bytes:
    return (
        b"HTTP/1.1 " + status + b"\r\nContent-Length: " + str(len(body)).encode() + b"\r\n" + headers + b"\r\n" + body
    )


@pytest.mark.parametrize(
    "body",
    [
        b"<html>log in</html>",
        b"",
        b"null",
        b"[]",
        b'{"state": "queued"}',
        b'{"id": "x"}',
        b'{"id": null, "state": "queued"}',
        b"\xff\xfe",
        b"[" * 100_000,
        b"x" * 2_000_000,
    ],
)
def test_a_200_that_lacks_what_the_settings_promise_is_not_accepted(body):
    with server(http(answer(body))) as port:
        outcome = provider(port)
    assert outcome.kind == "unknown"
    assert "has nothing at $." in outcome.answer


@pytest.mark.parametrize(
    ("header", "seconds"),
    [
        (b"\xc2\xb2", None),
        (b"3", 3.0),
        (b"-3", None),
        (b"9" * 400, 999999999999.0),
        (b"Thu, 99 Foo 9999 00:00:00 GMT", None),
        (b"1e5", None),
    ],
)
def test_a_strange_retry_after_raises_nothing(header, seconds):
    with server(http(answer(b"{}", b"503 Away", b"Retry-After: " + header + b"\r\n"))) as port:
        outcome = provider(port)
    assert (outcome.kind, outcome.retry_after) == ("temporary", seconds)


@pytest.mark.parametrize(
    "body",
    [
        b'{"id": "\\ud800", "state": "queued"}',
        b'{"id": "a\\u0000b", "state": "queued"}',
        b'{"id": 123456789012345678901234567890, "state": "queued"}',
    ],
)
def test_what_a_provider_says_can_be_stored(body):
    with server(http(answer(body))) as port:
        outcome = provider(port)
    (outcome.reference + outcome.answer).encode()
    assert "\x00" not in outcome.reference + outcome.answer


def test_a_provider_that_drips_is_cut_off():
    with server(http(answer(b'{"id": "1", "state": "queued"}'), drip=0.2)) as port:
        began = time.monotonic()
        outcome = provider(port)
    assert time.monotonic() - began < whole_try(1) + 6
    assert (outcome.kind, outcome.unreachable) == ("unknown", True)
    assert "longer than 3 s in all" in outcome.answer


def test_a_file_that_drips_is_not_waited_for():
    with server(http(answer(b"x" * 100), drip=0.2)) as port:
        began = time.monotonic()
        with pytest.raises(CantFetch, match=r"did not answer within 2 s|takes too long"):
            fetch(f"http://127.0.0.1:{port}/x", ["127.0.0.1"], seconds=2)
    assert time.monotonic() - began < 12


@pytest.mark.parametrize(
    "url",
    [
        f"http://{'a' * 64}.example/x",
        "http://a..b/x",
        "http://example.org:99999/",
        "http://.example/",
        "http://" + "a." * 200 + "b/",
    ],
)
def test_an_address_that_no_resolver_takes_is_said_to_be_none(url):
    with pytest.raises(CantFetch):
        fetch(url)


def test_a_redirect_to_nonsense_is_a_sentence():
    with (
        server(http(b"HTTP/1.1 302 Found\r\nLocation: http://[::bad\r\nContent-Length: 0\r\n\r\n")) as port,
        pytest.raises(CantFetch),
    ):
        fetch(f"http://127.0.0.1:{port}/x", ["127.0.0.1"])


@pytest.mark.parametrize(
    "address",
    [
        "::127.0.0.1",
        "::ffff:0:7f00:1",
        "::ffff:10.0.0.1",
        "64:ff9b:1::a00:1",
        "64:ff9b::7f00:1",
        "fec0::1",
        "3fff::1",
        "5f00::1",
        "::",
        "::1",
        "fe80::1",
        "169.254.169.254",
    ],
)
def test_no_address_leads_inside(address):
    assert not public(address)
