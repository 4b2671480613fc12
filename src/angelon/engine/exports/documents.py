"""Invoices and credit notes as rows of a file: one for each rate of each document, amounts as numbers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from angelon.core.documents.document import Document
from angelon.core.documents.figures import digits_of
from angelon.db.database import Database
from angelon.db.log import documents
from angelon.engine.exports.lines import AT_ONCE

COLUMNS = ("number", "kind", "day", "order", "buyer", "tax_number", "country_of_tax", "rule", "currency", "rate", "net",
           "tax", "gross", "corrects")  # fmt: skip


def parts(database: Database, store_id: int, wanted: documents.Wanted) -> Iterator[list[Mapping[str, Any]]]:
    """The rows, those of the oldest document first."""
    after = 0
    while True:
        with database.reading() as reading:
            found = documents.frozen(reading.connection(), store_id, wanted, after, AT_ONCE)
        if not found:
            return
        after = found[-1].id
        yield [line for row in found for line in _lines(row)]


def _lines(row: Any) -> Iterator[Mapping[str, Any]]:
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
