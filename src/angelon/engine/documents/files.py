"""The file of a document: kept once it was drawn, drawn where it was not."""

from __future__ import annotations

import functools

from angelon.core.documents.document import Document
from angelon.db.database import Database
from angelon.db.log import documents
from angelon.engine.documents.press import Press


@functools.cache
def press() -> Press:
    """The one process that draws for this one."""
    return Press()


def pdf_of(database: Database, document_id: int) -> bytes:
    """A document's PDF. Raises CantDraw; LookupError where there is no such document."""
    with database.reading() as session:
        connection = session.connection()
        kept = documents.file(connection, document_id)
        if kept is not None:
            return kept
        row = documents.any_store(connection, document_id)
        if row is None:
            raise LookupError(f"There is no document {document_id}.")
        look = documents.look(connection, row.store_id, row.look)
    data = press().pdf(row.frozen, look)
    with database.connection(purpose="document") as connection:
        documents.keep_file(connection, document_id, data)
    return data


def file_name_of(row: object) -> str:
    """What a document's file is called: `2026-0412.pdf`."""
    name = "".join(sign if sign.isalnum() or sign in "-_." else "-" for sign in str(getattr(row, "name", "")))
    return f"{name or 'document'}.pdf"


def unnumbered(document: Document, look: dict[str, object]) -> bytes:
    """The PDF of a document of which nothing is stored. Raises CantDraw."""
    return press().pdf(document.plain(), look)
