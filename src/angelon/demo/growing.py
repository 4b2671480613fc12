"""Makes a demo large: its thirty days once more and once more, each time for other customers and some other month.

For looking at how pages and queries behave with a million sends. What is copied is settled, so that nothing goes out.
"""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import Connection, Table, func, text
from sqlalchemy import select as core_select
from sqlmodel import SQLModel

from angelon.db import tables
from angelon.db.database import Database
from angelon.db.derived import counting

MONTHS = 12
"""Over how many spans of thirty days the copies are spread, the newest today's."""
A_CHUNK = 40
"""Copies that one transaction makes."""

APART = 100_000
"""What the numbers of two copies of one order or customer lie apart."""

_ID = "substr({c}, 1, length({c}) - 4) || printf('%04d', n.k)"
"""As long as an id is: what belongs to a send shall take as much room as it does in a store."""
_OTHER = "{c} || '-' || n.k"
_KEY = (
    "CASE WHEN {c} LIKE 'd:%-%-%-%-%' OR substr({c}, 1, 1) = '>' "  # a UUID, or what tells one that follows
    f"THEN substr({{c}}, 1, 2) || printf('o%04x', n.k) || substr({{c}}, 8) ELSE {_OTHER} END"
)
_NUMBER = "{c} + n.k * :apart"
_EARLIER = "{c} - ((n.k % :months) * 2592000 + (n.k * 7919) % 86400) * 1000000"
_STATE = "CASE WHEN {c} IN ('scheduled', 'retrying', 'sending') THEN 'sent' ELSE {c} END"
_MADE: dict[str, dict[str, str]] = {
    "contact": {
        "id": _NUMBER,
        "identity": "n.k || '.' || {c}",
        "email": "CASE WHEN {c} = '' THEN '' ELSE n.k || '.' || {c} END",
        "first_seen": _EARLIER,
    },
    "order": {
        "id": _NUMBER,
        "reference": _OTHER,
        "number": _OTHER,
        "placed_at": _EARLIER,
        "last_event_at": _EARLIER,
        "contact_id": _NUMBER,
    },
    "delivery": {"id": _ID, "received_at": _EARLIER, "body_hash": _ID},
    "event": {
        "id": _ID,
        "delivery_id": _ID,
        "delivery_key": _KEY,
        "received_at": _EARLIER,
        "parent_id": _ID,
        "planned_at": "coalesce({t}.planned_at, {t}.received_at) - ((n.k % :months) * 2592000) * 1000000",
        "order_id": _NUMBER,
        "pinned": "0",
        "decide_at": "NULL",
    },
    "send": {
        "id": _ID,
        "event_id": _ID,
        "order_id": _NUMBER,
        "recipient": "CASE WHEN {c} LIKE '%@%' THEN n.k || '.' || {c} ELSE {c} END",
        "created_at": _EARLIER,
        "due_at": _EARLIER,
        "first_try_at": _EARLIER,
        "settled_at": "coalesce({t}.settled_at, {t}.due_at) - ((n.k % :months) * 2592000) * 1000000",
        "state": _STATE,
        "lease_until": "NULL",
        "fallback_at": "NULL",
        "instead_of": _ID,
        "reference": "CASE WHEN {c} = '' THEN '' ELSE {c} || '-' || n.k END",
    },
    "content": {"send_id": _ID},
    "attempt": {"id": "NULL", "send_id": _ID, "began_at": _EARLIER, "ended_at": _EARLIER},
}
"""For each table the columns that a copy has otherwise: `{c}` is the column, `{t}` the table, `n.k` the copy."""


def grow(database: Database, sends: int, told: Callable[[int, int], None] = lambda done, of: None) -> int:
    """Copies the demo until it has about so many sends; says how many there are. `told` hears how far it is.

    Only for SQLite, for a demo that nobody has worked in, while nothing else runs on it.
    """
    count = core_select(func.count()).select_from(tables.SendRow)
    with database.engine.connect().execution_options(angelon_write=True) as connection:
        with connection.begin():
            counting.unwatch(connection)  # it is counted at once at the end
            own = connection.execute(count).scalar_one()
            for name in _MADE:
                kept = f'CREATE TEMP TABLE "own_{name}" AS SELECT * FROM main."{name}"'  # noqa: S608 - our own names
                connection.exec_driver_sql(kept)
        copies = max(0, round(sends / own) - 1) if own else 0
        for low in range(1, copies + 1, A_CHUNK):
            high = min(low + A_CHUNK - 1, copies)
            with connection.begin():
                for name, columns in _MADE.items():
                    _copy(connection, SQLModel.metadata.tables[name], columns, low, high)
            told(high, copies)
        with connection.begin():
            counting.watch(connection)
            counting.rebuild(connection)
            counting.count_decisions(connection)
            for name in _MADE:
                connection.exec_driver_sql(f'DROP TABLE temp."own_{name}"')
            return int(connection.execute(count).scalar_one())


def _copy(connection: Connection, table: Table, made: dict[str, str], low: int, high: int) -> None:
    """Copies the rows that the demo began with, for each number from `low` to `high`."""
    names = [column.name for column in table.columns]
    values = [made.get(name, "{c}").format(c=f'own."{name}"', t="own") for name in names]
    columns = ", ".join('"' + name + '"' for name in names)
    given = {"low": low, "high": high, "apart": APART, "months": MONTHS}
    used = {
        name: value for name, value in given.items() if any(f":{name}" in one for one in [*values, ":low", ":high"])
    }
    copies = "WITH RECURSIVE n(k) AS (SELECT :low UNION ALL SELECT k + 1 FROM n WHERE k < :high)"
    rows = f'SELECT {", ".join(values)} FROM n, temp."own_{table.name}" AS own'  # noqa: S608 - our own names
    statement = f'{copies} INSERT INTO main."{table.name}" ({columns}) {rows}'
    connection.execute(text(statement), used)
