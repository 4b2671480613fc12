"""Lists as somebody has narrowed them, kept under a name."""

from __future__ import annotations

from sqlmodel import Session, col, select

from angelon.db.tables import ViewRow

MOST = 40
"""Of one page."""


def listed(session: Session, store_id: int, page: str) -> list[ViewRow]:
    """By their names."""
    statement = select(ViewRow).where(ViewRow.store_id == store_id, ViewRow.page == page)
    return list(session.exec(statement.order_by(col(ViewRow.name)).limit(MOST)))


def keep(session: Session, store_id: int, page: str, name: str, query: str, made_by: str) -> bool:
    """Keeps a view, in place of one of this name; says whether there was room."""
    there = listed(session, store_id, page)
    row = next((one for one in there if one.name.casefold() == name.casefold()), None)
    if row is None and len(there) >= MOST:
        return False
    if row is None:
        row = ViewRow(store_id=store_id, page=page, name=name, query=query)
    row.query, row.made_by = query, made_by
    session.add(row)
    session.flush()
    return True


def drop(session: Session, store_id: int, page: str, name: str) -> bool:
    rows = [one for one in listed(session, store_id, page) if one.name == name]
    for row in rows:
        session.delete(row)
    return bool(rows)
