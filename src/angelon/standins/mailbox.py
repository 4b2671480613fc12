"""The mailbox: an SMTP server that takes everybody's mail, with faults on demand."""

from __future__ import annotations

import asyncio
import datetime as dt
import time
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from angelon.standins.box import Box

FAULTS = {
    "none": "takes every mail",
    "later": "refuses for now (451)",
    "never": "refuses for good (550)",
    "hang": "takes the mail and never answers",
    "drop": "drops the connection",
}
"""How the mailbox may misbehave."""


class _Taker:
    """What happens at each command. The fault is looked up at most four times a second."""

    def __init__(self, box: Box) -> None:
        self._box = box
        self._fault = "none"
        self._looked = 0.0

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
        for recipient in envelope.rcpt_tos:
            self._box.keep_mail(envelope.mail_from or "", recipient, content, dt.datetime.now(dt.UTC))
        return "250 2.0.0 Taken"


class Mailbox(Controller):
    """The server, on its own thread. `port` 0 has a free one chosen."""

    def __init__(self, box: Box, host: str = "127.0.0.1", port: int = 0) -> None:
        super().__init__(_Taker(box), hostname=host, port=port, enable_SMTPUTF8=True, data_size_limit=40_000_000)

    def _trigger_server(self) -> None:
        """Learns the port that was chosen before the controller tries it out."""
        if self.port == 0 and self.server is not None:
            self.port = self.server.sockets[0].getsockname()[1]  # type: ignore[attr-defined]
        super()._trigger_server()  # type: ignore[no-untyped-call]
