"""Invoices and credit notes: asked for, made once, numbered in the transaction that stores them, taken back."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import json
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from pydantic import Field
from sqlalchemy import Connection
from sqlmodel import Session

from angelon.core.addresses import check_email
from angelon.core.documents.crediting import credit_amount, credit_lines, credit_rest, credited, items_of
from angelon.core.documents.document import Document, Kind
from angelon.core.documents.figures import Part
from angelon.core.documents.making import Ordered, buyer_of, credit_note, invoice
from angelon.core.documents.rules import Buyer, HeldBack
from angelon.core.event_types import STOPS
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.specs.base import Spec
from angelon.core.specs.documents import Documents, numbered
from angelon.core.values import unpack
from angelon.db.log import documents, events
from angelon.db.rows import DocumentRecord
from angelon.db.setup import files as library
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import OrderRow
from angelon.engine.documents.confirming import confirm
from angelon.engine.operations.store import change as change_store
from angelon.engine.orders.order_events import tell
from angelon.engine.unit import Work

MADE, ASKED, HELD = "document.made", "document.requested", "document.held"
MOST_LOGO = 400_000
"""Bytes of a picture that is kept with documents."""


class Request(Spec):
    """For whom an invoice is asked; what is None is as the order has it. `confirmed` and `proof` are what whoever was
    asked has said of the tax number.
    """

    name: str | None = None
    company: str | None = None
    lines: list[str] | None = Field(None, max_length=6)
    postcode: str | None = None
    city: str | None = None
    country: str | None = None
    tax_number: str | None = None
    confirmed: bool | None = None
    proof: str = ""

    def buyer(self, order: Ordered) -> Buyer:
        """The buyer: as the order names them, with what was said otherwise. An address is taken as a whole."""
        own, said = buyer_of(order), self.model_dump(exclude_none=True)
        if said.keys() & {"lines", "postcode", "city"}:
            own = replace(own, lines=(), postcode="", city="")
        return replace(own, **said | ({"lines": tuple(self.lines)} if self.lines is not None else {}))


@dataclass(frozen=True, slots=True)
class Made:
    """A document that was made, or was there already."""

    id: int
    number: str
    new: bool


def settings_of(live: LiveSetup) -> Documents:
    return live.setup.store.documents


def facts_of(session: Session, live: LiveSetup, order: OrderRow) -> Ordered:
    """An order (a row of its table) as documents are made from it."""
    zone = ZoneInfo(live.setup.store.timezone)
    parts = {name: unpack(value) for name, value in (order.read or {}).items()}
    day = order.placed_at.astimezone(zone).date()
    return Ordered(order.number or order.reference, day, parts, _paid(session, live, order), order.language or "")


def _paid(session: Session, live: LiveSetup, order: OrderRow) -> bool:
    """Whether an order counts as paid: where its source tells of payments, once it did; else always."""
    source = live.setup.sources.get(live.source_key(order.source_id))
    if source is None or "order.paid" not in source.event_types():
        return True
    later = [type_ for type_, place in STOPS.items() if place >= STOPS["order.paid"]]
    return bool(events.orders_with(session.connection(), [order.id or 0], later))


def today(live: LiveSetup, now: dt.datetime) -> dt.date:
    return now.astimezone(ZoneInfo(live.setup.store.timezone)).date()


def preview(
    session: Session, live: LiveSetup, order: OrderRow, request: Request, now: dt.datetime, kind: Kind = "invoice"
) -> Document:
    """The document before it exists, without a number. Raises HeldBack."""
    facts = facts_of(session, live, order)
    return invoice(settings_of(live), live.setup.store, facts, request.buyer(facts), today(live, now), kind)


def look_of(session: Session, live: LiveSetup) -> dict[str, Any]:
    """The letterhead as documents are drawn in it, with its picture."""
    head = live.setup.store.letterhead
    made: dict[str, Any] = {"accent": head.accent, "font": head.font}
    path = head.logo.removeprefix("library:")
    file = next((one for one in live.files if f"{one.shelf}/{one.name}" == path and not one.by), None)
    if file is not None and file.type in ("image/png", "image/jpeg", "image/svg+xml", "image/gif"):
        data = library.data(session, live.store_id, {file.id}).get(file.id, b"")
        if 0 < len(data) <= MOST_LOGO:
            picture = f"data:{file.type};base64,{base64.b64encode(data).decode()}"
            made |= {"logo": picture, "logo_alt": head.logo_alt, "logo_width": head.logo_width}
    return made


def issue(
    work: Work,
    order: OrderRow,
    request: Request,
    email: str = "",
    by: str = "",
    change: bool = False,
    tells: bool = True,
) -> Made:
    """The invoice of an order for whom it is asked: the same where there is one for them already. Where there is one
    for somebody else it is taken back, if `change` says that it may be, and another one is made. `tells` is whether
    that is an event: not where a message takes it along. Raises HeldBack, and Invalid where it may not be changed.
    """
    live, session, connection = work.live, work.session, work.connection
    if not settings_of(live).on:
        raise Invalid([Problem("", "Invoices are switched off.", "Switch them on in the settings of invoices.")])
    facts = facts_of(session, live, order)
    buyer = request.buyer(facts)
    asked = _digest(buyer)
    there = documents.current(connection, order.id or 0)
    if there is not None and there.asked == asked:
        return Made(there.id, there.name, False)
    if there is not None and not change:
        what = f"There is the invoice {there.name} already, for another name, address or tax number."
        raise Invalid([Problem("", what, "Take it back first, or have it replaced.")])
    day = today(live, work.now)
    if live.trial:
        raise HeldBack("The store is on trial, in which nothing is numbered.", "End the trial first.")
    document = invoice(settings_of(live), live.setup.store, facts, buyer, day)
    if there is not None:
        _take_back(work, there, credit_all(connection, there), "Another address or tax number was asked for.", by)
    made = _store(work, document, order.id or 0, asked, email, by, tells=tells)
    documents.let_go(connection, order.id or 0)
    return made


def confirmed(live: LiveSetup, facts: Ordered, request: Request, now: dt.datetime) -> Request:
    """A request with what whoever knows says of its tax number, asked where the rules need it. Never raises."""
    settings, store, buyer = settings_of(live), live.setup.store, request.buyer(facts)
    known, proof = confirm(settings, settings.home or store.country, buyer.country, buyer.tax_number,
                           store.private_hosts, now)  # fmt: skip
    return request.model_copy(update={"confirmed": known, "proof": proof})


def issue_or_hold(
    begin: Callable[[], AbstractContextManager[Work]],
    order: OrderRow,
    request: Request,
    email: str = "",
    by: str = "",
    asked: bool = False,
    **how: bool,
) -> Made:
    """The same as `issue`, in a unit of work of its own; what can't be made is noted for the shop in another one, with
    for whom it was, and told as an event the first time. `asked` tells that it was asked for. Raises HeldBack, Invalid.
    """
    try:
        with begin() as work:
            if asked:
                _asked(work, order, request, by)
            return issue(work, order, request, email, by, **how)
    except HeldBack as error:
        with begin() as work:
            if asked:
                _asked(work, order, request, by)
            wanted = request.model_dump(mode="json", exclude_none=True) | {"email": email}
            held = {"why": error.what, "hint": error.hint, "by": by, "asked": wanted, "at": work.now}
            documents.hold(work.connection, work.store_id, order.id or 0, **held)
            key = f"{order.id}:held:{_digest(request.buyer(facts_of(work.session, work.live, order)))}"
            tell(work, order.id or 0, HELD, key, HELD)
        raise


def _asked(work: Work, order: OrderRow, request: Request, by: str) -> None:
    """Tells that an invoice was asked for: once for each buyer that it was asked for."""
    key = f"{order.id}:asked:{_digest(request.buyer(facts_of(work.session, work.live, order)))}"
    tell(work, order.id or 0, ASKED, key, ASKED, "", by)


def credit_all(connection: Connection, row: DocumentRecord) -> list[Part]:
    """What is left of an invoice, as its credit note takes it back."""
    was = Document.of(row.frozen)
    return credit_rest(was.figures, _before(connection, row, was))


def credit(
    work: Work,
    document_id: int,
    amount: Decimal | None = None,
    pieces: Mapping[int, Decimal] | None = None,
    postage: bool = False,
    why: str = "",
) -> Made:
    """Takes an invoice back: a sum of it, so many pieces of its rows, or all that is left. Raises NotFound,
    HeldBack.
    """
    row = documents.get(work.connection, work.store_id, document_id)
    if row is None or row.kind != "invoice":
        raise NotFound("There is no such invoice.")
    if row.over:
        raise HeldBack(f"All of {row.name} was credited already.", "Make another invoice from the order’s page.")
    was = Document.of(row.frozen)
    before = _before(work.connection, row, was)
    if amount is not None:
        units = int((amount * 10**was.figures.digits).to_integral_value())
        parts = credit_amount(was.figures, before, units)
    elif pieces is not None:
        parts = credit_lines(was.figures, before, pieces, postage)
    else:
        parts = credit_rest(was.figures, before)
    return _take_back(work, row, parts, why, work.actor.name)


def left_of(connection: Connection, row: DocumentRecord) -> int:
    """How much of an invoice was not taken back, in the smallest unit."""
    was = Document.of(row.frozen)
    return was.figures.gross - sum(gross for gross, _ in _before(connection, row, was))


def _before(connection: Connection, row: DocumentRecord, was: Document) -> list[list[int]]:
    """Gross and net of each item that credit notes have taken back."""
    made = [[0, 0] for _ in items_of(was.figures)]
    for note in documents.credits_of(connection, row.id):
        for at, (gross, net) in enumerate(note.credited or []):
            made[at][0] += gross
            made[at][1] += net
    return made


def _take_back(work: Work, row: DocumentRecord, parts: list[Part], why: str, by: str) -> Made:
    was = Document.of(row.frozen)
    note = credit_note(was, parts, today(work.live, work.now), why=why)
    taken = credited(was.figures, [parts])
    made = _store(work, note, row.order_id, f"credit:{row.id}", row.email, by, row, taken)
    if left_of(work.connection, row) == 0:
        documents.end(work.connection, row.id)
    return made


def _store(
    work: Work,
    document: Document,
    order_id: int | None,
    asked: str,
    email: str,
    by: str,
    corrects: DocumentRecord | None = None,
    taken: list[list[int]] | None = None,
    tells: bool = True,
) -> Made:
    """Numbers a document and stores it, in this transaction."""
    live, settings = work.live, settings_of(work.live)
    series = settings.credit_series if document.kind == "credit" else settings.invoice_series
    year = document.day.year if "{year" in series else 0
    look = look_of(work.session, live)
    digest = hashlib.sha256(json.dumps(look, sort_keys=True).encode()).hexdigest()[:32]
    documents.keep_look(work.connection, work.store_id, digest, look)
    number = documents.next_number(work.connection, work.store_id, series, year)
    named = replace(document, number=numbered(series, document.day.year, number))
    figures = named.figures
    id_ = documents.add(
        work.connection,
        store_id=work.store_id, order_id=order_id, kind=named.kind, series=series, year=year, number=number,
        name=named.number, asked=asked, day=named.day.isoformat(), currency=figures.currency,
        country=named.treatment.country, scheme=named.treatment.scheme, net=figures.net, tax=figures.tax,
        gross=figures.gross, buyer=named.buyer.name, email=email, by=by or work.actor.name, look=digest,
        frozen=named.plain(), corrects_id=corrects.id if corrects is not None else None, credited=taken,
        created_at=work.now,
    )  # fmt: skip
    work.record("made", "document", str(id_), None, {"number": named.number, "kind": named.kind})
    if order_id is not None and tells:  # None where the order’s time is over and it went
        tell(work, order_id, MADE, f"document:{id_}", named.kind, f"dc-{id_}", named.number)
    return Made(id_, named.number, True)


def _digest(buyer: Buyer) -> str:
    """What tells one request for an order from another: who, where, by which number; nothing of how it was checked."""
    said = [buyer.name, buyer.company, *buyer.lines, buyer.postcode, buyer.city, buyer.country, buyer.tax_number]
    plain = "\n".join(" ".join(part.split()).casefold() for part in said)
    return hashlib.sha256(plain.encode()).hexdigest()[:32]


def checked_email(text: str) -> str:
    """An address to which a document goes. Raises Invalid."""
    try:
        return check_email(text.strip()) if text.strip() else ""
    except ValueError as error:
        what = f"“{text[:60]}” is no email address."
        raise Invalid([Problem("email", what, str(error))]) from None


def save_settings(work: Work, settings: Documents, expected: int | None = None) -> None:
    """How invoices are worked out, from now on. What exists stays as it is. Raises Invalid, Conflict."""
    if settings.on:
        found = _refused(settings, settings.home or work.live.setup.store.country)
        if found:
            raise Invalid(found)
    change_store(work, {"documents": settings.model_dump(mode="json")}, expected, "documents")


def _refused(settings: Documents, home: str) -> list[Problem]:
    """What has to be said before invoices are switched on."""
    found = []
    if not home:
        found.append(Problem("home", "It is not said from which country goods are sent.", "Choose it."))
    if not settings.registrations and not (settings.small_seller and settings.seller.tax_id):
        what = "The shop has no tax registration yet."
        found.append(Problem("registrations", what, "Add the one of the country where goods are sent from."))
    if not settings.seller.name or not settings.seller.city:
        what = "An invoice names the shop and where it is."
        found.append(Problem("seller.name", what, "Type the shop’s name and address."))
    if settings.reverse_charge and settings.check_business and settings.on and not settings.check_url:
        what = "Numbers of businesses elsewhere have to be confirmed, and it is not said who is asked."
        found.append(Problem("check_url", what, "Type the address, or choose that their form is enough."))
    return found
