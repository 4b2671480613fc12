"""What providers have answered to the last test by each gateway: its id and its status are chosen in it."""

from __future__ import annotations

import datetime as dt
from typing import Any

import orjson
from sqlalchemy import Connection
from sqlalchemy.dialects import postgresql, sqlite
from sqlmodel import Session, col, select

from angelon.core.payload.redact import redacted
from angelon.db.tables import GatewayRow, TestAnswerRow, table_of

ANSWERS = table_of(TestAnswerRow)
MOST = 20_000
"""Bytes of an answer that is kept."""


def keep(connection: Connection, gateway_id: int, body: bytes, at: dt.datetime) -> None:
    """Keeps an answer that is a JSON object or list, without what is secret by its name; `at` is aware."""
    try:
        found = orjson.loads(body) if len(body) <= MOST else None
    except orjson.JSONDecodeError:
        found = None
    if not isinstance(found, dict | list):
        return
    text = orjson.dumps(redacted(found)).decode()
    dialect = postgresql if connection.dialect.name == "postgresql" else sqlite
    statement = dialect.insert(ANSWERS).values(gateway_id=gateway_id, at=at, body=text)
    same = {"at": statement.excluded.at, "body": statement.excluded.body}
    connection.execute(statement.on_conflict_do_update(index_elements=["gateway_id"], set_=same))


def of(session: Session, gateway_id: int) -> tuple[dt.datetime, Any] | None:
    """When it was, and the JSON value; None where no test was answered."""
    row = session.get(TestAnswerRow, gateway_id)
    return (row.at, orjson.loads(row.body)) if row is not None else None


def forget(connection: Connection, store_id: int) -> None:
    """Takes away those of a store, as they may name who a test went to: the next test brings another."""
    gateways = select(col(GatewayRow.id)).where(GatewayRow.store_id == store_id)
    connection.execute(ANSWERS.delete().where(ANSWERS.c.gateway_id.in_(gateways)))
