"""What sends said, where it was moved out of the database: in files (packs) of an archive, each text sealed by a key of
its own that is kept here. So whoever takes the key away takes the text away, whatever else there is of the file.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from typing import NamedTuple

from sqlalchemy import Connection, delete, exists, insert
from sqlalchemy import select as core_select
from sqlmodel import Session

from angelon.core.ids import first_of
from angelon.db.lists import not_by_index
from angelon.db.log.sends import ARCHIVED, CONTENT, SEND, SendDetails, said_of
from angelon.db.log.sent_files import named
from angelon.db.rows import rows_of
from angelon.db.tables import ArchivePackRow, ContentRow, table_of

PACK = table_of(ArchivePackRow)


class NotThere(Exception):
    """A text that can't be read from the archive, and why, as a sentence."""


class Place(NamedTuple):
    """Where a send's text is: the pack's name, its first byte and how many, and the key."""

    send_id: str
    name: str
    start: int
    size: int
    key: bytes


def to_move(connection: Connection, store_id: int, before: dt.datetime, most: int) -> list[ContentRow]:
    """The contents of a store's oldest sends that were made and settled before a moment, oldest first."""
    found = (
        core_select(CONTENT)
        .join(SEND, SEND.c.id == CONTENT.c.send_id)
        .where(
            CONTENT.c.send_id < first_of("sd", before),  # what is old and not moved yet, and nothing else is looked at
            not_by_index(SEND.c.store_id) == store_id,
            SEND.c.settled_at.is_not(None),
            SEND.c.settled_at < before,
        )
        .order_by(CONTENT.c.send_id)
        .limit(most)
    )
    return rows_of(ContentRow, connection.execute(found))


def begin(connection: Connection, name: str, now: dt.datetime) -> int:
    """Notes a pack before it is written; gives its id. Whatever breaks off then, it is empty, and goes (`unused`)."""
    return int(connection.execute(insert(PACK).values(name=name, made_at=now).returning(PACK.c.id)).scalar_one())


def moved(connection: Connection, pack_id: int, contents: Sequence[ContentRow], places: Sequence[Place]) -> int:
    """Notes where contents are and takes them out of the database, those that are as they were when they were packed;
    says how many.
    """
    before = {row.send_id: row for row in contents}
    found = connection.execute(core_select(CONTENT).where(CONTENT.c.send_id.in_(list(before))))
    same = {row.send_id for row in found if tuple(row) == tuple(before[row.send_id])}
    if not same:
        return 0
    rows = [
        {
            **{part: getattr(one, part) for part in ("send_id", "start", "size", "key")},
            "pack_id": pack_id,
            "pattern_id": before[one.send_id].pattern_id,
            "files": sorted(named(before[one.send_id].about or {})) or None,
        }
        for one in places
        if one.send_id in same
    ]
    connection.execute(delete(ARCHIVED).where(ARCHIVED.c.send_id.in_(same)))  # of before it was sent once more
    connection.execute(insert(ARCHIVED), rows)
    connection.execute(delete(CONTENT).where(CONTENT.c.send_id.in_(same)))
    return len(rows)


def with_content(session: Session, found: SendDetails, read: Callable[[Place], ContentRow]) -> SendDetails:
    """A send with its content from the archive, where that is where it is; `read` may raise NotThere."""
    place = next(iter(places_of(session.connection(), [found.listed.send.id])), None) if not found.content else None
    if place is None:
        return found
    try:
        content = read(place)
    except NotThere as error:
        return replace(found, not_there=str(error))
    return replace(found, content=said_of(session.connection(), [content])[content.send_id])


def places_of(connection: Connection, send_ids: Collection[str]) -> list[Place]:
    """Where these sends' texts are, those that are in the archive."""
    columns = (ARCHIVED.c.send_id, PACK.c.name, ARCHIVED.c.start, ARCHIVED.c.size, ARCHIVED.c.key)
    found = core_select(*columns).join(PACK, PACK.c.id == ARCHIVED.c.pack_id)
    rows = connection.execute(found.where(ARCHIVED.c.send_id.in_(list(send_ids)))) if send_ids else ()
    return [Place(*row) for row in rows]


def unused(connection: Connection, before: dt.datetime, most: int) -> list[tuple[int, str]]:
    """Packs (id, name) in which nothing is kept any more, made before a moment."""
    kept = exists().where(ARCHIVED.c.pack_id == PACK.c.id)
    found = core_select(PACK.c.id, PACK.c.name).where(~kept, PACK.c.made_at < before).limit(most)
    return [(int(id_), name) for id_, name in connection.execute(found)]


def forget(connection: Connection, pack_id: int) -> None:
    """Forgets a pack whose file is gone."""
    connection.execute(delete(PACK).where(PACK.c.id == pack_id))


def names(connection: Connection, most: int) -> list[str]:
    """The newest packs' names."""
    return list(connection.execute(core_select(PACK.c.name).order_by(PACK.c.id.desc()).limit(most)).scalars())
