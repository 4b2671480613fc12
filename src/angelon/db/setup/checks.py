"""Checks as rows."""

from __future__ import annotations

import datetime as dt

from sqlmodel import Session, col, select

from angelon.core.specs.check import Check
from angelon.core.specs.stored import to_stored
from angelon.db.setup.specs import count_edit
from angelon.db.tables import CheckRow


def all_of(session: Session, store_id: int) -> list[CheckRow]:
    return list(session.exec(select(CheckRow).where(CheckRow.store_id == store_id).order_by(col(CheckRow.id))))


def by_key(session: Session, store_id: int, key: str) -> CheckRow | None:
    return session.exec(select(CheckRow).where(CheckRow.store_id == store_id, CheckRow.key == key)).first()


def free_key(session: Session, store_id: int, wanted: str) -> str:
    taken = set(session.exec(select(CheckRow.key).where(CheckRow.store_id == store_id)))
    key, number = wanted[:55], 2
    while key in taken:
        key, number = f"{wanted[:55]}-{number}", number + 1
    return key


def save(session: Session, store_id: int, check: Check) -> CheckRow:
    """Stores a check under its key, new or not."""
    row = by_key(session, store_id, check.key)
    if row is None:
        row = CheckRow(store_id=store_id, key=check.key)
        session.add(row)
    count_edit(row)
    row.spec = to_stored(check)
    session.flush()
    return row


def note(session: Session, rows: list[tuple[CheckRow, bool]], now: dt.datetime) -> None:
    """Keeps how checks came out."""
    for row, passed in rows:
        row.ran_at, row.passed = now, passed
        session.add(row)
