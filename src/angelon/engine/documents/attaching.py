"""The document that goes with a mail: there already, or made as the mail goes out."""

from __future__ import annotations

from functools import partial
from typing import Any

from angelon.core.documents.document import Kind
from angelon.core.documents.rules import HeldBack
from angelon.core.messages.attachments import AttachmentRequest, File
from angelon.core.problems import Invalid
from angelon.core.sending.due import DueSend
from angelon.core.sending.prepare import Held, Later
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.log import documents, events, orders
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.documents.drawing import title_of
from angelon.engine.documents.files import file_name_of, pdf_of, unnumbered
from angelon.engine.documents.press import CantDraw
from angelon.engine.installation import Installation
from angelon.engine.notifications import Silent
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.engine.setups import Setups
from angelon.engine.unit import Actor, unit

BY = Actor("a message")


class Attaching:
    """Finds, makes and draws the documents that mails take along."""

    def __init__(self, database: Database, setups: Setups, vault: Vault | None, clock: Clock) -> None:
        self._database, self._setups, self._vault, self._clock = database, setups, vault, clock

    def attached(
        self, live: LiveSetup, send: DueSend, wanted: AttachmentRequest, left_out: list[str]
    ) -> list[File] | Held | Later:
        """The document as a file; why the mail is held, or waits. What is not needed and can't be had is left out."""
        try:
            return [self._file(live, send, wanted.of)]
        except HeldBack as error:
            why = f"{error.what} {error.hint}".strip()
        except Invalid as error:
            why = error.problems[0].said
        except CantDraw as error:
            if wanted.required:
                return Later(str(error))
            why = str(error)
        if wanted.required:
            return Held(why)
        left_out.append(why)
        return []

    def _file(self, live: LiveSetup, send: DueSend, of: str) -> File:
        if send.test and send.order_id is None:
            raise HeldBack("A test without an order has no document.", "Test it with an order.")
        if of != "invoice":
            return self._drawn(live, send, "delivery" if of == "delivery" else "proforma")
        row = self._there(live, send)
        if row is None and (send.test or live.trial):  # neither makes one: the same, without a number
            return self._drawn(live, send, "invoice")
        row = row or self._made(live, send)
        return File(file_name_of(row), "application/pdf", pdf_of(self._database, row.id))

    def _drawn(self, live: LiveSetup, send: DueSend, kind: Kind) -> File:
        with self._database.reading() as session:
            order = self._order(session, live, send)
            document = operations.preview(session, live, order, Request(), self._clock.now(), kind)
            look = operations.look_of(session, live)
        name = f"{title_of(document)} {document.order}".replace("/", "-")
        return File(f"{name}.pdf", "application/pdf", unnumbered(document, look))

    def _there(self, live: LiveSetup, send: DueSend) -> Any:
        """The invoice that the event is about, else the one that counts; None where there is none yet."""
        with self._database.reading() as session:
            connection = session.connection()
            event = events.by_ids(connection, [send.event_id]).get(send.event_id) if send.event_id else None
            if event is not None and event.type == operations.MADE and event.was.startswith("dc-"):
                row = documents.get(connection, live.store_id, int(event.was[3:]))
                if row is not None:
                    return row
            return documents.current(connection, send.order_id) if send.order_id is not None else None

    def _made(self, live: LiveSetup, send: DueSend) -> Any:
        with self._database.reading() as session:
            order = self._order(session, live, send)
            facts = operations.facts_of(session, live, order)
        asked = operations.confirmed(live, facts, Request(), self._clock.now())
        begin = partial(unit, self._installation(), live.store_id, BY)
        made = operations.issue_or_hold(begin, order, asked, by=BY.name, tells=False)
        with self._database.reading() as session:
            return documents.get(session.connection(), live.store_id, made.id)

    def _order(self, session: Any, live: LiveSetup, send: DueSend) -> Any:
        order = orders.get(session, live.store_id, send.order_id or 0)
        if order is None:
            raise HeldBack("The order is not there any more.", "Send it without the document.")
        return order

    def _installation(self) -> Installation:
        assert self._vault is not None
        return Installation(self._database, self._setups, self._vault, self._clock, Silent())
