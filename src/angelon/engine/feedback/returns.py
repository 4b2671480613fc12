"""Takes what comes back to mails: over SMTP on a port of our own, or out of a maildir."""

from __future__ import annotations

import asyncio
import os
from concurrent.futures import ThreadPoolExecutor
from email.utils import parseaddr
from functools import partial
from pathlib import Path
from typing import Any

import structlog
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from sqlmodel import Session as Reading

from angelon.core.mails_in import MOST_BYTES as MOST_MAIL
from angelon.core.messages.channels import address_key
from angelon.core.planning.follow_up import has_follow_up
from angelon.core.sending.codes import is_nobody
from angelon.core.sending.returned import MOST_BYTES, Returned, read_returned, send_of
from angelon.core.states import State
from angelon.db.access.secrets import Vault
from angelon.db.database import Database, is_database_failure
from angelon.db.log import sends
from angelon.db.tables import SendRow
from angelon.engine.arrivals.mails_in import MailsIn, Refused
from angelon.engine.clock import Clock
from angelon.engine.feedback.suppressing import suppress
from angelon.engine.setups import Setups

log = structlog.get_logger()


class Returns:
    """What comes back, taken to the send that it is about."""

    def __init__(self, database: Database, setups: Setups, vault: Vault, clock: Clock) -> None:
        self._database, self._setups, self._vault, self._clock = database, setups, vault, clock

    def known(self, address: str) -> str:
        """The send that a return path is of; empty for one that we have not made."""
        found = send_of(address)
        return found[0] if found is not None and self._vault.proves(found[0], found[1], always=True) else ""

    def take(self, send_id: str, data: bytes) -> str:
        """Takes a mail that came back to a send's return path; says what came of it. Raises where the database
        fails.
        """
        told = read_returned(data)
        if told.kind == "other":
            return "no report"
        with self._database.writing() as session:
            row = session.get(SendRow, send_id)
            if row is None:
                return "no such send"
            return self._noted(session, row, told)

    def _noted(self, session: Reading, row: SendRow, told: Returned) -> str:
        live, now = self._setups.get(row.store_id), self._clock.now()
        key = address_key("email", row.recipient)
        if told.kind == "complaint":
            suppress(session, live, key, "complaint", told.reason, now)
            return "complaint"
        if told.kind == "delayed":
            return "delayed: nothing to do yet"
        said = told.reason if told.status in told.reason else f"{told.status} {told.reason}".strip()
        reason = f"Came back: {said}".removesuffix(": ")
        route = live.routes.get(live.route_key(row.route_id))
        follow = now if has_follow_up(route, live.setup.routes) else None
        moved = sends.received(session, row.id, State.FAILED, reason, follow)
        if is_nobody(told.status):
            suppress(session, live, key, "bounce", f"its mail came back: {said}", now)
        return "failed" if moved else f"is {row.state} already"


class ReturnsListener(Controller):
    """An SMTP server (RFC 5321) that takes mail to return paths of ours alone. `port` 0 has a free one chosen."""

    def __init__(self, returns: Returns, host: str, port: int, mails: MailsIn | None = None) -> None:
        """`mails` takes what comes for sources."""
        limit = MOST_BYTES if mails is None else MOST_MAIL
        super().__init__(_Taker(returns, mails), hostname=host, port=port, data_size_limit=limit)

    def _trigger_server(self) -> None:
        if self.port == 0 and self.server is not None:
            self.port = self.server.sockets[0].getsockname()[1]  # type: ignore[attr-defined]
        super()._trigger_server()  # type: ignore[no-untyped-call]


class _Taker:
    def __init__(self, returns: Returns, mails: MailsIn | None = None) -> None:
        self._returns, self._mails = returns, mails
        self._taking = ThreadPoolExecutor(2, "returns")

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[Any]
    ) -> str:
        mine = self._mails is not None and self._mails.known(address) is not None
        if not mine and not self._returns.known(address):
            return "550 5.1.1 No return path of ours"
        if len(envelope.rcpt_tos) >= 10:
            return "452 4.5.3 Too many recipients"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        refused = ""
        for address in envelope.rcpt_tos:
            data = envelope.original_content or b""
            send_id = self._returns.known(address)
            taken = partial(self._returns.take, send_id, data)
            if not send_id and self._mails is not None:
                taken = partial(self._mails.take, address, envelope.mail_from or "", data)
            try:  # in a thread: others go on talking to us meanwhile
                came = await asyncio.get_running_loop().run_in_executor(self._taking, taken)
            except Refused as error:  # the other recipients get it all the same
                refused = str(error).encode("ascii", "replace").decode()[:200]
                continue
            except Exception as error:
                if not is_database_failure(error):
                    log.exception("a mail that came back could not be taken")
                return "451 4.3.0 Not stored; try it again"
            log.info("a mail came back", what=came)
        return f"550 5.7.1 {refused}" if refused and len(envelope.rcpt_tos) == 1 else "250 2.0.0 Taken"


def from_maildir(returns: Returns, folder: Path, mails: MailsIn | None = None) -> int:
    """Takes what lies in a maildir's `new`, and moves it to `cur`; says how many. What can't be read is left out, what
    can't be taken is moved all the same; raises, and leaves the rest, where the database fails.
    """
    taken = 0
    for file in sorted((folder / "new").glob("*"))[:500]:
        try:
            with file.open("rb") as mail:
                data = mail.read(MOST_MAIL)
        except OSError as error:
            log.warning("a mail that came back can't be read", file=file.name, why=str(error))
            continue
        try:
            taken += _taken(returns, mails, data)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a mail that came back could not be taken", file=file.name)
        (folder / "cur").mkdir(exist_ok=True)
        os.replace(file, folder / "cur" / f"{file.name}:2,S")
    return taken


def _taken(returns: Returns, mails: MailsIn | None, data: bytes) -> bool:
    """Whether a mail came to one of our return paths, or to a source; it is taken then."""
    for line in _delivered(data):
        address = parseaddr(line.partition(b":")[2].decode(errors="replace"))[1]
        if mails is not None and mails.known(address) is not None:
            try:
                mails.take(address, "", data)
            except Refused as error:
                log.info("a mail was refused", why=str(error))
            return True
        send_id = returns.known(address)
        if send_id:
            returns.take(send_id, data)
            return True
    return False


def _delivered(data: bytes) -> list[bytes]:
    """The headers that name to whom a mail was delivered."""
    names = (b"delivered-to:", b"x-original-to:", b"envelope-to:", b"to:")
    head = data.partition(b"\r\n\r\n")[0] if b"\r\n\r\n" in data else data.partition(b"\n\n")[0]
    return [line for line in head.splitlines() if line.lower().startswith(names)]
