"""What sources' payloads have looked like so far."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import Connection, bindparam, tuple_
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, select

from angelon.core.shape import Shape
from angelon.db.bulk import Bulk
from angelon.db.tables import ShapeRow, table_of

SHAPE = table_of(ShapeRow)
_LOAD = core_select(SHAPE).where(tuple_(SHAPE.c.source_id, SHAPE.c.name).in_(bindparam("b_keys", expanding=True)))


def _save(dialect: Any) -> Any:
    statement = dialect.insert(SHAPE)
    return Bulk(
        statement.on_conflict_do_update(index_elements=["source_id", "name"], set_={"spec": statement.excluded.spec})
    )


_SAVE = {"sqlite": _save(sqlite), "postgresql": _save(postgresql)}


def load(connection: Connection, keys: Sequence[tuple[int, str]]) -> dict[tuple[int, str], Shape]:
    """Shapes by source id and delivery name; an empty one for what was not seen before."""
    rows = connection.execute(_LOAD, {"b_keys": list(keys)})
    found = {(row.source_id, row.name): Shape.of(row.spec) for row in rows}
    return {key: found.get(key) or Shape() for key in keys}


def save(connection: Connection, shapes: dict[tuple[int, str], Shape]) -> None:
    if not shapes:
        return
    rows = [{"source_id": source, "name": name, "spec": shape.plain()} for (source, name), shape in shapes.items()]
    _SAVE[connection.dialect.name].run(connection, rows)


def of_sources(session: Session, source_ids: Collection[int]) -> dict[int, dict[str, Shape]]:
    """What the deliveries of each source have looked like so far, by name; in one query."""
    found: dict[int, dict[str, Shape]] = {}
    rows = session.exec(select(ShapeRow).where(col(ShapeRow.source_id).in_(list(source_ids)))) if source_ids else ()
    for row in rows:
        found.setdefault(row.source_id, {})[row.name] = Shape.of(row.spec)
    return found


def of_source(session: Session, source_id: int) -> dict[str, Shape]:
    """A source's shapes by delivery name."""
    return {
        row.name: Shape.of(row.spec) for row in session.exec(select(ShapeRow).where(ShapeRow.source_id == source_id))
    }
