"""Email by SMTP (RFC 5321), over one connection that is kept and used again; pipelined (RFC 2920) where the server offers it."""

from __future__ import annotations

import re
import smtplib
import socket
import ssl
from typing import Any

from angelon.core.specs.gateway import Gateway
from angelon.gateways.interface import Mail, Outcome

_DOT = re.compile(rb"(?m)^\.")


class SmtpWay:
    """One connection to one server. Not for use by several threads."""

    def __init__(self, gateway: Gateway, password: str = "") -> None:
        self._gateway = gateway
        self._password = password
        self._server: smtplib.SMTP | None = None

    def deliver(self, mail: Mail, key: str) -> Outcome:
        """One message to one recipient.

        4xx answers and whatever happens before the message was handed over are temporary, 5xx answers permanent
        (RFC 5321, section 4.2.1). A connection lost between the message's last line and the answer is unknown.
        """
        kept = self._server is not None
        outcome = self._try(mail)
        if outcome is None and kept:
            outcome = self._try(mail)
        return outcome or Outcome("temporary", "", f"{self._where()} closed the connection.")

    def _where(self) -> str:
        return f"{self._gateway.host}:{self._gateway.port}"

    def _try(self, mail: Mail) -> Outcome | None:
        """None where a kept connection turned out to be closed before anything was said: worth one more try at once."""
        fresh = self._server is None
        try:
            server = self._server or self._connect()
        except smtplib.SMTPAuthenticationError as error:
            return self._gone(_refusal(error.smtp_code, error.smtp_error, "did not accept the user name and password"))
        except (smtplib.SMTPNotSupportedError, ssl.SSLError) as error:
            return self._gone(Outcome("temporary", "", f"{self._where()}: no TLS as set: {error}"))
        except smtplib.SMTPResponseException as error:
            return self._gone(Outcome("temporary", str(error.smtp_code), _text(error.smtp_error)))
        except (OSError, smtplib.SMTPException) as error:
            return self._gone(Outcome("temporary", "", f"{self._where()} can't be reached: {_why(error)}"))
        handed_over = False
        try:
            refused = self._envelope(server, mail)
            if refused is not None:
                return refused
            handed_over = True
            server.send(_DOT.sub(b"..", mail.data) + (b"" if mail.data.endswith(b"\r\n") else b"\r\n") + b".\r\n")
            code, answer = server.getreply()
            return Outcome("accepted", str(code), _text(answer)) if code == 250 else self._refused(server, code, answer)
        except (OSError, smtplib.SMTPException) as error:
            self._gone(None)
            if handed_over:
                return Outcome("unknown", "", f"{self._where()} had the message and did not answer: {_why(error)}")
            if isinstance(error, smtplib.SMTPServerDisconnected | ConnectionError) and not fresh:
                return None
            return Outcome("temporary", "", f"{self._where()}: {_why(error)}")

    def _connect(self) -> smtplib.SMTP:
        g = self._gateway
        options: dict[str, Any] = {"host": g.host, "port": g.port, "timeout": g.timeout_seconds, "local_hostname": "localhost"}
        server = smtplib.SMTP_SSL(**options, context=ssl.create_default_context()) if g.tls == "implicit" else smtplib.SMTP(**options)
        self._server = server
        if server.sock:
            server.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        server.ehlo_or_helo_if_needed()
        if g.tls == "starttls":
            server.starttls(context=ssl.create_default_context())
            server.ehlo()
        if g.username:
            server.login(g.username, self._password)
        return server

    def _envelope(self, server: smtplib.SMTP, mail: Mail) -> Outcome | None:
        """MAIL, RCPT and DATA; the refusal, or None where the server waits for the message.

        Whether those in cc and bcc are taken does not matter: the send is to its recipient.
        """
        commands = (f"MAIL FROM:<{mail.from_address}>", f"RCPT TO:<{mail.to_address}>", *(f"RCPT TO:<{address}>" for address in mail.also), "DATA")
        utf8 = not all(address.isascii() for address in (mail.to_address, mail.from_address, *mail.also))
        if utf8:
            if not server.has_extn("smtputf8"):
                return Outcome("permanent", "", f"{self._where()} takes no addresses outside ASCII (SMTPUTF8, RFC 6531).")
            commands = (commands[0] + " SMTPUTF8", *commands[1:])
        if not server.has_extn("pipelining"):
            for number, command in enumerate(commands):
                server.send((command + "\r\n").encode())
                code, answer = server.getreply()
                last = number == len(commands) - 1
                if code not in ((354,) if last else (250, 251)) and (last or number < 2):
                    return self._refused(server, code, answer)
            return None
        server.send("".join(command + "\r\n" for command in commands).encode())
        replies = [server.getreply() for _ in commands]
        refused = next(((code, answer) for code, answer in replies[:2] if code not in (250, 251)), None)
        if refused is None and replies[-1][0] != 354:
            refused = replies[-1]
        if refused is None:
            return None
        if replies[-1][0] == 354:  # it waits for a message nobody would get: give it an empty one (RFC 2920, section 3.1)
            server.send(b".\r\n")
            server.getreply()
        return self._refused(server, *refused)

    def _refused(self, server: smtplib.SMTP, code: int, answer: bytes) -> Outcome:
        if code == -1 or code == 421:
            self._gone(None)
            return Outcome("temporary", "421" if code == 421 else "", _text(answer) or f"{self._where()} closed the connection.")
        server.send(b"RSET\r\n")
        server.getreply()
        return _refusal(code, answer, "")

    def _gone(self, outcome: Outcome | None) -> Outcome | None:
        server, self._server = self._server, None
        if server is not None:
            server.close()
        return outcome

    def close(self) -> None:
        """Says goodbye, where a connection is open."""
        if self._server is not None:
            try:
                self._server.quit()
            except (OSError, smtplib.SMTPException):
                pass
            self._gone(None)


def _refusal(code: int, answer: bytes | str, said: str) -> Outcome:
    kind = "permanent" if 500 <= code < 600 and not said else "temporary"
    return Outcome(kind, str(code), f"{said}: {_text(answer)}" if said else _text(answer))  # type: ignore[arg-type]


def _text(answer: bytes | str) -> str:
    text = answer.decode(errors="replace") if isinstance(answer, bytes) else answer
    return " ".join(text.split())[:500]


def _why(error: Exception) -> str:
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, ConnectionRefusedError):
        return "the connection is refused"
    if isinstance(error, socket.gaierror):
        return "the host is not known"
    if isinstance(error, smtplib.SMTPServerDisconnected):
        return "the connection was closed"
    return _text(str(error)) or type(error).__name__
