"""Invoices and credit notes: the list, one of them, one before it exists, files of many."""

from __future__ import annotations

import datetime as dt
import io
import zipfile
from decimal import Decimal, InvalidOperation
from typing import Any
from urllib.parse import urlencode

from flask import Blueprint, abort, flash, g, redirect, render_template, request, send_file, url_for

from angelon.core.countries import countries
from angelon.core.documents.document import Document, Kind
from angelon.core.documents.en16931 import expressible, to_xml
from angelon.core.documents.rates import UNION
from angelon.core.documents.rules import HeldBack
from angelon.core.problems import Invalid
from angelon.db.log import documents, orders
from angelon.engine.documents.files import file_name_of, pdf_of, unnumbered
from angelon.engine.documents.press import CantDraw
from angelon.engine.exports import documents as export
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.web.documents import shown
from angelon.web.exporting import as_file_of
from angelon.web.numbers import whole
from angelon.web.services import actor, live, read_anew, services, session, store_id, work, work_or_back

pages = Blueprint("documents", __name__, url_prefix="/documents", template_folder="templates")
A_PAGE = 50
MOST_HELD = 30
MOST_IN_ZIP = 2000
DRAWN: dict[Kind, str] = {"proforma": "Proforma invoice", "delivery": "Delivery note"}


def _wanted() -> documents.Wanted:
    """What the list is narrowed to; a month stands for its days."""
    args = {name: request.args.get(name, "")[:60].strip() for name in ("kind", "country", "scheme", "text")}
    month = request.args.get("month", "")
    span = {"since": f"{month}-01", "until": f"{month}-31"} if _is_month(month) else {}
    return documents.Wanted(**args, **span)


def _is_month(text: str) -> bool:
    try:
        return bool(text) and len(text) == 7 and bool(dt.date.fromisoformat(f"{text}-01"))
    except ValueError:
        return False


@pages.get("")
def index() -> Any:
    connection, wanted = session().connection(), _wanted()
    before = whole(request.args.get("before"), 2**62)
    rows = documents.listed(connection, store_id(), wanted, A_PAGE + 1, before)
    more = {name: value for name, value in request.args.items() if name != "before"}
    return render_template(
        "documents/index.html",
        documents=rows[:A_PAGE],
        older=_index_address(more | {"before": str(rows[A_PAGE - 1].id)}) if len(rows) > A_PAGE else "",
        wanted=wanted,
        month=request.args.get("month", ""),
        months=_months(),
        held=[(one, _again(one)) for one in documents.held(connection, store_id(), MOST_HELD)],
        countries=_countries(),
        any=bool(rows) or documents.any_of(connection, store_id()),
        settings=operations.settings_of(live()),
        shown=shown,
        query=request.args.to_dict(),
    )


def _index_address(query: dict[str, str]) -> str:
    return f"{url_for('.index')}?{urlencode(query)}"


def _countries() -> list[str]:
    """The countries whose tax a document may be under."""
    settings = operations.settings_of(live())
    home = settings.home or live().setup.store.country
    return sorted({home, *(one.country for one in settings.registrations), *UNION} - {""})


def _again(held: Any) -> str:
    """Where a held invoice is tried again, for whom it was asked."""
    asked = {**(held.asked or {}), "order_id": held.order_id}
    typed = {name: "\n".join(value) if name == "lines" else value for name, value in asked.items()}
    return f"{url_for('.workbench')}?{urlencode(typed)}"


def _months() -> list[tuple[str, dt.date]]:
    """The last months, the newest first."""
    day, made = operations.today(live(), g.now).replace(day=1), []
    for _ in range(14):
        made.append((day.strftime("%Y-%m"), day))
        day = (day - dt.timedelta(days=1)).replace(day=1)
    return made


def _row(document_id: int) -> Any:
    found = documents.get(session().connection(), store_id(), document_id)
    if found is None:
        abort(404, "There is no such document.")
    return found


@pages.get("/<int:document_id>")
def one(document_id: int) -> Any:
    return _one(_row(document_id))


def _one(row: Any, wrong: str = "", status: int = 200) -> Any:
    connection, document = session().connection(), Document.of(row.frozen)
    corrected = documents.get(connection, store_id(), row.corrects_id) if row.corrects_id else None
    order = orders.get(session(), store_id(), row.order_id) if row.order_id else None
    made = render_template(
        "documents/one.html",
        row=row,
        document=document,
        shown=shown,
        left=operations.left_of(connection, row) if row.kind == "invoice" else 0,
        credits=documents.credits_of(connection, row.id),
        corrected=corrected,
        order=order,
        lines=[(at, one) for at, one in enumerate(document.figures.rows) if one.kind == "line"],
        has_postage=any(one.kind == "postage" for one in document.figures.rows),
        xml=expressible(document),
        wrong=wrong,
    )
    return (made, status) if status != 200 else made


@pages.get("/<int:document_id>/page")
def paper(document_id: int) -> Any:
    row = _row(document_id)
    look = documents.look(session().connection(), store_id(), row.look)
    return shown.paper(Document.of(row.frozen), look)


@pages.get("/<int:document_id>.pdf")
def as_pdf(document_id: int) -> Any:
    row = _row(document_id)
    read_anew()  # a drawing may take a while, and nothing is read meanwhile
    try:
        data = pdf_of(services().database, document_id)
    except CantDraw as error:
        flash(str(error), "bad")
        return redirect(url_for(".one", document_id=document_id))
    return send_file(io.BytesIO(data), "application/pdf", download_name=file_name_of(row), as_attachment=True)


@pages.get("/<int:document_id>.xml")
def as_xml(document_id: int) -> Any:
    row = _row(document_id)
    document = Document.of(row.frozen)
    if not expressible(document):
        abort(404, "The standard has no form for this document.")
    name = file_name_of(row).replace(".pdf", ".xml")
    return send_file(io.BytesIO(to_xml(document)), "application/xml", download_name=name, as_attachment=True)


@pages.post("/<int:document_id>/credit")
def credit(document_id: int) -> Any:
    row = _row(document_id)
    try:
        how = _how_much()
        with work() as unit:
            made = operations.credit(unit, document_id, why=request.form.get("why", "").strip()[:300], **how)
    except HeldBack as error:
        return _one(row, f"{error.what} {error.hint}".strip(), 422)
    flash(f"The credit note {made.number} was made.", "good")
    return redirect(url_for(".one", document_id=made.id))


def _how_much() -> dict[str, Any]:
    """What of an invoice is taken back, as the form says. Raises HeldBack."""
    form = request.form
    if form.get("what") == "amount":
        return {"amount": _number(form.get("amount", ""), "amount")}
    if form.get("what") == "lines":
        pieces = {
            int(name[7:]): _number(text, "number of pieces")
            for name, text in form.items()
            if name.startswith("pieces.") and name[7:].isdigit() and text.strip()
        }
        chosen = {at: number for at, number in pieces.items() if number}
        return {"pieces": chosen, "postage": form.get("postage") == "yes"}
    return {}


def _number(text: str, what: str) -> Decimal:
    try:
        number = Decimal(text.strip().replace(",", "."))
    except InvalidOperation:
        number = Decimal("NaN")
    if not number.is_finite() or number < 0 or number >= 10**12:
        raise HeldBack(f"“{text.strip()[:40]}” is no {what}.", "Write it like 12.50.")
    return number


# ---- before it exists


def _order() -> Any:
    """The order that is asked for by its id or its number; None where there is none."""
    id_ = whole(request.values.get("order_id"), 2**62)
    if id_ is not None:
        return orders.get(session(), store_id(), id_)
    number = request.values.get("order", "").strip()[:100]
    return next(iter(orders.numbered(session(), store_id(), number)), None) if number else None


@pages.get("/try")
def workbench() -> Any:
    return _workbench()


def _workbench(status: int = 200, wrong: str = "") -> Any:
    order, settings = _order(), operations.settings_of(live())
    found: dict[str, Any] = {"document": None, "held": None, "others": [], "typed": {}, "proof": ""}
    if order is not None:
        facts = operations.facts_of(session(), live(), order)
        asked = _asked(order)
        found["typed"] = shown.typed(asked.buyer(facts))
        found["proof"] = asked.proof
        home = settings.home or live().setup.store.country
        made = _tried(order, asked)
        found["held" if isinstance(made, HeldBack) else "document"] = made
        found["others"] = [
            (said, *shown.in_short(_tried(order, other))) for said, other in shown.otherwise(facts, asked, home)
        ]  # fmt: skip
    page = render_template(
        "documents/try.html",
        order=order,
        number=request.values.get("order", order.number if order is not None else ""),
        unknown=bool(request.values.get("order")) and order is None,
        settings=settings,
        countries=countries(),
        shown=shown,
        drawn=DRAWN,
        there=documents.current(session().connection(), order.id) if order is not None else None,
        query=request.values.to_dict(),
        newest=next(iter(orders.newest_of_customers(session(), store_id(), [], 1)), None),
        wrong=wrong,
        **found,
    )
    return (page, status) if status != 200 else page


def _tried(order: Any, asked: Request) -> Document | HeldBack:
    try:
        return operations.preview(session(), live(), order, asked, g.now)
    except HeldBack as error:
        return error


def _asked(order: Any) -> Request:
    """For whom it is, as it is typed, with what whoever knows says of the tax number. Raises Invalid."""
    facts = operations.facts_of(session(), live(), order)
    return operations.confirmed(live(), facts, shown.asked_for(request.values), g.now)


@pages.get("/try/page")
def tried_paper() -> Any:
    """The document before it exists, as a page within a page."""
    order = _order()
    if order is None:
        abort(404, "There is no such order.")
    made = _tried(order, _asked(order))
    if isinstance(made, HeldBack):
        abort(404, made.what)
    return shown.paper(made, operations.look_of(session(), live()))


@pages.get("/try.pdf")
def drawn() -> Any:
    """A proforma invoice or a delivery note: drawn from the order as it is, and not kept."""
    order = _order()
    kind = next((one for one in DRAWN if one == request.args.get("kind")), None)
    if order is None or kind is None:
        abort(404, "There is no such order, or no such document.")
    try:
        asked = _asked(order) if kind == "proforma" else shown.asked_for(request.values)
        document = operations.preview(session(), live(), order, asked, g.now, kind)
        data = unnumbered(document, operations.look_of(session(), live()))
    except (HeldBack, CantDraw) as error:
        flash(f"It was not drawn: {error}", "bad")
        return redirect(url_for(".workbench", order_id=order.id))
    name = f"{DRAWN[kind]} {order.number}.pdf".replace("/", "-")
    return send_file(io.BytesIO(data), "application/pdf", download_name=name, as_attachment=True)


@pages.post("/make")
def make() -> Any:
    """Makes the invoice as it is shown."""
    order = _order()
    if order is None:
        abort(404, "There is no such order.")
    try:
        email = operations.checked_email(request.form.get("email", ""))
        change = request.form.get("change") == "yes"
        made = operations.issue_or_hold(work, order, _asked(order), email, actor().name, change=change)
    except HeldBack as error:
        read_anew()
        return _workbench(422, f"Not made: {error.what} {error.hint}")
    except Invalid as error:
        return _workbench(422, f"Not made: {error.problems[0].said}")
    said = f"The invoice {made.number} was made." if made.new else f"It is there already: {made.number}."
    flash(said, "good")
    return redirect(url_for(".one", document_id=made.id))


@pages.post("/held/<int:order_id>/drop")
def drop_held(order_id: int) -> Any:
    """Takes an order off the list of those that are held."""
    with work_or_back(url_for(".index")) as unit:
        if orders.get(unit.session, store_id(), order_id) is not None:
            documents.let_go(unit.connection, order_id)
    return redirect(url_for(".index"))


# ---- files of many


@pages.get("/all.csv")
def as_csv() -> Any:
    """A line for each rate of each document, amounts as numbers, for whoever keeps the books."""
    return as_file_of("documents", "csv", export.Documents(store_id(), _wanted()))


@pages.get("/all.zip")
def as_zip() -> Any:
    """The PDFs of a month, or of whatever the list is narrowed to."""
    wanted, made = _wanted(), io.BytesIO()
    connection = session().connection()
    rows = documents.frozen(connection, store_id(), wanted, 0, MOST_IN_ZIP + 1)
    if len(rows) > MOST_IN_ZIP or not rows:
        many = f"These are more than {MOST_IN_ZIP:,} documents. Choose a month, or a part of it."
        flash(many if rows else "There is no document to put into a file.", "bad")
        return redirect(_index_address(request.args.to_dict()))
    read_anew()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        try:
            for row in rows:
                archive.writestr(file_name_of(row), pdf_of(services().database, row.id))
        except CantDraw as error:
            flash(str(error), "bad")
            return redirect(_index_address(request.args.to_dict()))
    made.seek(0)
    name = f"documents-{request.args.get('month') or 'all'}.zip"
    return send_file(made, "application/zip", download_name=name, as_attachment=True)
