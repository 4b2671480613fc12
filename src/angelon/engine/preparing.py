"""Makes a claimed send ready for its gateway: guards again, fills the text, gathers the files."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from email_validator import EmailNotValidError
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.addresses import check_email
from angelon.core.event_types import OURS
from angelon.core.messages.attachments import File, Wanted, calendar_entry, chosen, file_name, over, sniff
from angelon.core.messages.blocks import content_id, pictures_in
from angelon.core.messages.chat import CompiledChat, RenderedChat
from angelon.core.messages.email import RenderedEmail, one_line
from angelon.core.messages.mime import Envelope, build
from angelon.core.messages.parts import Rendered, compiled_part
from angelon.core.messages.sms import RenderedSms
from angelon.core.messages.templates import CantRender
from angelon.core.planning.given import Event, address_mark
from angelon.core.planning.guards import WHEN_DUE, Looked
from angelon.core.planning.occasion import Occasion
from angelon.core.planning.people import customer
from angelon.core.planning.plan import over_cap, reached, values_for
from angelon.core.planning.sentence import CALLED
from angelon.core.planning.subjects import only_again, worked_condition
from angelon.core.problems import Invalid
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.condition import compares
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.values import Value, pack, show, unpack
from angelon.db import facts as queries
from angelon.db import files as library
from angelon.db import suppressions
from angelon.db.database import Database
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow
from angelon.engine.event_reader import read_event
from angelon.gateways.fetching import CantFetch, fetch
from angelon.gateways.interface import Mail, Note

FRESH = dt.timedelta(seconds=5)
"""How long it counts that an address was not suppressed. A slow gateway makes the last of a batch wait for longer than
that.
"""


class Held(Exception):
    """A person must act before this can go out."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


class NoMore(Exception):
    """What the send was made for no longer holds: a guard says no now that it is due."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


class NotNow(Held):
    """Something outside is not to be had at the moment: tried again as a failed try is."""


def _refuse(address: str, why: str | None) -> None:
    """Raises NoMore where there is a reason not to write to an address."""
    if why is not None:
        raise NoMore(f"{address} must not be written to: {why}")


@dataclass(frozen=True)
class Ready:
    """A send as its gateway takes it; what is to be stored of it, whatever the gateway says."""

    gateway: Gateway
    mail: Mail | Note
    settled: dict[str, Any]
    content: dict[str, Any]


class Preparing:
    """One thread's worth of making sends ready; it keeps the bytes of the library's files at hand."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._bytes: dict[int, bytes] = {}
        self._version = (0, -1)
        self._suppressed: dict[str, str | None] = {}
        self._asked_at = dt.datetime.min.replace(tzinfo=dt.UTC)

    def begin(self, connection: Connection, rows: Sequence[Any], now: dt.datetime) -> None:
        """Asks once for all sends of a batch whether they may not be written to; what is asked here holds for a few
        seconds.
        """
        self._suppressed, self._asked_at = {}, now
        stores: dict[int, list[Any]] = {}
        for row in rows:
            if row.recipient and not row.test:
                stores.setdefault(row.store_id, []).append(row)
        for store_id, among in stores.items():
            marks = {row.id: address_mark(row.channel, row.recipient) for row in among}
            found = suppressions.among(connection, store_id, sorted(set(marks.values())))
            self._suppressed |= {id_: found.get(mark) for id_, mark in marks.items()}

    def gateway(self, row: Any, live: LiveSetup) -> Gateway:
        """The gateway of a send. Raises Held where there is none, or it is paused."""
        gateway = next(
            (live.setup.gateways[key] for key, id_ in live.gateway_ids.items() if id_ == row.gateway_id), None
        )
        if gateway is None:
            raise Held("The route has no gateway.")
        if gateway.paused:
            raise Held(f"{gateway.name} is paused.")
        return gateway

    def ready(self, row: Any, live: LiveSetup, now: dt.datetime) -> Ready:
        """Raises Held, NotNow where it is worth another try later, NoMore where it should not go any more."""
        gateway = self.gateway(row, live)
        self._still_holds(row, live, now)
        message_key = next((key for key, id_ in live.message_ids.items() if id_ == row.message_id), "")
        message = Message.model_validate(row.draft) if row.draft is not None else live.setup.messages.get(message_key)
        if message is None:
            raise Held("The message is not published.")
        locale = message.locale_for(row.channel, row.locale)
        if locale is None:
            raise Held(f"“{message.name}” has no {CALLED[row.channel]} part.")
        try:
            compiled = compiled_part(message, row.channel, locale, live.setup.store)
        except Invalid as error:
            raise Held(f"“{message.name}” can't be made: {error.problems[0].what}") from None
        own = row.draft is not None
        revision = None if own else live.revision_ids[message_key]
        settled: dict[str, Any] = {"revision_id": revision}
        recipient, name = row.recipient, row.recipient_name
        if row.recipient and set(row.values or {}) >= compiled.names and (own or row.revision_id == revision):
            values = {key: unpack(value) for key, value in row.values.items()}
        elif own:
            raise Held("The test has no values for all of the text. Send it again from the message’s page.")
        else:
            with self._database.reading() as session:
                recipient, name, values = worked_out_again(session, live, row, compiled.names)
                if recipient != row.recipient:  # one that was not there before has not been asked about yet
                    mark = address_mark(row.channel, recipient)
                    _refuse(recipient, suppressions.among(session.connection(), live.store_id, [mark]).get(mark))
            settled |= {"values": {key: pack(value) for key, value in values.items()}}
        try:
            rendered = compiled.render(values)
        except CantRender as error:
            raise Held(error.problem.what) from None
        about: dict[str, Any] | None
        if isinstance(rendered, RenderedEmail):
            mail, about = self._email(row, live, gateway, rendered, recipient, name, values, now)
            settled |= {"subject": rendered.subject}
            content = {"send_id": row.id, "html": rendered.html, "text": rendered.text, "about": about}
        else:
            template = (
                live.setup.approvals.get(
                    (gateway.key, message.key, locale, compiled.numbered.mark(message.category)), ""
                )
                if isinstance(compiled, CompiledChat)
                else ""
            )
            if isinstance(rendered, RenderedChat) and gateway.review is not None and not template:
                raise Held(f"The chat text in {locale} is not approved by the provider yet.")
            if isinstance(rendered, RenderedSms) and over_cap(rendered, gateway):
                raise Held(over_cap(rendered, gateway))
            mail = Note(note_values(rendered, gateway, recipient, locale, template))
            about = about_of(rendered)
            settled |= {"subject": one_line(rendered.text)[:200], "cost": cost_of(rendered, gateway)}
            content = {"send_id": row.id, "html": "", "text": rendered.text, "about": about}
        return Ready(gateway, mail, settled, content)

    def _still_holds(self, row: Any, live: LiveSetup, now: dt.datetime) -> None:
        """Asks guards and marked conditions again, with the order as it is now."""
        if row.test:
            return
        if row.recipient:
            if row.id not in self._suppressed or now - self._asked_at > FRESH:
                with self._database.reading() as session:
                    self.begin(session.connection(), [row], now)
            _refuse(row.recipient, self._suppressed[row.id])
        route = route_of(row, live)
        again = route is not None and any(part.again for part in compares(route.only_if))
        if (
            route is None
            or not row.event_id
            or not (
                again
                or route.guards.skip_refunded
                or (row.whom == "customer" and row.channel in live.setup.store.consent)
            )
        ):
            return
        with self._database.reading() as session:
            found = look_again(session, live, row)
            if found is None:
                return
            happened, reading, variables = found
            event = session.get(EventRow, row.event_id)
            known = queries.of_one(
                session.connection(),
                live,
                [route],
                event.source_id if event else 0,
                reading,
                "",
                frozenset({route.key}),
            )
        occasion = Occasion(happened, reading, variables, live.setup, known, now)
        verdict = worked_condition(only_again(route.only_if), occasion)
        if verdict.problem:
            raise Held(verdict.problem)
        if not verdict.yes:
            raise NoMore(f"When it was due, its condition no longer held: {verdict.why_not()}")
        look = Looked(route, row.channel, row.recipient, row.whom == "customer", occasion, known, now)
        said = next((said for said in (guard(look) for guard in WHEN_DUE) if said is not None and said.why), None)
        if said is not None:
            raise NoMore(said.why)

    # ---- email

    def _email(
        self,
        row: Any,
        live: LiveSetup,
        gateway: Gateway,
        mail: RenderedEmail,
        recipient: str,
        name: str,
        values: dict[str, Value],
        now: dt.datetime,
    ) -> tuple[Mail, dict[str, Any] | None]:
        sender = gateway.sender
        if sender is None:
            raise Held(f"{gateway.name} has no sender.")
        cc, bcc, reply_to = (
            addresses(part, text) for part, text in (("cc", mail.cc), ("bcc", mail.bcc), ("reply-to", mail.reply_to))
        )
        if row.test:
            cc = bcc = ()  # a test is for its tester
        files, left_out = self._files(row, live, mail, values, now)
        refused = over([file for file in files if not file.content_id], gateway.limits)
        if refused:
            raise Held(refused)
        envelope = Envelope(
            sender.address,
            sender.name or live.setup.store.name,
            recipient,
            name,
            f"{row.id}@{sender.address.rpartition('@')[2]}",
            now,
            ", ".join(reply_to) or sender.reply_to or live.setup.store.support_email,
            cc,
            bool(row.test),
        )
        try:
            data = build(mail, envelope, files)
        except ValueError as error:
            raise Held(str(error)) from None
        about: dict[str, Any] = {
            "files": [{"name": f.name, "type": f.type, "bytes": len(f.data)} for f in files if not f.content_id],
            "left_out": left_out,
            "cc": list(cc),
            "bcc": list(bcc),
            "reply_to": list(reply_to),
            "from": [envelope.from_address, envelope.from_name],
            "answers_to": envelope.reply_to,
        }
        return Mail(sender.address, recipient, data, (*cc, *bcc)), {
            key: value for key, value in about.items() if value
        } or None

    def _files(
        self, row: Any, live: LiveSetup, mail: RenderedEmail, values: dict[str, Value], now: dt.datetime
    ) -> tuple[list[File], list[str]]:
        pictures = pictures_in(mail.html)
        if not pictures and not mail.wanted:
            return [], []
        if self._version != (live.store_id, live.version):
            self._version, self._bytes = (live.store_id, live.version), {}
        files: list[File] = []
        left_out: list[str] = []
        for mark in pictures:
            kept = next((f for f in live.files if f"{f.shelf}/{f.name}" == mark and f.by == ""), None)
            if kept is None:
                raise Held(f"The library has no file “{mark}”, which the mail shows.")
            files.append(File(kept.name, kept.type, self._data(live, kept.id), content_id(mark)))
        for wanted in mail.wanted:
            files += self._wanted(row, live, mail, wanted, values, now, left_out)
        return files, left_out

    def _wanted(
        self,
        row: Any,
        live: LiveSetup,
        mail: RenderedEmail,
        wanted: Wanted,
        values: dict[str, Value],
        now: dt.datetime,
        left_out: list[str],
    ) -> list[File]:
        if wanted.kind == "calendar":
            assert wanted.on is not None
            data = calendar_entry(
                f"{row.id}-{wanted.number}@{live.setup.store.key}",
                wanted.on,
                wanted.title or live.setup.store.name,
                wanted.place,
                row.created_at,
            )
            return [File("delivery.ics", "text/calendar", data)]
        if wanted.kind == "library":
            order: Any = values.get("order")
            known: dict[str, Any] = order if isinstance(order, dict) else self._order(live, row)
            skus = {show(line.get("sku")) for line in known.get("lines") or [] if isinstance(line, dict)}
            references = {show(known.get(part)) for part in ("reference", "number") if known.get(part)}
            found = chosen(live.files, wanted.shelf, skus, references, row.locale)
            if not found and wanted.required:
                raise Held(f"The shelf “{wanted.shelf}” has no file for this order.")
            return [File(kept.name, kept.type, self._data(live, kept.id)) for kept in found]
        try:
            data = fetch(wanted.url, live.setup.store.private_hosts)
        except CantFetch as error:
            if not wanted.required:
                left_out.append(f"{wanted.url}: {error}")
                return []
            raise (Held if error.for_good else NotNow)(f"The file at {wanted.url} can't be had: {error}") from None
        return [
            File(
                file_name(wanted.name, file_name(wanted.url.rpartition("/")[2].partition("?")[0], "file")),
                sniff(data),
                data,
            )
        ]

    def _order(self, live: LiveSetup, row: Any) -> dict[str, Any]:
        if not row.event_id:
            return {}
        with self._database.reading() as session:
            found = look_again(session, live, row)
        return found[1].order() if found else {}

    def _data(self, live: LiveSetup, file_id: int) -> bytes:
        held = self._bytes.get(file_id)
        if held is None:
            with self._database.reading() as session:
                row = library.get(session, live.store_id, file_id)
            if row is None:
                raise Held("A file of the library was taken away meanwhile.")
            held = self._bytes[file_id] = row.data
        return held


def route_of(row: Any, live: LiveSetup) -> Route | None:
    """The route of a send as it last went live, on or off; None for a test, and for a route that was deleted."""
    return live.routes.get(next((key for key, id_ in live.route_ids.items() if id_ == row.route_id), ""))


def look_again(session: Session, live: LiveSetup, row: Any) -> tuple[Event, Reading, Variables] | None:
    """A send's event as it is read now; None where it, or its source, is gone."""
    event = session.get(EventRow, row.event_id) if row.event_id else None
    if event is None or live.source_key(event.source_id) not in live.setup.sources:
        return None
    route = route_of(row, live)
    kept = {"problem", "problem_link", *(question.variable for question in (route.asks if route else []))}
    given = (
        {name: unpack(value) for name, value in (row.values or {}).items() if name in kept}
        if row.run_id or event.type in OURS
        else None
    )
    found = read_event(session, live, event, given)
    return found.event, found.reading, found.variables


def addresses(part: str, text: str) -> tuple[str, ...]:
    """Email addresses parted by commas. Raises Held for one that is none."""
    found = []
    for address in (piece.strip() for piece in text.split(",")):
        if not address:
            continue
        try:
            found.append(check_email(address))
        except EmailNotValidError:
            raise Held(f"“{address[:60]}” in {part} is no email address.") from None
    return tuple(dict.fromkeys(found))


def note_values(rendered: Rendered, gateway: Gateway, to: str, locale: str, template: str) -> dict[str, Any]:
    """What a provider's request may use."""
    values: dict[str, Any] = {"to": to, "sender": gateway.sender_id, "text": rendered.text, "locale": locale}
    if isinstance(rendered, RenderedSms):
        return values | {"encoding": rendered.count.encoding, "segments": rendered.count.segments}
    if isinstance(rendered, RenderedChat):
        values |= {
            "template": template,
            "values": list(rendered.values),
            "header": dict(rendered.header),
            "footer": rendered.footer,
            "buttons": [dict(b) for b in rendered.buttons],
        }
    return values


def about_of(rendered: Rendered) -> dict[str, Any]:
    """What is kept of an SMS or chat message besides its text."""
    if isinstance(rendered, RenderedSms):
        return {"encoding": rendered.count.encoding, "segments": rendered.count.segments}
    if isinstance(rendered, RenderedChat):
        return {
            "header": dict(rendered.header),
            "footer": rendered.footer,
            "buttons": [dict(b) for b in rendered.buttons],
        }
    return {}


def cost_of(rendered: Rendered, gateway: Gateway) -> str:
    """What a message costs at a gateway's price, in the store's currency; empty where it has none."""
    if not gateway.price:
        return ""
    pieces = rendered.count.segments if isinstance(rendered, RenderedSms) else 1
    return str(Decimal(gateway.price) * pieces)


def worked_out_again(
    session: Session, live: LiveSetup, row: Any, names: frozenset[str]
) -> tuple[str, str, dict[str, Value]]:
    """Recipient, name and values from the event as the recipes stand now. Raises Held with what is missing."""
    found = look_again(session, live, row)
    if found is None:
        raise Held("The event is no longer kept, or its source is gone.")
    event, reading, variables = found
    values, missing = values_for(names, reading, variables)
    if missing:
        raise Held(missing[0].what)
    if row.whom != "customer" and row.recipient:
        return row.recipient, row.recipient_name, values
    route = route_of(row, live)
    address, name, why = (
        reached(event, reading, variables, route, live.setup, row.whom, row.channel)
        if route is not None
        else customer(row.channel, reading)
    )
    if why:
        raise Held(why)
    return address, show(name), values
