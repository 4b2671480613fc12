"""The store's library of files."""

from __future__ import annotations

from angelon.core.messages.attachments import LibraryFile, check_picture
from angelon.db.setup import files
from angelon.db.tables import FileRow
from angelon.engine.unit import Work


def put(work: Work, file: LibraryFile, data: bytes) -> None:
    """Puts a file on its shelf; one of the same name for the same orders is replaced. Raises
    Invalid.
    """
    check_picture(data)
    files.put(work.session, work.store_id, file, data, work.now)
    work.record(
        "added to the folder", "file", f"{file.shelf}/{file.name}", None, {"type": file.type, "bytes": file.size}
    )
    work.change_setup()


def remove(work: Work, file_id: int) -> FileRow | None:
    """Takes a file away; gives it, or None where it was gone."""
    row = files.drop(work.session, work.store_id, file_id)
    if row is not None:
        work.record("removed", "file", f"{row.shelf}/{row.name}", {"type": row.type, "bytes": row.size})
        work.change_setup()
    return row
