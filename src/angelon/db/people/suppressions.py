"""Addresses that must not be written to."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Sequence

from sqlalchemy import Connection, bindparam, insert, update
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.planning.permission import NOBODY, scoped
from angelon.db.lists import contains, older_than
from angelon.db.tables import SuppressionRow, table_of

SUPPRESSION = table_of(SuppressionRow)
_AMONG = core_select(SUPPRESSION.c.address_key, SUPPRESSION.c.scope, SUPPRESSION.c.why, SUPPRESSION.c.origin).where(
    SUPPRESSION.c.store_id == bindparam("b_store"), SUPPRESSION.c.address_key.in_(bindparam("b_keys", expanding=True))
)


def among(connection: Connection, store_id: int, address_keys: Collection[str]) -> dict[str, str]:
    """Why these keys are suppressed, by `permission.scoped`; where nobody is there, by `permission.NOBODY` too."""
    if not address_keys:
        return {}
    found = {}
    for address_key, scope, why, origin in connection.execute(
        _AMONG, {"b_store": store_id, "b_keys": list(address_keys)}
    ):
        found[scoped(address_key, scope)] = why
        if origin == "bounce":
            found[NOBODY + address_key] = why
    return found


def listed(
    session: Session, store_id: int, words: str = "", limit: int = 200, after: tuple[dt.datetime, int] | None = None
) -> list[SuppressionRow]:
    """Newest first; those that come after one (its time and id)."""
    statement = select(SuppressionRow).where(SuppressionRow.store_id == store_id)
    for word in words.split()[:4]:
        statement = statement.where(contains(word, col(SuppressionRow.address_key)))
    if after is not None:
        statement = statement.where(older_than(col(SuppressionRow.since), col(SuppressionRow.id), after))
    return list(
        session.exec(statement.order_by(col(SuppressionRow.since).desc(), col(SuppressionRow.id).desc()).limit(limit))
    )


def add(
    session: Session,
    store_id: int,
    address_key: str,
    why: str,
    now: dt.datetime,
    scope: str = "",
    origin: str = "person",
) -> bool:
    """Adds an address; says whether it was new. One that is there keeps its date and gets the new reason."""
    row = session.exec(
        select(SuppressionRow).where(
            SuppressionRow.store_id == store_id,
            SuppressionRow.address_key == address_key,
            SuppressionRow.scope == scope,
        )
    ).first()
    if row is not None:
        row.why, row.origin = why, origin
        return False
    made = SuppressionRow(store_id=store_id, address_key=address_key, scope=scope, why=why, origin=origin, since=now)
    session.add(made)
    session.flush()
    return True


def add_many(
    connection: Connection, store_id: int, wanted: Sequence[tuple[str, str, str]], now: dt.datetime, origin: str
) -> set[tuple[str, str]]:
    """Adds addresses (key, why, scope); gives those (key, scope) that were new. Those that are there keep their date
    and get the new reason.
    """
    last = {(key, scope): why for key, why, scope in wanted}
    keys = sorted({key for key, _ in last})
    found = core_select(SUPPRESSION.c.address_key, SUPPRESSION.c.scope).where(
        SUPPRESSION.c.store_id == store_id, SUPPRESSION.c.address_key.in_(keys)
    )
    there = {(key, scope) for key, scope in connection.execute(found)}
    new = [one for one in last if one not in there]
    same = {"store_id": store_id, "origin": origin, "since": now}
    rows = [{**same, "address_key": key, "scope": scope, "why": last[key, scope]} for key, scope in new]
    if rows:
        connection.execute(insert(SUPPRESSION), rows)
    changed = [
        {"b_key": key, "b_scope": scope, "why": last[key, scope]} for key, scope in there if (key, scope) in last
    ]
    if changed:
        this = (SUPPRESSION.c.address_key == bindparam("b_key"), SUPPRESSION.c.scope == bindparam("b_scope"))
        again = update(SUPPRESSION).where(SUPPRESSION.c.store_id == store_id, *this)
        connection.execute(again.values(why=bindparam("why"), origin=origin), changed)
    return set(new)


def lift(session: Session, store_id: int, address_key: str, scopes: Collection[str], origins: Collection[str]) -> int:
    """Takes an address's suppressions of these scopes off, those that come from one of these origins; says how many."""
    rows = session.exec(
        select(SuppressionRow).where(
            SuppressionRow.store_id == store_id,
            SuppressionRow.address_key == address_key,
            col(SuppressionRow.scope).in_(list(scopes)),
            col(SuppressionRow.origin).in_(list(origins)),
        )
    ).all()
    for row in rows:
        session.delete(row)
    return len(rows)


def of_address(session: Session, store_id: int, address_key: str) -> list[SuppressionRow]:
    return list(
        session.exec(
            select(SuppressionRow).where(SuppressionRow.store_id == store_id, SuppressionRow.address_key == address_key)
        )
    )


def drop(session: Session, store_id: int, suppression_id: int) -> str:
    """Takes an address off; gives its key, or nothing where it was not there."""
    row = session.get(SuppressionRow, suppression_id)
    if row is None or row.store_id != store_id:
        return ""
    session.delete(row)
    return row.address_key
