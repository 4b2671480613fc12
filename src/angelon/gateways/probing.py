"""Tries a gateway without sending: each stage of the real handshake, ticked, or with the cause in plain words."""

from __future__ import annotations

import datetime as dt
import smtplib
import socket
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlsplit

import httpx

from angelon.core.calls import CantCall, auth_problems, problems_of_calls
from angelon.core.sending.codes import meaning
from angelon.core.specs.gateway import Gateway
from angelon.gateways.deadline import Line
from angelon.gateways.http import HttpTransport
from angelon.gateways.smtp import _Server
from angelon.gateways.tokens import CantGetToken
from angelon.gateways.trust import trusted

LONGEST = 15.0
SOON = dt.timedelta(days=14)
"""A certificate that runs out within so long is pointed out."""


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage: what was looked at, how it went (None where it was not reached), and what was seen or what to do."""

    name: str
    ok: bool | None
    said: str = ""


class _Stop(Exception):
    """A stage has failed: those after it are not reached."""


class _Stages:
    def __init__(self, *names: str) -> None:
        self._names, self.done = names, list[Stage]()

    def run(self, name: str, step: Callable[[], str]) -> None:
        try:
            self.done.append(Stage(name, True, step()))
        except _Stop:
            raise
        except Exception as error:
            self.done.append(Stage(name, False, _cause(error)))
            raise _Stop from None

    def all(self) -> list[Stage]:
        reached = {stage.name for stage in self.done}
        return [*self.done, *(Stage(name, None) for name in self._names if name not in reached)]


def probe(gateway: Gateway, secret: str) -> list[Stage]:
    """Every stage of reaching a gateway. Never raises, and takes at most a few times LONGEST seconds."""
    return _smtp(gateway, secret) if gateway.kind == "smtp" else _http(gateway, secret)


def _smtp(gateway: Gateway, password: str) -> list[Stage]:
    names = ["name", "port", "greeting"]
    names += ["TLS"] if gateway.tls != "none" else []
    names += ["login"] if gateway.username else []
    stages = _Stages(*names, "sender")
    wait = min(gateway.timeout_seconds, LONGEST)
    found: list[_Server] = []

    def connect() -> str:
        context = trusted() if gateway.tls == "implicit" else None
        server = _Server(
            Line(), context, host=gateway.host, port=gateway.port, timeout=wait, local_hostname="localhost"
        )
        found.append(server)
        server.ehlo_or_helo_if_needed()
        return str((server.ehlo_resp or b"").decode(errors="replace").splitlines()[0] if server.ehlo_resp else "HELO")

    def tls() -> str:
        if gateway.tls == "starttls":
            found[0].starttls(context=trusted())
            found[0].ehlo()
        return _certificate(found[0].sock)

    def login() -> str:
        found[0].login(gateway.username, password)
        return f"as {gateway.username}"

    def sender() -> str:
        assert gateway.sender is not None
        code, answer = found[0].mail(gateway.sender.address)
        found[0].rset()
        if code >= 400:
            raise smtplib.SMTPResponseException(code, answer)
        return f"{gateway.sender.address} may send"

    try:
        stages.run("name", lambda: _resolved(gateway.host))
        stages.run("port", lambda: _open(gateway.host, gateway.port, wait))
        stages.run("greeting", connect)
        if gateway.tls != "none":
            stages.run("TLS", tls)
        if gateway.username:
            stages.run("login", login)
        stages.run("sender", sender)
    except _Stop:
        pass
    finally:
        for server in found:
            server.close()
    return stages.all()


def _http(gateway: Gateway, secret: str) -> list[Stage]:
    address = urlsplit(gateway.call.url.partition("{{")[0])
    port = address.port or (443 if address.scheme == "https" else 80)
    oauth = gateway.auth.scheme == "oauth"
    names = ["settings", "name", "port"] + (["TLS"] if address.scheme == "https" else []) + (["token"] if oauth else [])
    stages = _Stages(*names)
    wait = min(gateway.timeout_seconds, LONGEST)

    def settings() -> str:
        problems = auth_problems(gateway.auth)
        if gateway.kind == "call":
            problems += problems_of_calls(gateway)
        elif not gateway.call.url:
            raise ValueError("The address is empty. Write the address of the provider’s API.")
        if problems:
            raise ValueError(str(problems[0]))
        if gateway.auth.scheme != "none" and not secret:
            raise ValueError("There is no token or password yet. Type it in, and save.")
        return f"{gateway.call.method} {gateway.call.url[:80]}" if gateway.kind != "call" else gateway.call.url[:80]

    def tls() -> str:
        host = address.hostname or ""
        with (
            socket.create_connection((host, port), wait) as plain,
            trusted().wrap_socket(plain, server_hostname=host) as sealed,
        ):
            return _certificate(sealed)

    def token() -> str:
        transport = HttpTransport(gateway, secret)
        try:
            assert transport._tokens is not None
            transport._tokens.token()
            return "a token was given"
        finally:
            transport.close()

    try:
        stages.run("settings", settings)
        stages.run("name", lambda: _resolved(address.hostname or ""))
        stages.run("port", lambda: _open(address.hostname or "", port, wait))
        if address.scheme == "https":
            stages.run("TLS", tls)
        if oauth:
            stages.run("token", token)
    except _Stop:
        pass
    return stages.all()


def _resolved(host: str) -> str:
    found = sorted({str(one[4][0]) for one in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)})
    return ", ".join(found[:3])


def _open(host: str, port: int, wait: float) -> str:
    with socket.create_connection((host, port), wait):
        return f"{port} is open"


def _certificate(sealed: socket.socket | None) -> str:
    """The version of TLS, and until when the certificate is good."""
    if not isinstance(sealed, ssl.SSLSocket):
        return "encrypted"
    certificate = sealed.getpeercert() or {}
    ends = str(certificate.get("notAfter", ""))
    if not ends:
        return str(sealed.version())
    at = dt.datetime.fromtimestamp(ssl.cert_time_to_seconds(ends), dt.UTC)
    soon = " It runs out soon: renew it." if at - dt.datetime.now(dt.UTC) < SOON else ""
    return f"{sealed.version()}, certificate good until {at:%-d %B %Y}.{soon}"


def _cause(error: Exception) -> str:
    """Why a stage failed, and what to do about it."""
    if isinstance(error, socket.gaierror):
        return "The host is not known. Check how it is written."
    if isinstance(error, ssl.SSLCertVerificationError):
        return f"The certificate is not trusted: {error.verify_message}. Check the host, or the server’s certificate."
    if isinstance(error, ssl.SSLError):
        return "The server has no TLS on this port. Choose STARTTLS or none, or another port: 465 (implicit), 587."
    if isinstance(error, smtplib.SMTPNotSupportedError):
        return "The server does not offer that. Choose another way of TLS, or leave the user name empty."
    if isinstance(error, smtplib.SMTPResponseException):
        said = error.smtp_error.decode(errors="replace") if isinstance(error.smtp_error, bytes) else error.smtp_error
        answer = f"{error.smtp_code} {' '.join(str(said).split())[:200]}"
        known = meaning(answer)
        return f"It answers “{answer}”" + (f": {known.words}." if known else ".")
    if isinstance(error, TimeoutError | httpx.TimeoutException):
        return "No answer in time. Is the port right, and does a firewall stand between?"
    if isinstance(error, ConnectionRefusedError):
        return "The connection is refused: nothing listens on that port."
    if isinstance(error, smtplib.SMTPServerDisconnected | ConnectionError):
        return "The connection was closed. The port may be one for TLS: choose implicit TLS."
    if isinstance(error, CantGetToken | CantCall | ValueError):
        return str(error)
    return f"{type(error).__name__}: {' '.join(str(error).split())[:200]}"
