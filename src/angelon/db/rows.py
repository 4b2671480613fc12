"""Rows as statements give them without the session: the columns of a table by name. To the type checker they are what
the table says; when it runs, they are SQLAlchemy's rows.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, TypeVar

from sqlalchemy import Result

if TYPE_CHECKING:
    from angelon.db.tables import DeliveryRow as DeliveryRecord
    from angelon.db.tables import (
        DocumentHeldRow,
        DocumentRow,
        ImportRow,
        ParcelRow,
        SendRow,
        ShopTableItemRow,
        ShopTableRow,
    )
    from angelon.db.tables import EventRow as EventRecord
    from angelon.db.tables import FetchRow as FetchRecord
    from angelon.db.tables import InquiryRow as InquiryRecord
    from angelon.db.tables import QuestionRow as QuestionRecord

    class SendRecord(SendRow):
        """A send, whose column `values` has its own name here."""

        values: dict[str, Any] | None

    class QuestionOfOrder(QuestionRecord):
        """With its order's number, its outcome, and the customer's name where it was asked for."""

        number: str
        outcome: str
        name: str

    class EventOfCustomer(EventRecord):
        """With whose its order is."""

        order_id: int
        contact_id: int | None

    class ShopTableRecord(ShopTableRow):
        id: int
        columns: list[str]

    class ShopTableItem(ShopTableItemRow):
        id: int
        cells: list[str]

    class DocumentRecord(DocumentRow):
        id: int
        order_number: str | None
        """In lists alone."""

    class HeldDocument(DocumentHeldRow):
        order_number: str
        """In lists alone."""

    class ImportRecord(ImportRow):
        id: int

    class ParcelRecord(ParcelRow):
        id: int

    class ParcelOfOrder(ParcelRecord):
        """With what of an order is in it."""

        order_id: int
        item: str
        name: str
        quantity: str
else:
    DeliveryRecord = DocumentRecord = EventOfCustomer = EventRecord = Any
    FetchRecord = HeldDocument = ImportRecord = InquiryRecord = Any
    ParcelOfOrder = ParcelRecord = QuestionOfOrder = QuestionRecord = Any
    SendRecord = ShopTableItem = ShopTableRecord = Any

RecordT = TypeVar("RecordT")

__all__ = [
    "DeliveryRecord",
    "DocumentRecord",
    "EventOfCustomer",
    "EventRecord",
    "FetchRecord",
    "HeldDocument",
    "ImportRecord",
    "InquiryRecord",
    "ParcelOfOrder",
    "ParcelRecord",
    "QuestionOfOrder",
    "QuestionRecord",
    "SendRecord",
    "ShopTableItem",
    "ShopTableRecord",
    "row_of",
    "rows_of",
]


def rows_of(kind: type[RecordT], found: Iterable[Any]) -> list[RecordT]:
    """What a statement gave, as rows of this kind; nothing is converted or looked at."""
    return list(found)


def row_of(kind: type[RecordT], found: Result[Any]) -> RecordT | None:
    """The first of what a statement gave, as a row of this kind; None where there is none."""
    row: RecordT | None = found.first()  # type: ignore[assignment]
    return row
