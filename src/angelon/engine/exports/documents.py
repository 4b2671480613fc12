"""Invoices and credit notes as rows of a file: one for each rate of each document, amounts as numbers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from sqlmodel import Session

from angelon.core.documents.document import Document
from angelon.core.documents.figures import digits_of
from angelon.db.log import documents
from angelon.db.rows import DocumentRecord
from angelon.engine.exports.lines import AT_ONCE, Rows
from angelon.engine.exports.listed import Listed

COLUMNS = ("number", "kind", "day", "order", "buyer", "tax_number", "country_of_tax", "rule", "currency", "rate", "net",
           "tax", "gross", "corrects")  # fmt: skip


class Documents(Listed):
    """The rows of documents that fit, those of the oldest first."""

    columns = COLUMNS

    def __init__(self, store_id: int, wanted: documents.Wanted) -> None:
        self.store_id, self.wanted, self.reached = store_id, wanted, 0

    def read(self, session: Session) -> tuple[Rows, int]:
        found = documents.frozen(session.connection(), self.store_id, self.wanted, self.reached, AT_ONCE)
        self.reached = found[-1].id if found else self.reached
        return [line for row in found for line in _lines(row)], len(found)


def _lines(row: DocumentRecord) -> Iterator[Mapping[str, Any]]:
    document = Document.of(row.frozen)
    digits, sign = digits_of(row.currency), -1 if row.kind == "credit" else 1
    for part in document.figures.sums:
        amounts = {name: f"{Decimal(sign * getattr(part, name)).scaleb(-digits):f}" for name in ("net", "tax", "gross")}
        yield {
            "number": row.name, "kind": row.kind, "day": row.day, "order": document.order, "buyer": row.buyer,
            "tax_number": document.buyer.tax_number, "country_of_tax": row.country, "rule": row.scheme,
            "currency": row.currency, "rate": f"{part.percent.normalize():f}", **amounts,
            "corrects": document.corrects[0] if document.corrects else "",
        }  # fmt: skip
