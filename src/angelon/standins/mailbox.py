"""The mailbox: an SMTP server that takes everybody's mail, with faults on demand."""

from __future__ import annotations

import asyncio
import contextlib
import datetime as dt
import smtplib
import threading
import time
from email.message import Message
from email.mime.multipart import MIMEMultipart
from email.mime.text import MIMEText
from email.policy import SMTP as SMTP_LINES
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from angelon.standins.box import Box

FAULTS = {
    "none": "takes every mail",
    "later": "refuses for now (451)",
    "never": "refuses for good (550)",
    "greylist": "refuses whom it has not seen before, and takes the next try (451)",
    "bounce": "takes the mail and sends it back as undeliverable",
    "hang": "takes the mail and never answers",
    "drop": "drops the connection",
}
"""How the mailbox may misbehave."""
BACK_AFTER = 0.5
"""Seconds until a mail is sent back."""


class _Taker:
    """What happens at each command. The fault is looked up at most four times a second."""

    def __init__(self, box: Box, back: tuple[str, int] | None) -> None:
        self._box, self._back = box, back
        self._fault = "none"
        self._looked = 0.0
        self._seen: set[tuple[str, str]] = set()

    def fault(self) -> str:
        if time.monotonic() - self._looked > 0.25:
            self._fault = self._box.setting("mail_fault", "none")
            self._looked = time.monotonic()
        return self._fault

    async def handle_EHLO(
        self, server: SMTP, session: Session, envelope: Envelope, hostname: str, responses: list[str]
    ) -> list[str]:
        session.host_name = hostname
        responses.insert(1, "250-PIPELINING")
        return responses

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[Any]
    ) -> str:
        fault = self.fault()
        if fault == "later":
            return "451 4.3.0 The mailbox is busy, come back later"
        if fault == "never":
            return "550 5.1.1 Nobody of that name lives here"
        pair = (envelope.mail_from or "").partition("+")[0], address
        if fault == "greylist" and pair not in self._seen:
            self._seen.add(pair)
            return "451 4.7.1 Greylisted, come back in a moment"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        fault = self.fault()
        if fault == "hang":
            await asyncio.sleep(600)
        if fault == "drop":
            if server.transport:
                server.transport.abort()  # type: ignore[attr-defined] # of a socket, which it is
            return "421 4.3.0 Gone"
        content = envelope.original_content or b""
        if fault == "bounce":
            for recipient in envelope.rcpt_tos:
                self._send_back(envelope.mail_from or "", recipient, content)
            return "250 2.0.0 Taken"
        for recipient in envelope.rcpt_tos:
            self._box.keep_mail(envelope.mail_from or "", recipient, content, dt.datetime.now(dt.UTC))
        return "250 2.0.0 Taken"

    def _send_back(self, to: str, recipient: str, content: bytes) -> None:
        """Reports a moment later that nobody was there, to where the mail came from; a mail without a return path of
        its own is lost, as it would be elsewhere.
        """
        if self._back is None or not to:
            return
        host, port = self._back

        def sent_back() -> None:
            time.sleep(BACK_AFTER)
            with contextlib.suppress(OSError, smtplib.SMTPException), smtplib.SMTP(host, port, timeout=10) as server:
                server.sendmail("", [to], report(to, recipient, content))

        threading.Thread(target=sent_back, name="bounce", daemon=True).start()


def report(to: str, recipient: str, content: bytes) -> bytes:
    """A report of non-delivery (RFC 3464), with the headers of the mail that it is about."""
    made = MIMEMultipart("report", report_type="delivery-status")
    made["From"] = "Mail Delivery System <MAILER-DAEMON@mailbox.example>"
    made["To"] = to
    made["Subject"] = "Undelivered mail returned to its sender"
    made.attach(MIMEText("The mail could not be delivered: nobody of that name lives here.\n"))
    status, of_recipient = Message(), Message()
    status["Reporting-MTA"] = "dns; mailbox.example"
    of_recipient["Final-Recipient"] = f"rfc822; {recipient}"
    of_recipient["Action"] = "failed"
    of_recipient["Status"] = "5.1.1"
    of_recipient["Diagnostic-Code"] = "smtp; 550 5.1.1 Nobody of that name lives here"
    told = Message()
    told["Content-Type"] = "message/delivery-status"
    told.set_payload([status, of_recipient])
    made.attach(told)
    headers = Message()
    headers["Content-Type"] = "text/rfc822-headers"
    headers.set_payload(content.partition(b"\r\n\r\n")[0].decode(errors="replace"))
    made.attach(headers)
    return made.as_bytes(policy=SMTP_LINES)


class Mailbox(Controller):
    """The server, on its own thread. `port` 0 has a free one chosen."""

    def __init__(self, box: Box, host: str = "127.0.0.1", port: int = 0, back: tuple[str, int] | None = None) -> None:
        """`back` is where a mail's return path leads to."""
        super().__init__(_Taker(box, back), hostname=host, port=port, enable_SMTPUTF8=True, data_size_limit=40_000_000)

    def _trigger_server(self) -> None:
        """Learns the port that was chosen before the controller tries it out."""
        if self.port == 0 and self.server is not None:
            self.port = self.server.sockets[0].getsockname()[1]  # type: ignore[attr-defined]
        super()._trigger_server()  # type: ignore[no-untyped-call]
