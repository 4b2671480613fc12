"""What customers have said about being written to, with when, where and which words: the newest counts."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection

from sqlalchemy import ColumnElement, Connection, Table, bindparam, func, insert, or_
from sqlalchemy import select as core_select
from sqlmodel import Session, col, select

from angelon.core.planning.permission import Consent
from angelon.db.tables import ConsentRow, table_of

CONSENT = table_of(ConsentRow)
_NEWEST = (
    core_select(func.max(CONSENT.c.id))
    .where(CONSENT.c.store_id == bindparam("b_store"), CONSENT.c.address_key.in_(bindparam("b_keys", expanding=True)))
    .group_by(CONSENT.c.address_key, CONSENT.c.channel)
)
_AMONG = core_select(CONSENT).where(CONSENT.c.id.in_(_NEWEST))


def among(connection: Connection, store_id: int, address_keys: Collection[str]) -> dict[tuple[str, str], Consent]:
    """The newest consent of these addresses, by channel and address key."""
    if not address_keys:
        return {}
    rows = connection.execute(_AMONG, {"b_store": store_id, "b_keys": list(address_keys)})
    return {(row.channel, row.address_key): Consent(row.granted, row.at, row.given_at, row.words) for row in rows}


def note(
    connection: Connection,
    store_id: int,
    address_key: str,
    channel: str,
    granted: bool,
    where: str,
    words: str,
    by: str,
    now: dt.datetime,
) -> None:
    """Keeps what somebody has said; what they said before is kept, too."""
    connection.execute(
        insert(CONSENT),
        {
            "store_id": store_id,
            "address_key": address_key,
            "channel": channel,
            "granted": granted,
            "at": now,
            "given_at": where[:300],
            "words": words[:2000],
            "noted_by": by[:100],
        },
    )


def of(table: Table, address_keys: Collection[str]) -> ColumnElement[bool]:
    """Whether a row is about one of these addresses, be it for one message alone."""
    column = table.c.address_key
    return or_(column.in_(list(address_keys)), *(column.startswith(f"{key}#", autoescape=True) for key in address_keys))


def listed(session: Session, store_id: int, address_keys: Collection[str]) -> list[ConsentRow]:
    """All that was said about these addresses, of one message alone too, newest first."""
    statement = select(ConsentRow).where(ConsentRow.store_id == store_id, of(CONSENT, address_keys))
    return list(session.exec(statement.order_by(col(ConsentRow.id).desc()).limit(200)))
