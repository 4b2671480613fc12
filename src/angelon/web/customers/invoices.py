"""Where a customer gets the invoice of an order by themselves: opened by a link, or by the order's number and what
shows that it is theirs. The same request gets the same invoice; another address takes it back and makes another.
"""

from __future__ import annotations

import datetime as dt
import io
from typing import Any

from flask import Blueprint, abort, redirect, request, send_file

from angelon.core.countries import countries
from angelon.core.documents.rules import HeldBack
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number
from angelon.core.problems import Invalid
from angelon.core.values import locale_of
from angelon.db.log import documents
from angelon.db.tables import OrderRow
from angelon.engine.documents.files import file_name_of, pdf_of
from angelon.engine.documents.press import CantDraw
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.web.api.limits import Limits
from angelon.web.customers import by_number, frame
from angelon.web.customers.follow_words import follow_words
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.invoice_words import invoice_words
from angelon.web.customers.words import sign_up_words
from angelon.web.documents.shown import asked_for, typed
from angelon.web.services import live, services, session, work

pages = Blueprint("invoices", __name__, template_folder="templates")
BY = "the customer"
by_order, by_all = Limits(rate=0.05, burst=12), Limits(rate=10, burst=100)
"""How often whoever has an order's link may ask for its invoice, and all together."""


def _opened(token: str) -> OrderRow:
    """The order whose invoice a link opens. The store in view is its shop's."""
    id_ = Links(services().vault).read_invoice(token[:LONGEST])
    row = session().get(OrderRow, id_) if id_ is not None else None
    frame.enter(row.store_id if row is not None else None, BY)
    assert row is not None
    _refuse_off()
    return row


def _shop(store_key: str) -> None:
    frame.enter_shop(store_key, BY)
    _refuse_off()


def _refuse_off() -> None:
    settings = operations.settings_of(live())
    if not (settings.on and settings.page):
        frame.gone()


frame.install(pages, _opened, "/i")
frame.install(pages, _shop, "/invoice")


def _words(locale: str) -> tuple[str, str]:
    return invoice_words(locale).ask, invoice_words(locale).ask


@pages.get("/invoice/<store_key>")
def ask(store_key: str) -> Any:
    _shop(store_key)
    return by_number.ask(f"/invoice/{store_key}", _words)


@pages.post("/invoice/<store_key>")
def find(store_key: str) -> Any:
    _shop(store_key)
    links = Links(services().vault)
    return by_number.find(f"/invoice/{store_key}", _words, lambda order: f"/i/{links.invoice_token(order.id or 0)}")


# ---- of one order


@pages.get("/i/<token>")
def show_page(token: str) -> Any:
    return _page(_opened(token))


def _page(order: OrderRow, wrong: str = "", status: int = 200) -> Any:
    locale = frame.choose_locale(order.language or "")
    facts = operations.facts_of(session(), live(), order)
    there = documents.current(session().connection(), order.id or 0)
    shown = typed(Request().buyer(facts)) | {"email": facts.text("email")} | request.form.to_dict()
    names = locale_of(locale).territories
    named = sorted(((names.get(one.code, one.name), one.code) for one in countries()), key=lambda pair: pair[0])
    said = invoice_words(locale)
    return frame.page(
        "customers/invoice.html",
        locale,
        status,
        said=said,
        follow=follow_words(locale),
        title=said.title.format(number=order.number),
        dress=f"/i/{Links(services().vault).invoice_token(order.id or 0)}",
        there=there,
        typed=shown,
        named=named,
        wrong=wrong,
        noted=request.args.get("noted") == "1",
        closed=_closed(order, said, there),
        languages=frame.languages_of(),
    )


def _closed(order: OrderRow, said: Any, there: Any) -> str:
    """Why nothing more is made here; empty where it is."""
    settings, now = operations.settings_of(live()), services().clock.now()
    if order.placed_at < now - dt.timedelta(days=settings.page_days):
        return str(said.over)
    made = documents.of_order(session().connection(), order.id or 0)
    changes = sum(one.kind == "credit" and one.by == BY for one in made)
    return str(said.enough) if there is not None and changes >= settings.page_changes else ""


@pages.post("/i/<token>")
def make(token: str) -> Any:
    """Makes the invoice, or the same again; what can't be made is noted for the shop."""
    order = _opened(token)
    locale, now = frame.choose_locale(order.language or ""), services().clock.now()
    said = invoice_words(locale)
    held = [by_order.spend(order.id or 0, now), by_all.spend(0, now)]
    if any("Retry-After" in one for one in held):
        abort(429, sign_up_words(locale).slow)
    there = documents.current(session().connection(), order.id or 0)
    if closed := _closed(order, said, there):
        return _page(order, closed, 422)
    try:
        email = operations.checked_email(request.form.get("email", "")[:254])
    except Invalid:
        return _page(order, said.email_wrong, 422)
    try:
        asked = asked_for(request.form)
        if asked.tax_number:
            checked_number(asked.country or "", asked.tax_number)
    except (Invalid, BadTaxNumber):
        return _page(order, said.number_wrong, 422)
    asked = operations.confirmed(live(), operations.facts_of(session(), live(), order), asked, now)
    if asked.confirmed is False:
        return _page(order, said.number_wrong, 422)
    address = f"/i/{token}?lang={locale}"
    try:
        operations.issue_or_hold(work, order, asked, email, BY, asked=True, change=True)
    except HeldBack:
        address += "&noted=1"
    return redirect(address, 303)


@pages.get("/i/<token>/<int:document_id>.pdf")
def file(token: str, document_id: int) -> Any:
    """A document of this order, as a file."""
    order = _opened(token)
    row = documents.get(session().connection(), order.store_id, document_id)
    if row is None or row.order_id != order.id:
        frame.gone()
    try:
        data = pdf_of(services().database, document_id)
    except CantDraw:
        return _page(order, invoice_words(frame.choose_locale(order.language or "")).later, 503)
    answer = send_file(io.BytesIO(data), "application/pdf", as_attachment=True, download_name=file_name_of(row))
    answer.headers["Cache-Control"] = "private, no-store"
    return answer
