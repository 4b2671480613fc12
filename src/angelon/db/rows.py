"""Rows as statements give them without the session: the columns of a table by name. To the type checker they are what
the table says; when it runs, they are SQLAlchemy's rows.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from angelon.db.tables import EventRow as EventRecord
    from angelon.db.tables import InquiryRow as InquiryRecord
    from angelon.db.tables import QuestionRow as QuestionRecord
    from angelon.db.tables import SendRow

    class SendRecord(SendRow):
        """A send, whose column `values` has its own name here."""

        values: dict[str, Any] | None
else:
    EventRecord = InquiryRecord = QuestionRecord = SendRecord = Any

__all__ = ["EventRecord", "InquiryRecord", "QuestionRecord", "SendRecord"]
