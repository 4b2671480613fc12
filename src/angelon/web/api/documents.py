"""Invoices and credit notes: listed, read with their files, made."""

from __future__ import annotations

import base64
from decimal import Decimal
from typing import Any

from angelon.client import models
from angelon.core.documents.document import Document
from angelon.core.documents.en16931 import expressible, to_xml
from angelon.core.documents.figures import digits_of
from angelon.core.documents.rules import HeldBack
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.db.log import documents, orders
from angelon.engine.documents.files import pdf_of
from angelon.engine.documents.press import CantDraw
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.web.api.operation import cursor_of, operation, read_cursor
from angelon.web.services import actor, live, services, session, store_id, work


@operation("GET", "/documents", "orders.read", "List documents", models.Documents, query=models.DocumentsQuery)
def list_documents(query: models.DocumentsQuery) -> models.Documents:
    """Invoices and credit notes, the newest first. Amounts are as they are printed: a credit note's are above zero."""
    after = read_cursor(query.cursor)
    before = int(after[1]) if after is not None and isinstance(after[1], int) else None
    span = {"since": f"{query.month}-01", "until": f"{query.month}-31"} if query.month else {}
    wanted = documents.Wanted(query.kind, query.country, query.rule, query.words, **span)
    rows = documents.listed(session().connection(), store_id(), wanted, query.limit + 1, before)
    last = rows[query.limit - 1] if len(rows) > query.limit else None
    return models.Documents(
        items=[models.Document(**_plain(row, row.order_number or "")) for row in rows[: query.limit]],
        next=cursor_of(last.created_at, last.id) if last is not None else None,
    )


@operation("GET", "/documents/{number}", "orders.read", "Read a document", models.DocumentDetails, refusals=(404,))
def read_document(number: int) -> models.DocumentDetails:
    """By its id: with the reason of each figure and its files."""
    row = documents.get(session().connection(), store_id(), number)
    if row is None:
        raise NotFound("There is no such document.")
    return _details(row)


@operation(
    "POST", "/orders/{number}/invoice", "documents.write", "Make an order's invoice", models.DocumentDetails,
    body=models.MakeInvoice, status=200, refusals=(404,),
)  # fmt: skip
def make_invoice(number: int, body: models.MakeInvoice) -> models.DocumentDetails:
    """By the order's id: the same request gets the same invoice. For another buyer it is replaced where `replace` says
    so, with a credit note. What can't be computed is refused with its reason, and stands in the list of those that are
    held.
    """
    order = orders.get(session(), store_id(), number)
    if order is None:
        raise NotFound("There is no such order.")
    email = operations.checked_email(body.email)
    asked = Request.model_validate(body.model_dump(exclude={"email", "replace"}))
    facts = operations.facts_of(session(), live(), order)
    asked = operations.confirmed(live(), facts, asked, services().clock.now())
    try:
        made = operations.issue_or_hold(work, order, asked, email, actor().name, change=body.replace)
    except HeldBack as error:
        raise Invalid([Problem("", error.what, error.hint)]) from None
    with services().database.reading() as reading:
        return _details(documents.get(reading.connection(), store_id(), made.id))


def _details(row: Any) -> models.DocumentDetails:
    document = Document.of(row.frozen)
    try:
        pdf = base64.b64encode(pdf_of(services().database, row.id)).decode()
    except CantDraw:
        pdf = ""
    return models.DocumentDetails(
        **_plain(row, document.order),
        reasons=[models.DocumentReason(what=what, figure=figure, why=why) for what, figure, why in document.reasons],
        pdf=pdf,
        xml=to_xml(document).decode() if expressible(document) else "",
    )


def _plain(row: Any, order: str) -> dict[str, Any]:
    digits = digits_of(row.currency)
    amounts = {name: f"{Decimal(getattr(row, name)).scaleb(-digits):f}" for name in ("net", "tax", "gross")}
    return {
        "id": row.id, "number": row.name, "kind": row.kind, "day": row.day, "order_id": row.order_id, "order": order,
        "buyer": row.buyer, "country": row.country, "rule": row.scheme, "currency": row.currency, **amounts,
        "taken_back": row.over, "corrects_id": row.corrects_id,
    }  # fmt: skip
