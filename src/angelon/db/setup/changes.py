"""What somebody changed: kept with who, when, before and after."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, insert
from sqlmodel import Session, col, select

from angelon.db.tables import ChangeRow, table_of

CHANGE = table_of(ChangeRow)


def add(
    session: Session,
    store_id: int,
    at: dt.datetime,
    actor: str,
    action: str,
    kind: str,
    key: str,
    before: Any = None,
    after: Any = None,
) -> None:
    """Keeps one change. Times are aware."""
    session.add(
        ChangeRow(
            store_id=store_id, at=at, actor=actor, action=action, kind=kind, key=key[:200], before=before, after=after
        )
    )


def add_many(
    connection: Connection,
    store_id: int,
    at: dt.datetime,
    actor: str,
    action: str,
    kind: str,
    notes: Sequence[tuple[str, Any]],
) -> None:
    """Keeps changes of things that are alike: (key, what each is now)."""
    same = {"store_id": store_id, "at": at, "actor": actor, "action": action, "kind": kind, "before": None}
    if notes:
        rows = [{**same, "key": key[:200], "after": after} for key, after in notes]
        connection.execute(insert(CHANGE), rows)


def last_deleted(session: Session, store_id: int, kind: str, key: str) -> Any:
    """What a thing was when it was deleted last, as plain data; None where none of that key was."""
    statement = (
        select(ChangeRow.before)
        .where(ChangeRow.store_id == store_id, ChangeRow.kind == kind, ChangeRow.key == key)
        .where(ChangeRow.action == "deleted")
        .order_by(col(ChangeRow.id).desc())
    )
    return session.exec(statement).first()


def listed(
    session: Session, store_id: int, kind: str = "", key: str = "", limit: int = 50, before_id: int | None = None
) -> list[ChangeRow]:
    """The newest changes first: of one kind, of one thing, or all; from one on (`before_id`)."""
    statement = select(ChangeRow).where(ChangeRow.store_id == store_id)
    if kind:
        statement = statement.where(ChangeRow.kind == kind)
    if key:
        statement = statement.where(ChangeRow.key == key)
    if before_id is not None:
        statement = statement.where(col(ChangeRow.id) < before_id)
    return list(session.exec(statement.order_by(col(ChangeRow.id).desc()).limit(limit)))
