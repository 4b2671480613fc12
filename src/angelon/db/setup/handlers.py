"""The folder of handlers as it was loaded last."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlmodel import Session, select

from angelon.db.tables import HandlerFolderRow


def folder(session: Session) -> HandlerFolderRow | None:
    """The folder as it was loaded last; None where there never was one."""
    return session.exec(select(HandlerFolderRow)).first()


def keep_folder(session: Session, path: str, digest: str, told: dict[str, Any], now: dt.datetime) -> None:
    """Keeps what was found in the folder. Where a file can't be imported, what was registered before stays."""
    row = folder(session) or HandlerFolderRow(folder=path, digest=digest, loaded_at=now)
    row.folder, row.digest, row.loaded_at = path, digest, now
    row.problems, row.output = told["problems"], told.get("output", "")
    row.handlers = told["handlers"]
    session.add(row)
    session.flush()
