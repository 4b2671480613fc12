"""Takes mails that are deliveries of a source: stored once, by their Message-ID. Their attachments are files of the
order.
"""

from __future__ import annotations

import orjson
import structlog

from angelon.core.deliveries import STATED, UNNAMED, digest, read_delivery
from angelon.core.fetching import called
from angelon.core.ids import sibling
from angelon.core.mails_in import ReadMail, allowed, read_mail
from angelon.core.messages.attachments import LibraryFile
from angelon.core.payload.body import NotReadable
from angelon.core.specs.keys import key_of
from angelon.core.specs.source import Source
from angelon.db.database import Database
from angelon.db.log import events
from angelon.db.records import NewDelivery, NewEvent
from angelon.db.setup import files
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.setups import Setups

log = structlog.get_logger()


class Refused(ValueError):
    """Why a mail is not taken, as a sentence."""


def shelf_of(source: str) -> str:
    """The folder of the library in which the attachments of a source's mails are kept, each for its order."""
    return f"mail-{source}"[:40].rstrip("-")


class MailsIn:
    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database, self._setups, self._clock = database, setups, clock

    def known(self, address: str) -> tuple[LiveSetup, Source] | None:
        """The source whose mails come at an address; None where none does."""
        wanted = address.strip().strip("<>").lower()
        for store_id in self._setups.ids():
            live = self._setups.get(store_id)
            for source in live.setup.sources.values():
                if source.on and source.mail is not None and source.mail.on and source.mail.address == wanted:
                    return live, source
        return None

    def take(self, address: str, sender: str, data: bytes) -> str:
        """Takes one mail; `sender` is the envelope's, empty where nobody says. Gives its event's id. Raises Refused,
        and where the database fails.
        """
        found = self.known(address)
        if found is None or found[1].mail is None:
            raise Refused("No source takes mails at this address.")
        live, source = found
        assert source.mail is not None
        try:
            if sender and not allowed(source.mail, sender):
                what = f"{sender[:100]} is not among the senders that may send mails here."
                raise Refused(what)
            read = read_mail(source.mail, data)
        except NotReadable as error:
            self._refuse(live, source, data, error.status, error.problem.what)
            raise Refused(error.problem.what) from None
        except Refused as error:
            self._refuse(live, source, data, 403, str(error))
            raise
        return self._stored(live, source, read, data)

    def _stored(self, live: LiveSetup, source: Source, read: ReadMail, data: bytes) -> str:
        now, source_id = self._clock.now(), live.source_ids[source.key]
        body, headers = orjson.dumps(read.payload), {"content-type": "application/json"}
        received = read_delivery(source, headers, body)[0]
        name = STATED if received.name == UNNAMED else received.name
        id_ = self._clock.new_id("dv", now)
        event_id = sibling("ev", id_)
        key = f"d:{read.id or digest(data)}"
        event = NewEvent(event_id, source_id, id_, key, name, source.event_names.get(name, ""), now)
        delivery = NewDelivery(id_, source_id, now, headers["content-type"], headers, body, (event,))
        with self._database.writing(purpose="mail") as session:
            known = events.add(session.connection(), [delivery])
            if known[event_id] == event_id:
                self._keep_files(session, live, source, read)
        if read.problems:
            log.warning("a mail was not taken whole", source=source.key, problems=read.problems)
        return known[event_id]

    def _keep_files(self, session: object, live: LiveSetup, source: Source, read: ReadMail) -> None:
        """The attachments as files of the order that the mail is about."""
        order = called(source, read.payload)
        for file in read.files if order else ():
            kept = LibraryFile(
                0, key_of(shelf_of(source.key)), file.name, file.type, len(file.data), "reference", order
            )
            files.put(session, live.store_id, kept, file.data, self._clock.now())  # type: ignore[arg-type]

    def _refuse(self, live: LiveSetup, source: Source, data: bytes, status: int, reason: str) -> None:
        refused = {
            "source_id": live.source_ids[source.key],
            "at": self._clock.now(),
            "status": status,
            "reason": reason,
            "hint": "Allow the sender on the page Mail of the source, where it should.",
            "headers": {},
            "body_start": data[:2000].decode(errors="replace").replace("\x00", "\ufffd"),
            "body_bytes": len(data),
            "body": None,
            "signing": None,
        }
        with self._database.connection(purpose="mail") as connection:
            events.refuse(connection, [refused])
