"""The store's library of files: uploaded once, sent with many mails."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from typing import Any

from sqlmodel import Session, col, select

from angelon.core.messages.attachments import LibraryFile
from angelon.db.setup.specs import touch
from angelon.db.tables import FileRow


def put(session: Session, store_id: int, file: LibraryFile, data: bytes, now: dt.datetime) -> FileRow:
    """Keeps a file; one of the same name for the same orders is replaced."""
    row = session.exec(
        select(FileRow).where(
            FileRow.store_id == store_id,
            FileRow.shelf == file.shelf,
            FileRow.name == file.name,
            FileRow.by == file.by,
            FileRow.match == file.match,
        )
    ).first()
    if row is None:
        row = FileRow(
            store_id=store_id,
            shelf=file.shelf,
            name=file.name,
            by=file.by,
            match=file.match,
            type="",
            size=0,
            added_at=now,
            data=b"",
        )
        session.add(row)
    row.type, row.size, row.data, row.added_at = file.type, len(data), data, now
    touch(session, store_id)
    session.flush()
    return row


def get(session: Session, store_id: int, file_id: int) -> FileRow | None:
    row = session.get(FileRow, file_id)
    return row if row is not None and row.store_id == store_id else None


def data(session: Session, store_id: int, ids: Collection[int]) -> dict[int, bytes]:
    """The bytes of files by id; one that is gone is missing."""
    columns: Any = (FileRow.id, FileRow.data)
    rows = session.exec(select(*columns).where(FileRow.store_id == store_id, col(FileRow.id).in_(list(ids))))
    return {row[0]: row[1] for row in rows}


def shown(session: Session, store_id: int, path: str) -> FileRow | None:
    """The file for every order that a page shows as `shelf/name`."""
    shelf, _, name = path.partition("/")
    return session.exec(
        select(FileRow).where(
            FileRow.store_id == store_id, FileRow.shelf == shelf, FileRow.name == name, FileRow.by == ""
        )
    ).first()


def drop(session: Session, store_id: int, file_id: int) -> FileRow | None:
    """Takes a file away; gives it, so that it can be put back."""
    row = get(session, store_id, file_id)
    if row is not None:
        session.delete(row)
        touch(session, store_id)
        session.flush()
    return row
