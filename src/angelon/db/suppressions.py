"""Addresses that must not be written to."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection

from sqlalchemy import Connection, Table
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.db.tables import SuppressionRow

SUPPRESSION: Table = SuppressionRow.__table__  # type: ignore[attr-defined]


def among(connection: Connection, store_id: int, marks: Collection[str]) -> dict[str, str]:
    """Those of these marks that are suppressed, and why."""
    if not marks:
        return {}
    rows = connection.execute(
        core_select(SUPPRESSION.c.mark, SUPPRESSION.c.why).where(
            SUPPRESSION.c.store_id == store_id, SUPPRESSION.c.mark.in_(list(marks))
        )
    )
    return {mark: why for mark, why in rows}


def listed(session: Session, store_id: int, words: str = "", limit: int = 200) -> list[SuppressionRow]:
    """Newest first."""
    statement = select(SuppressionRow).where(SuppressionRow.store_id == store_id)
    for word in words.split()[:4]:
        like = f"%{word.replace('~', '~~').replace('%', '~%').replace('_', '~_')}%"
        statement = statement.where(col(SuppressionRow.mark).ilike(like, escape="~"))
    return list(
        session.exec(statement.order_by(col(SuppressionRow.since).desc(), col(SuppressionRow.id).desc()).limit(limit))
    )


def add(session: Session, store_id: int, mark: str, why: str, now: dt.datetime) -> bool:
    """Adds an address; says whether it was new. One that is there keeps its date and gets the new reason."""
    row = session.exec(
        select(SuppressionRow).where(SuppressionRow.store_id == store_id, SuppressionRow.mark == mark)
    ).first()
    if row is not None:
        row.why = why
        return False
    session.add(SuppressionRow(store_id=store_id, mark=mark, why=why, since=now))
    return True


def drop(session: Session, store_id: int, suppression_id: int) -> str:
    """Takes an address off; gives its mark, or nothing where it was not there."""
    row = session.get(SuppressionRow, suppression_id)
    if row is None or row.store_id != store_id:
        return ""
    session.delete(row)
    return row.mark
