"""Where a customer gets the invoice of an order by themselves: opened by a link, or by the order's number and what
shows that it is theirs. The same request gets the same invoice; another address takes it back and makes another.
"""

from __future__ import annotations

import datetime as dt
import io
import time
from typing import Any

from flask import Blueprint, abort, redirect, request, send_file

from angelon.core.addresses import check_email
from angelon.core.countries import countries
from angelon.core.documents.rules import HeldBack
from angelon.core.documents.tax_numbers import BadTaxNumber, checked_number
from angelon.core.problems import Invalid
from angelon.core.specs.base import read_spec
from angelon.core.values import locale_of
from angelon.db import documents, specs
from angelon.db.tables import OrderRow
from angelon.engine.documents.confirming import confirm
from angelon.engine.documents.files import file_name_of, pdf_of
from angelon.engine.documents.press import CantDraw
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import NONE, Request
from angelon.engine.preferences import Links
from angelon.web.api.limits import Limits
from angelon.web.customers import frame, proofs
from angelon.web.customers.follow import choose_locale, languages_of
from angelon.web.customers.follow_words import follow_words
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.invoice_words import invoice_words
from angelon.web.customers.words import sign_up_words
from angelon.web.services import live, read_anew, services, session, work

pages = Blueprint("invoices", __name__, template_folder="templates")
BY = "the customer"
by_order, by_all = Limits(rate=0.05, burst=12), Limits(rate=10, burst=100)
"""How often whoever has an order's link may ask for its invoice, and all together."""
TYPED = ("name", "company", "postcode", "city", "tax_number")


def _opened(token: str) -> OrderRow:
    """The order whose invoice a link opens. The store in view is its shop's."""
    id_ = Links(services().vault).read_invoice(token[:LONGEST])
    row = session().get(OrderRow, id_) if id_ is not None else None
    frame.enter(row.store_id if row is not None else None, BY)
    assert row is not None
    _refuse_off()
    return row


def _shop(store_key: str) -> None:
    row = next((one for one in specs.stores(session()) if one.key == store_key), None)
    frame.enter(row.id if row is not None else None, BY)
    _refuse_off()


def _refuse_off() -> None:
    settings = operations.settings_of(live())
    if not (settings.on and settings.page):
        frame.gone()


def _dressed(token: str) -> None:
    if request.path.startswith("/invoice/"):
        _shop(token)
    else:
        _opened(token)


@pages.get("/i/<token>/colours.css")
@pages.get("/invoice/<token>/colours.css")
def colours(token: str) -> Any:
    _dressed(token)
    return frame.colours_of()


@pages.get("/i/<token>/logo")
@pages.get("/invoice/<token>/logo")
def logo(token: str) -> Any:
    _dressed(token)
    return frame.logo_of()


# ---- by number


@pages.get("/invoice/<store_key>")
def ask(store_key: str) -> Any:
    _shop(store_key)
    return _ask(store_key)


@pages.post("/invoice/<store_key>")
def find(store_key: str) -> Any:
    """Opens the page of an order that is shown to be theirs; whether there is another, nobody is told."""
    began = time.monotonic()
    _shop(store_key)
    number, proof = request.form.get("number", "").strip()[:100], request.form.get("proof", "").strip()[:200]
    locale = choose_locale("")
    if not number or not proof:
        return _ask(store_key, follow_words(locale).unknown, 422)
    if proofs.too_often(number):
        abort(429, sign_up_words(locale).slow)
    order = proofs.theirs(number, proof)
    proofs.wait_since(began)
    if order is None:
        return _ask(store_key, follow_words(locale).unknown, 422)
    return redirect(f"/i/{Links(services().vault).invoice_token(order.id or 0)}", 303)


def _ask(store_key: str, wrong: str = "", status: int = 200) -> Any:
    locale = choose_locale("")
    said = follow_words(locale)._replace(ask=invoice_words(locale).ask, show=invoice_words(locale).ask)
    return frame.page(
        "customers/follow_form.html",
        locale,
        status,
        dress=f"/invoice/{store_key}",
        said=said,
        fields=sign_up_words(locale),
        wrong=wrong,
        number=request.values.get("number", request.args.get("order", ""))[:100],
        languages=languages_of(),
    )


# ---- of one order


@pages.get("/i/<token>")
def show_page(token: str) -> Any:
    return _page(_opened(token))


def _page(order: OrderRow, wrong: str = "", status: int = 200) -> Any:
    locale = choose_locale(order.language or "")
    facts = operations.facts_of(session(), live(), order)
    own, form = Request().buyer(facts), request.form
    there = documents.current(session().connection(), order.id or 0)
    shown = {name: form.get(name, getattr(own, name)) for name in ("name", "company", "postcode", "city")}
    shown |= {"lines": form.get("lines", "\n".join(own.lines)), "country": form.get("country", own.country)}
    shown |= {"tax_number": form.get("tax_number", own.tax_number), "email": form.get("email", facts.text("email"))}
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
        languages=languages_of(),
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
    said, settings = invoice_words(choose_locale(order.language or "")), operations.settings_of(live())
    now = services().clock.now()
    held = [by_order.spend(order.id or 0, now), by_all.spend(0, now)]
    if any("Retry-After" in one for one in held):
        abort(429, sign_up_words(choose_locale(order.language or "")).slow)
    there = documents.current(session().connection(), order.id or 0)
    if closed := _closed(order, said, there):
        return _page(order, closed, 422)
    plain: dict[str, Any] = {name: request.form.get(name, "").strip()[:200] for name in TYPED}
    plain["lines"] = [line.strip()[:200] for line in request.form.get("lines", "").splitlines() if line.strip()][:5]
    plain["country"] = request.form.get("country", "").strip().upper()[:2]
    email = request.form.get("email", "").strip()[:254]
    try:
        email = check_email(email) if email else ""
    except ValueError:
        return _page(order, said.email_wrong, 422)
    plain["tax_number"] = plain["tax_number"] or NONE
    try:
        asked = read_spec(Request, plain)
        if asked.tax_number != NONE:
            checked_number(asked.country, asked.tax_number)
    except (Invalid, BadTaxNumber):
        return _page(order, said.number_wrong, 422)
    store = live().setup.store
    known, proof = confirm(settings, settings.home or store.country, asked.country,
                           "" if asked.tax_number == NONE else asked.tax_number, store.private_hosts,
                           services().clock.now())  # fmt: skip
    if known is False:
        return _page(order, said.number_wrong, 422)
    asked = asked.model_copy(update={"confirmed": known, "proof": proof})
    return _made(order, asked, email, token)


def _made(order: OrderRow, asked: Request, email: str, token: str) -> Any:
    address = f"/i/{token}?lang={choose_locale(order.language or '')}"
    try:
        with work() as unit:
            operations.requested(unit, order, BY)
            operations.issue(unit, order, asked, email, BY, change=True)
    except HeldBack as error:
        with work() as unit:
            operations.requested(unit, order, BY)
            operations.hold(unit, order, asked, error, BY)
        read_anew()
        return redirect(f"{address}&noted=1", 303)
    read_anew()
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
        return _page(order, invoice_words(choose_locale(order.language or "")).later, 503)
    answer = send_file(io.BytesIO(data), "application/pdf", as_attachment=True, download_name=file_name_of(row))
    answer.headers["Cache-Control"] = "private, no-store"
    return answer
