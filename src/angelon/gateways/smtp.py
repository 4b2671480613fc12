"""Email by SMTP (RFC 5321), over one connection that is kept and used again; pipelined (RFC 2920) where the server
offers it.
"""

from __future__ import annotations

import os
import smtplib
import socket
import ssl
from dataclasses import replace
from typing import Any

from angelon.core.outside import refuse_inside
from angelon.core.specs.gateway import Gateway
from angelon.gateways.deadline import Deadline, Line, whole_try
from angelon.gateways.interface import Mail, Outcome
from angelon.gateways.trust import trusted


def _transparent(data: bytes) -> bytes:
    """A message, its lines ended by CRLF, as it follows DATA: dots at the beginning of a line doubled, and the end
    marked (RFC 5321, section 4.5.2).
    """
    begun = b"." if data.startswith(b".") else b""
    return begun + data.replace(b"\n.", b"\n..") + (b"" if data.endswith(b"\r\n") else b"\r\n") + b".\r\n"


MOST_LINES = 100
"""Lines of one answer that are read."""


class _Server(smtplib.SMTP):
    """A connection whose answers are bounded, and which can be cut from outside at any moment, its first included."""

    def __init__(self, line: Line, context: ssl.SSLContext | None, **options: Any) -> None:
        self._line = line
        self._tls = context
        super().__init__(**options)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        plain = socket.create_connection((host, port), timeout)
        plain.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._line.hold(plain)
        return self._tls.wrap_socket(plain, server_hostname=host) if self._tls else plain

    def getreply(self) -> tuple[int, bytes]:
        """The next answer (RFC 5321, section 4.2). Raises SMTPServerDisconnected where it has no end."""
        if self.file is None:
            assert self.sock is not None
            self.file = self.sock.makefile("rb")
        text = []
        for _ in range(MOST_LINES):
            line = self.file.readline(smtplib._MAXLINE + 1)  # type: ignore[attr-defined]
            if not line:
                self.close()
                raise smtplib.SMTPServerDisconnected("Connection unexpectedly closed")
            if len(line) > smtplib._MAXLINE:  # type: ignore[attr-defined]
                break
            text.append(line[4:].strip(b" \t\r\n"))
            if line[3:4] != b"-":
                code = int(line[:3]) if line[:3].isdigit() else -1
                return code, b"\n".join(text)
        self.close()
        raise smtplib.SMTPServerDisconnected("Its answer has no end")


class SmtpTransport:
    """One connection to one server. Not for use by several threads."""

    def __init__(self, gateway: Gateway, password: str = "") -> None:
        self._gateway = gateway
        self._password = password
        self._server: _Server | None = None
        self._line = Line()
        self._reset = False
        """Whether the server holds the beginning of a message that it refused."""

    def deliver(self, mail: Mail, key: str) -> Outcome:
        """One message to one recipient.

        4xx answers and whatever happens before the message was handed over are temporary, 5xx answers permanent
        (RFC 5321, section 4.2.1). A connection lost between the message's last line and the answer is unknown.
        """
        refuse_inside("handing a mail over")
        kept = self._server is not None
        with Deadline(self._line, whole_try(self._gateway.timeout_seconds)) as deadline:
            outcome = self._try(mail)
            if outcome is None and kept and not deadline.over:
                outcome = self._try(mail)
        outcome = outcome or Outcome("temporary", "", f"{self._where()} closed the connection.", unreachable=True)
        if deadline.over and outcome.kind != "accepted":
            self._gone(None)
            return replace(
                outcome,
                answer=f"{self._where()} took longer than {whole_try(self._gateway.timeout_seconds):g} s in all.",
            )
        return outcome

    def _where(self) -> str:
        return f"{self._gateway.host}:{self._gateway.port}"

    def _try(self, mail: Mail) -> Outcome | None:
        """None where a kept connection turned out to be closed before anything was said: worth one more try at once."""
        fresh = self._server is None
        try:
            server = self._server or self._connect()
        except smtplib.SMTPAuthenticationError as error:
            return self._gone(
                replace(
                    _refusal(error.smtp_code, error.smtp_error, "did not accept the user name and password"),
                    kind="temporary",  # any other mail would meet it as well, and a password can be mended
                    unreachable=True,
                )
            )
        except (smtplib.SMTPNotSupportedError, ssl.SSLError) as error:
            return self._gone(Outcome("temporary", "", f"{self._where()}: no TLS as set: {error}", unreachable=True))
        except smtplib.SMTPResponseException as error:
            return self._gone(Outcome("temporary", str(error.smtp_code), _text(error.smtp_error), unreachable=True))
        except (
            OSError,
            smtplib.SMTPException,
            ValueError,
            AttributeError,
        ) as error:  # the latter two where it was cut in the middle
            return self._gone(
                Outcome("temporary", "", f"{self._where()} can't be reached: {_why(error)}", unreachable=True)
            )
        handed_over = False
        try:
            if self._reset:
                server.send(b"RSET\r\n")
                server.getreply()
                self._reset = False
            refused = self._envelope(server, mail)
            if refused is not None:
                return refused
            handed_over = True
            server.send(_transparent(mail.data))
            code, answer = server.getreply()
            if code == 250:
                return Outcome("accepted", str(code), _text(answer))
            if 400 <= code < 600:
                return self._refused(code, answer)
            self._gone(None)  # no answer that RFC 5321, section 4.2.1 knows: nobody can say whether it was taken
            return Outcome(
                "unknown",
                str(code),
                f"{self._where()} had the message and answered “{code} {_text(answer)[:80]}”, which is unknown here.",
                unreachable=True,
            )
        except (OSError, smtplib.SMTPException, ValueError, AttributeError) as error:
            self._gone(None)
            if handed_over:
                return Outcome(
                    "unknown",
                    "",
                    f"{self._where()} had the message and did not answer: {_why(error)}",
                    unreachable=True,
                )
            if isinstance(error, smtplib.SMTPServerDisconnected | ConnectionError) and not fresh:
                return None
            return Outcome("temporary", "", f"{self._where()}: {_why(error)}", unreachable=True)

    def _connect(self) -> _Server:
        g = self._gateway
        context = trusted() if g.tls == "implicit" else None
        self._reset = False
        server = self._server = _Server(
            self._line, context, host=g.host, port=g.port, timeout=g.timeout_seconds, local_hostname=os.uname().nodename
        )
        if (
            "." not in server.local_hostname and server.sock
        ):  # an address literal where this machine has no full name (RFC 5321, section 4.1.4)
            own = server.sock.getsockname()[0]
            server.local_hostname = f"[IPv6:{own}]" if ":" in own else f"[{own}]"
        server.ehlo_or_helo_if_needed()
        if g.tls == "starttls":
            server.starttls(context=trusted())
            server.ehlo()
        if g.username:
            server.login(g.username, self._password)
        return server

    def _envelope(self, server: smtplib.SMTP, mail: Mail) -> Outcome | None:
        """MAIL, RCPT and DATA; the refusal, or None where the server waits for the message.

        Whether those in cc and bcc are taken does not matter: the send is to its recipient.
        """
        commands = (
            f"MAIL FROM:<{mail.from_address}>",
            f"RCPT TO:<{mail.to_address}>",
            *(f"RCPT TO:<{address}>" for address in mail.also),
            "DATA",
        )
        utf8 = not all(address.isascii() for address in (mail.to_address, mail.from_address, *mail.also))
        if utf8:
            if not server.has_extn("smtputf8"):
                return Outcome(
                    "permanent", "", f"{self._where()} takes no addresses outside ASCII (SMTPUTF8, RFC 6531)."
                )
            commands = (commands[0] + " SMTPUTF8", *commands[1:])
        if not server.has_extn("pipelining"):
            for number, command in enumerate(commands):
                server.send((command + "\r\n").encode())
                code, answer = server.getreply()
                last = number == len(commands) - 1
                if code not in ((354,) if last else (250, 251)) and (last or number < 2):
                    return self._refused(code, answer)
            return None
        server.send("".join(command + "\r\n" for command in commands).encode())
        replies: list[tuple[int, bytes]] = []
        try:
            for _ in commands:
                replies.append(server.getreply())
        except (OSError, smtplib.SMTPException):
            said = next(((code, answer) for code, answer in replies[:2] if code >= 400), None)
            if said is None:
                raise
            self._gone(None)  # it refused and hung up: the refusal is what it said
            return self._refused(*said)
        refused = next(((code, answer) for code, answer in replies[:2] if code not in (250, 251)), None)
        if refused is None and replies[-1][0] != 354:
            refused = replies[-1]
        if refused is None:
            return None
        if (
            replies[-1][0] == 354
        ):  # it waits for a message nobody would get: give it an empty one (RFC 2920, section 3.1)
            try:
                server.send(b".\r\n")
                server.getreply()
            except (OSError, smtplib.SMTPException):
                self._gone(None)
        return self._refused(*refused)

    def _refused(self, code: int, answer: bytes) -> Outcome:
        """What a refusal comes to. The server is told to forget the message before the next one, not now: it may have
        hung up.
        """
        if code < 400 or code == 421:
            self._gone(None)
            return Outcome(
                "temporary",
                str(code) if code > 0 else "",
                _text(answer) or f"{self._where()} closed the connection.",
                unreachable=True,
            )
        self._reset = True
        return _refusal(code, answer, "")

    def _gone(self, outcome: Outcome | None) -> Outcome | None:
        server, self._server = self._server, None
        if server is not None:
            server.close()
        self._line.drop()
        return outcome

    def close(self) -> None:
        """Says goodbye, where a connection is open."""
        if self._server is not None:
            try:
                with Deadline(self._line, 2):
                    self._server.quit()
            except (OSError, smtplib.SMTPException, ValueError, AttributeError):
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
        return "its answer has no end" if "no end" in str(error) else "the connection was closed"
    return _text(str(error)) or type(error).__name__
