"""A list that is read part by part, each after the last row of the one before, so that another process can go on."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from sqlmodel import Session

from angelon.db.database import Database
from angelon.engine.exports.lines import AT_ONCE, Rows


class Listed:
    """What is listed, and after which row it goes on (None: from the first)."""

    columns: Sequence[str]
    after: tuple[Any, Any] | None = None

    def read(self, session: Session) -> tuple[Rows, int]:
        """The next part, and how many rows of the database it is made of; moves `after`."""
        raise NotImplementedError

    def parts(self, database: Database) -> Iterator[Rows]:
        """All that is left."""
        while True:
            with database.reading() as session:
                rows, number = self.read(session)
            yield rows
            if number < AT_ONCE:
                return
