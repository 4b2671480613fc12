"""Makes claimed sends ready: gathers what is known around a batch, has the rules decide, fetches the bytes of files."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import structlog
from sqlalchemy import Connection

from angelon.core.messages import dkim
from angelon.core.messages.attachments import AttachmentRequest, File, calendar_entry
from angelon.core.messages.blocks import content_id
from angelon.core.messages.channels import CHANNELS
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.leaving import WHY
from angelon.core.problems import Invalid
from angelon.core.sending.due import DueSend, SendContext
from angelon.core.sending.mail import build_mail
from angelon.core.sending.outgoing import Mail, ProviderMessage, subject_of
from angelon.core.sending.prepare import Held, Later, Ready, Skipped, prepare
from angelon.core.specs.message import Download
from angelon.core.values import pack
from angelon.db.database import Database, is_database_failure
from angelon.db.log import downloads
from angelon.db.records import NewContent
from angelon.db.rows import SendRecord
from angelon.db.setup import files as library
from angelon.db.setup import shop_tables as tables
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.event_reader import Payloads
from angelon.engine.clock import Clock
from angelon.engine.documents.attaching import Attaching
from angelon.engine.feedback.preferences import Links, Reader
from angelon.engine.sending.gathering import gather
from angelon.engine.sending.order_files import document, fetched, places, secret_of
from angelon.engine.sending.signing_keys import SigningKey, active
from angelon.engine.setups import Setups
from angelon.gateways.fetching import CantFetch

log = structlog.get_logger()

FRESH = dt.timedelta(seconds=5)
"""How long it counts what was gathered. A slow gateway makes the last of a batch wait for longer than that."""


@dataclass(frozen=True, slots=True)
class PreparedSend:
    """What a gateway is handed, and what is kept of it whatever the gateway says."""

    ready: Ready
    outgoing: Mail | ProviderMessage
    content: NewContent
    values: dict[str, Any] | None
    """The values as they are stored, where they were worked out anew."""
    files: dict[str, bytes]
    """The files that go with it, by their content's digest."""


_FROM = re.compile(rb"(?m)^From:[^\r\n]*@([A-Za-z0-9.-]+)>?\r?$")


class Preparer:
    """One thread's worth of making sends ready; it keeps parsed payloads and the bytes of the library's files."""

    def __init__(
        self, database: Database, setups: Setups, links: Links | None = None, clock: Clock | None = None
    ) -> None:
        self._links = links
        self._vault = links.vault if links is not None else None
        self._keys: dict[tuple[int, int, str], SigningKey] = {}
        self._database = database
        self._setups = setups
        self._payloads = Payloads()
        self._bytes: dict[int, bytes] = {}
        self._papers = Attaching(database, setups, self._vault, clock or Clock())
        self._version = (0, -1)
        self._around: dict[str, SendContext | Held] = {}
        self._gathered_at = dt.datetime.min.replace(tzinfo=dt.UTC)

    def gather(self, rows: Sequence[SendRecord], now: dt.datetime) -> None:
        """Reads what is known around a batch, store by store; it holds for a few seconds."""
        self._around, self._gathered_at = {}, now
        by_store: dict[int, list[SendRecord]] = {}
        for row in rows:
            by_store.setdefault(row.store_id, []).append(row)
        with self._database.reading() as session:
            for store_id, among in by_store.items():
                live = self._setups.get(store_id)
                try:
                    around = gather(session.connection(), live, among, self._payloads)
                    self._around |= {row.id: around for row in among}
                except Exception as error:
                    if is_database_failure(error):
                        raise
                    log.exception("a batch could not be gathered; gathering its sends one by one", sends=len(among))
                    self._around |= {row.id: self._alone(session.connection(), live, row) for row in among}
        self._payloads.trim()

    def _alone(self, connection: Connection, live: LiveSetup, row: SendRecord) -> SendContext | Held:
        try:
            return gather(connection, live, [row], self._payloads)
        except Invalid as error:
            return Held(f"The message can't be read as it was kept: {error.problems[0]}")
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a send could not be prepared", send=row.id)
            return Held(f"The message could not be made: {type(error).__name__}. The log says more.")

    def prepare(self, row: SendRecord, live: LiveSetup, now: dt.datetime) -> PreparedSend | Held | Skipped | Later:
        """What a gateway is handed for a send; or why it is handed nothing. Raises where the database can't be read."""
        if row.id not in self._around or now - self._gathered_at > FRESH:
            self.gather([row], now)
        around = self._around[row.id]
        if isinstance(around, Held):
            return around
        send = around.sends[row.id]
        if self._links is not None:
            message = send.draft if send.draft is not None else live.setup.messages.get(send.message)
            offers = message is not None and message.download is not None
            send = replace(
                send,
                question_values=self._links.question(live, row.question_id),
                follow=self._links.follow(live, row.order_id),
                download=self._links.download(live, send.id) if offers else "",
            )
        ready = prepare(send, around, now)
        if isinstance(ready, Ready) and ready.gives and not ready.kept and not send.test:
            given = self._given(live, row, ready.gives, now)  # only now: what is not sent takes none
            if isinstance(given, Held):
                return given
            ready = prepare(replace(send, given=given), around, now)
        if not isinstance(ready, Ready):
            return ready
        values = {name: pack(value) for name, value in ready.values.items()} if ready.values is not None else None
        if isinstance(ready.rendered, RenderedEmail):
            mail = self._for_reader(ready, ready.rendered, send, live)
            if isinstance(mail, Held):
                return mail
            ready = ready if mail is ready.rendered else replace(ready, rendered=mail)
            return self._mail(ready, mail, send, live, now, values)
        subject, text = subject_of(ready.rendered), ready.rendered.text
        content = NewContent.of(send.id, "", text if text != subject else "", ready.rendered.about(), "", now)
        return PreparedSend(
            ready,
            ProviderMessage.of(ready.rendered, ready.recipient, ready.gateway, ready.locale, ready.template),
            content,
            values,
            {},
        )

    def _for_reader(self, ready: Ready, mail: RenderedEmail, send: DueSend, live: LiveSetup) -> RenderedEmail | Held:
        """A mail with its reader's own links: to why it came, and of an optional one to their preferences."""
        if WHY in mail.html or WHY in mail.text:
            why = self._links.why(live, send.id) if self._links is not None else ""
            if not why:
                return Held("Each mail links to why it came, and the shop has no public address. Set it in Settings.")
            mail = mail.with_why(why)
        message = send.draft if send.draft is not None else live.setup.messages.get(send.message)
        if message is None or message.purpose != "optional":
            return mail
        key = CHANNELS["email"].address_key(ready.recipient)
        reader = Reader(live.store_id, key, message.key, ready.locale)
        link = self._links.address(live, reader) if self._links is not None else ""
        if not link:
            return Held("An optional mail has a link to leave, and the shop has no public address. Set it in Settings.")
        return mail.for_reader(link)

    def _mail(
        self,
        ready: Ready,
        rendered: RenderedEmail,
        send: DueSend,
        live: LiveSetup,
        now: dt.datetime,
        values: dict[str, Any] | None,
    ) -> PreparedSend | Held | Later:
        left_out: list[str] = []
        message = send.draft if send.draft is not None else live.setup.messages.get(send.message)
        if message is not None and message.download is not None and not send.test:
            ready = self._offered(ready, send, live, message.download, now)
        files = self._files(ready, send, live, left_out)
        if not isinstance(files, list):
            return files
        pattern = ready.gateway.return_path
        back_to = self._links.return_path(pattern, send.id) if self._links is not None and pattern else ""
        built = build_mail(ready, send, live.setup.store, files, left_out, now, back_to)
        if isinstance(built, Held):
            return built
        if ready.gateway.dkim:
            signed = self._signed(built.mail, live, now)
            if isinstance(signed, Held):
                return signed
            built = replace(built, mail=signed)
        content = NewContent.of(send.id, rendered.html, rendered.text, built.about, rendered.pattern, now)
        return PreparedSend(ready, built.mail, content, values, built.files)

    def _signed(self, mail: Mail, live: LiveSetup, now: dt.datetime) -> Mail | Held:
        """A mail with its DKIM signature, by the key of its From domain."""
        found = _FROM.search(mail.data)
        domain = found[1].decode("ascii", "replace").lower() if found else ""
        known = (live.store_id, live.version, domain)
        if known not in self._keys:
            with self._database.reading() as session:
                key = active(self._vault, session, live.store_id, domain, now) if self._vault is not None else None
            if key is None:
                return Held(
                    f"The gateway signs (DKIM), and there is no key for {domain}. Make one on the sender’s page."
                )
            self._keys = {known: key}
        key = self._keys[known]
        return replace(mail, data=dkim.signed(mail.data, key.domain, key.selector, key.pem, now))

    def _offered(self, ready: Ready, send: DueSend, live: LiveSetup, spec: Download, now: dt.datetime) -> Ready:
        """A mail without the files that are downloaded; what they are is kept, and how often and how long they may
        be had. A retry changes nothing of that.
        """
        offered: list[dict[str, Any]] = []
        for wanted, library_files in ready.attachments:
            if wanted.kind == "library":
                offered += [{"kind": "library", "id": one.id, "name": one.name} for one in library_files]
            elif wanted.kind == "url":
                whole = [wanted.url] if document(wanted.url, "") is not None else wanted.url.split()
                names = [wanted.name, *[""] * len(whole)]
                same = {"kind": "url", "through": wanted.through}
                offered += [same | {"url": url, "name": name} for url, name in zip(whole, names, strict=False)]
        with self._database.connection(purpose="downloads") as connection:
            until = now + dt.timedelta(days=spec.days)
            downloads.offer(connection, send.id, live.store_id, offered, spec.times, until)
        kept = tuple(one for one in ready.attachments if one[0].kind in ("calendar", "document"))
        return replace(ready, attachments=kept)

    def _files(self, ready: Ready, send: DueSend, live: LiveSetup, left_out: list[str]) -> list[File] | Held | Later:
        """The files of a mail with their bytes; what can't be had and need not be is noted in `left_out`."""
        chosen = {file.id for _, library_files in ready.attachments for file in library_files}
        data = self._data(live, chosen | {file.id for file in ready.pictures})
        files = []
        for picture in ready.pictures:
            if picture.id not in data:
                return Held("A file of the library was removed meanwhile.")
            path = f"{picture.shelf}/{picture.name}"
            files.append(File(picture.name, picture.type, data[picture.id], content_id(path)))
        for wanted, library_files in ready.attachments:
            if any(file.id not in data for file in library_files):
                return Held("A file of the library was removed meanwhile.")
            made = (
                [File(file.name, file.type, data[file.id]) for file in library_files]
                if wanted.kind == "library"
                else _calendar(wanted, send, live)
                if wanted.kind == "calendar"
                else self._papers.attached(live, send, wanted, left_out)
                if wanted.kind == "document"
                else self._fetched(wanted, live, left_out)
            )
            if not isinstance(made, list):
                return made
            files += made
        return files

    def _fetched(self, wanted: AttachmentRequest, live: LiveSetup, left_out: list[str]) -> list[File] | Held | Later:
        """The files at the addresses of an attachment, or the document that is written there itself."""
        written = document(wanted.url, wanted.name)
        if written is not None:
            return [written]
        files: list[File] = []
        try:
            for place in places(live, wanted.url, wanted.through, self._secret(live, wanted.through)):
                try:
                    files.append(fetched(live, place, "" if files else wanted.name))
                except CantFetch as error:
                    told = f"The file at {place.address} can't be had: {error}"
                    if wanted.required:
                        return (Held if error.for_good else Later)(told)
                    left_out.append(told)
        except CantFetch as error:
            return Held(str(error))
        return files if files or not wanted.required else Held("The attachment’s address is empty.")

    def _secret(self, live: LiveSetup, through: str) -> str:
        with self._database.reading() as session:
            return secret_of(self._vault, session, live, through, dt.datetime.now(dt.UTC))

    def _given(self, live: LiveSetup, row: SendRecord, table: str, now: dt.datetime) -> dict[str, Any] | Held:
        """The row of a table that a send gives out: the one that it has already, else a free one."""
        with self._database.connection(purpose="given out") as connection:
            given = tables.give(connection, live.store_id, table, row.id, now)
        if given is None:
            return Held(f"No row is left in the table “{table}”. Add some, and send it again.")
        return given

    def _data(self, live: LiveSetup, ids: set[int]) -> dict[int, bytes]:
        """The bytes of library files, read in one query where they are not at hand."""
        if self._version != (live.store_id, live.version):
            self._version, self._bytes = (live.store_id, live.version), {}
        missing = ids - self._bytes.keys()
        if missing:
            with self._database.reading() as session:
                self._bytes |= library.data(session, live.store_id, missing)
        return {id_: self._bytes[id_] for id_ in ids if id_ in self._bytes}


def _calendar(wanted: AttachmentRequest, send: DueSend, live: LiveSetup) -> list[File]:
    assert wanted.on is not None
    store = live.setup.store
    uid = f"{send.id}-{wanted.number}@{store.key}"
    data = calendar_entry(uid, wanted.on, wanted.title or store.name, wanted.place, send.created_at)
    return [File("delivery.ics", "text/calendar", data)]
