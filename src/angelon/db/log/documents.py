"""Documents: numbered without gaps in the transaction that stores them, never changed; their files; what is held."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, and_, bindparam, delete, func, insert, select, union, update
from sqlalchemy.dialects import postgresql, sqlite

from angelon.db.lists import not_by_index
from angelon.db.rows import DocumentRecord, HeldDocument, row_of, rows_of
from angelon.db.tables import (
    DocumentFileRow,
    DocumentHeldRow,
    DocumentLookRow,
    DocumentRow,
    DocumentSeriesRow,
    OrderRow,
    table_of,
)

SERIES = table_of(DocumentSeriesRow)
LOOK = table_of(DocumentLookRow)
DOCUMENT = table_of(DocumentRow)
FILE = table_of(DocumentFileRow)
HELD = table_of(DocumentHeldRow)
ORDER = table_of(OrderRow)
_LISTED = [column for column in DOCUMENT.c if column.name not in ("frozen", "credited")]


MOST_BUYERS = 10_000
"""Documents of which the newest are looked through for a buyer's name."""


@dataclass(frozen=True)
class Wanted:
    """Which documents a list shows."""

    kind: str = ""
    country: str = ""
    scheme: str = ""
    text: str = ""
    """Its number, its order's number, or a part of the buyer's name (of the newest `MOST_BUYERS` documents)."""
    since: str = ""
    until: str = ""
    """Days (ISO 8601), both within."""


def _upsert(connection: Connection, table: Table) -> Any:
    dialect: Any = postgresql if connection.dialect.name == "postgresql" else sqlite
    return dialect.insert(table)


def next_number(connection: Connection, store_id: int, series: str, year: int) -> int:
    """The next number of a series, which is taken with the transaction that asks for it, or by nobody."""
    statement = _upsert(connection, SERIES).values(store_id=store_id, series=series, year=year, last=1)
    statement = statement.on_conflict_do_update(
        index_elements=["store_id", "series", "year"], set_={"last": SERIES.c.last + 1}
    )
    return int(connection.execute(statement.returning(SERIES.c.last)).scalar_one())


def add(connection: Connection, **values: Any) -> int:
    return int(connection.execute(insert(DOCUMENT).values(**values).returning(DOCUMENT.c.id)).scalar_one())


def keep_look(connection: Connection, store_id: int, digest: str, look: Mapping[str, Any]) -> None:
    statement = _upsert(connection, LOOK).values(store_id=store_id, digest=digest, look=dict(look))
    connection.execute(statement.on_conflict_do_nothing(index_elements=["store_id", "digest"]))


def look(connection: Connection, store_id: int, digest: str) -> dict[str, Any]:
    found = connection.execute(select(LOOK.c.look).where(LOOK.c.store_id == store_id, LOOK.c.digest == digest)).first()
    return dict(found.look) if found is not None else {}


def get(connection: Connection, store_id: int, document_id: int) -> DocumentRecord | None:
    where = (DOCUMENT.c.store_id == store_id, DOCUMENT.c.id == document_id)
    return row_of(DocumentRecord, connection.execute(select(DOCUMENT).where(*where)))


def any_store(connection: Connection, document_id: int) -> DocumentRecord | None:
    return row_of(DocumentRecord, connection.execute(select(DOCUMENT).where(DOCUMENT.c.id == document_id)))


def of_order(connection: Connection, order_id: int) -> list[DocumentRecord]:
    """The documents of an order, the newest first."""
    where = select(DOCUMENT).where(DOCUMENT.c.order_id == order_id)
    return rows_of(DocumentRecord, connection.execute(where.order_by(DOCUMENT.c.id.desc()).limit(200)))


def current(connection: Connection, order_id: int) -> DocumentRecord | None:
    """An order's invoice that counts: the newest that was not taken back as a whole; None where there is none."""
    where = (DOCUMENT.c.order_id == order_id, DOCUMENT.c.kind == "invoice", DOCUMENT.c.over.is_(False))
    return row_of(
        DocumentRecord, connection.execute(select(DOCUMENT).where(*where).order_by(DOCUMENT.c.id.desc()).limit(1))
    )


def credits_of(connection: Connection, document_id: int) -> list[DocumentRecord]:
    """The credit notes of an invoice, the oldest first."""
    return rows_of(
        DocumentRecord,
        connection.execute(select(DOCUMENT).where(DOCUMENT.c.corrects_id == document_id).order_by(DOCUMENT.c.id)),
    )


def end(connection: Connection, document_id: int) -> None:
    """Notes that all of an invoice was taken back."""
    connection.execute(update(DOCUMENT).where(DOCUMENT.c.id == document_id).values(over=True))


def _where(store_id: int, wanted: Wanted) -> list[Any]:
    made = [DOCUMENT.c.store_id == store_id]
    made += [DOCUMENT.c[name] == value for name in ("kind", "country", "scheme") if (value := getattr(wanted, name))]
    if wanted.since:
        made.append(DOCUMENT.c.day >= wanted.since)
    if wanted.until:
        made.append(DOCUMENT.c.day <= wanted.until)
    if wanted.text:
        newest = select(DOCUMENT.c.id, DOCUMENT.c.buyer).where(*made).order_by(DOCUMENT.c.id.desc()).limit(MOST_BUYERS)
        buyers = newest.subquery()
        orders = select(ORDER.c.id).where(ORDER.c.number == wanted.text, not_by_index(ORDER.c.store_id) == store_id)
        found = union(
            select(DOCUMENT.c.id).where(DOCUMENT.c.store_id == store_id, DOCUMENT.c.name == wanted.text),
            select(DOCUMENT.c.id).where(DOCUMENT.c.order_id.in_(orders)),
            select(buyers.c.id).where(func.lower(buyers.c.buyer).contains(wanted.text.lower(), autoescape=True)),
        )
        made.append(DOCUMENT.c.id.in_(found))
    return made


def listed(
    connection: Connection, store_id: int, wanted: Wanted, limit: int, before: int | None = None
) -> list[DocumentRecord]:
    """Documents without what is frozen of them, the newest first, with their order's number."""
    where = _where(store_id, wanted)
    if before is not None:
        where.append(DOCUMENT.c.id < before)
    statement = select(*_LISTED, ORDER.c.number.label("order_number"))
    statement = statement.outerjoin(ORDER, ORDER.c.id == DOCUMENT.c.order_id)
    return rows_of(
        DocumentRecord, connection.execute(statement.where(*where).order_by(DOCUMENT.c.id.desc()).limit(limit))
    )


def frozen(connection: Connection, store_id: int, wanted: Wanted, after: int, limit: int) -> list[DocumentRecord]:
    """Whole documents, the oldest first, for files of many."""
    where = (*_where(store_id, wanted), DOCUMENT.c.id > after)
    return rows_of(
        DocumentRecord, connection.execute(select(DOCUMENT).where(*where).order_by(DOCUMENT.c.id).limit(limit))
    )


def any_of(connection: Connection, store_id: int) -> bool:
    return connection.execute(select(DOCUMENT.c.id).where(DOCUMENT.c.store_id == store_id).limit(1)).first() is not None


def file(connection: Connection, document_id: int) -> bytes | None:
    found = connection.execute(select(FILE.c.data).where(FILE.c.document_id == document_id)).first()
    return bytes(found.data) if found is not None else None


def keep_file(connection: Connection, document_id: int, data: bytes) -> None:
    statement = _upsert(connection, FILE).values(document_id=document_id, data=data)
    connection.execute(statement.on_conflict_do_nothing(index_elements=["document_id"]))


def hold(connection: Connection, store_id: int, order_id: int, **values: Any) -> None:
    statement = _upsert(connection, HELD).values(store_id=store_id, order_id=order_id, **values)
    connection.execute(statement.on_conflict_do_update(index_elements=["order_id"], set_=values))


def let_go(connection: Connection, order_id: int) -> None:
    connection.execute(delete(HELD).where(HELD.c.order_id == order_id))


def held(connection: Connection, store_id: int, limit: int) -> list[HeldDocument]:
    """Orders whose invoice could not be made, the newest first, with their numbers."""
    statement = select(HELD, ORDER.c.number.label("order_number")).join(ORDER, ORDER.c.id == HELD.c.order_id)
    mine = statement.where(HELD.c.store_id == store_id)
    return rows_of(HeldDocument, connection.execute(mine.order_by(HELD.c.at.desc()).limit(limit)))


def held_of(connection: Connection, order_id: int) -> HeldDocument | None:
    return row_of(HeldDocument, connection.execute(select(HELD).where(HELD.c.order_id == order_id)))


_OF_ORDERS = (
    select(*_LISTED)
    .where(DOCUMENT.c.order_id.in_(bindparam("b_orders", expanding=True)))
    .order_by(and_(DOCUMENT.c.kind == "invoice", DOCUMENT.c.over.is_(False)).desc(), DOCUMENT.c.id.desc())
)


def of_orders(connection: Connection, order_ids: Collection[int]) -> dict[int, list[DocumentRecord]]:
    """The documents of orders without what is frozen of them, those that count first, the newest of them first."""
    found: dict[int, list[DocumentRecord]] = {}
    if order_ids:
        for row in rows_of(DocumentRecord, connection.execute(_OF_ORDERS, {"b_orders": list(order_ids)})):
            found.setdefault(row.order_id or 0, []).append(row)
    return found


def erase(connection: Connection, order_ids: Collection[int]) -> None:
    """Takes what says of orders for whom an invoice was wanted, and where documents went. The documents stay."""
    ids = list(order_ids)
    connection.execute(delete(HELD).where(HELD.c.order_id.in_(ids)))
    connection.execute(update(DOCUMENT).where(DOCUMENT.c.order_id.in_(ids)).values(email=""))


def forget_orders(connection: Connection, order_ids: Collection[int]) -> None:
    """Documents stay when their order goes: the law wants them kept, and they say all that they say by themselves."""
    connection.execute(update(DOCUMENT).where(DOCUMENT.c.order_id.in_(list(order_ids))).values(order_id=None))
    connection.execute(delete(HELD).where(HELD.c.order_id.in_(list(order_ids))))
