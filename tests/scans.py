"""A law over all tests: no statement goes through all rows of a table that grows with what a shop sends.

Whatever SQLite is asked is explained to it once (EXPLAIN QUERY PLAN); rows are those that it would go through. What may
read all is named here, with its reason.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, event

GROWING = frozenset(
    [
        *("event", "delivery", "order", "order_alias", "contact", "contact_tag", "contact_value", "send", "attempt"),
        *("content", "archived", "parcel", "parcel_line", "question", "inquiry", "document", "suppression", "consent"),
        *("send_count", "decision_count", "event_count", "change", "shop_table_item"),
    ]
)
OF_ALL = frozenset(("ix_event_order_id", "ix_event_parent_id", "ix_event_source", "ix_event_type"))
"""Partial indexes that have nearly all rows, and those that are as long as their tables."""
MAY = {
    "db/derived/counting.py": "counts anew, where a migration or a person asks for it",
    "db/derived/counts.py": "rows of a day, not of a send",
    "db/derived/searching.py": "fills the index anew, a part at a time",
    "db/log/sent_files.py": "at night, outside writes",
    "db/log/page_patterns.py": "at night, outside writes",
    "db/upkeep/clock_jumps.py": "where the clock was set back",
    "demo/filling.py": "makes the demo",
    "demo/growing.py": "makes the demo larger",
    "engine/exports/": "gives out everything",
    "engine/moving.py": "takes everything along",
    "engine/past/customers_as_of.py": "a rehearsal of a span, which asks for all of it",
    "cli/": "commands that look at everything",
    "consents.py": "few have said something; what they said of one message is known by how its key begins",
    "personal.py:collect": "the same",
    "personal.py:erase": "the same",
    "_from_corrections": "what was done by hand with single sends",
    "documents.py:listed": "its search looks at so many of the newest, which the plan does not say",
    "events.py:unnamed": "the same",
    "newest_of_customers": "the newest orders first, then all: where fewer customers have those than are asked for",
    "metrics.py:handler_calls": "the first of what an index has (`each_once`) is one look, which the plan does not say",
    "inquiries.py:tallies": "the same",
    "found_to": "who is erased, outside of the write",
    "count_others": "a rehearsal of a span",
    "give_meaning": "changes them all",
    "rename": "changes them all",
    "in_span": "a rehearsal of a span; it ends with the newest that are asked for",
}
_SOURCE = str(Path(__file__).parents[1] / "src" / "angelon")
_SEEN: dict[str, str] = {}
_LOOKS = re.compile(r"(SCAN|SEARCH) (\w+)(?: USING (?:COVERING )?INDEX (\w+)(?: \((.*)\))?)?$")
_WIDE = re.compile(r"(?:store_id|source_id|type|kind|route_id|gateway_id|message_id)=\?")


def watch(engine: Engine) -> list[str]:
    """What this engine is asked that goes through too much; filled as it is asked."""
    found: list[str] = []

    @event.listens_for(engine, "before_cursor_execute")
    def look(connection: Any, _cursor: Any, statement: str, parameters: Any, _context: Any, many: bool) -> None:
        said = _SEEN.get(statement)
        if said is None:
            key = re.sub(r"\?(?:, \?)+", "?", statement)  # however many values are asked for
            if key not in _SEEN:
                _SEEN[key] = ""
                if statement.split(None, 1)[0] in ("SELECT", "UPDATE", "DELETE", "WITH", "INSERT"):
                    _SEEN[key] = _goes_through(connection, statement, parameters[0] if many else parameters)
            said = _SEEN[statement] = _SEEN[key]
        if said:
            found.append(said)

    return found


def _goes_through(connection: Any, statement: str, parameters: Any) -> str:
    caller = _caller()
    if caller is None or any(part in caller for part in MAY):
        return ""
    names = {name: table for table, name in re.findall(r'(?:FROM|JOIN) "?(\w+)"?(?: AS)? (\w+)', statement)}
    try:
        rows = connection.connection.dbapi_connection.execute(f"EXPLAIN QUERY PLAN {statement}", parameters).fetchall()
    except Exception:  # a statement that is refused: the test says so
        return ""
    sorts = any("TEMP B-TREE FOR ORDER" in row[3] or "FOR GROUP" in row[3] for row in rows)
    ends = " LIMIT " in statement and not sorts
    for row in rows:
        how = _LOOKS.match(row[3])
        if how is None or names.get(how[2], how[2]) not in GROWING:
            continue
        if how[1] == "SCAN":
            partial = (
                how[3] and how[3] not in OF_ALL and not how[3].startswith("sqlite_") and _partial(connection, how[3])
            )
            wrong = not partial and not (how[3] and ends)
        else:
            wrong = all(_WIDE.fullmatch(one) for one in (how[4] or "").split(" AND ")) and not ends
            wrong = wrong and not _partial(connection, how[3])
        if wrong:
            return f"{caller}: {row[3]}: {' '.join(statement.split())[:600]}"
    return ""


def _partial(connection: Any, index: str | None) -> bool:
    """Whether an index has a part of the rows alone."""
    if index is None or index in OF_ALL:
        return False
    query = "SELECT sql LIKE '% WHERE %' FROM sqlite_master WHERE name = ?"
    row = connection.connection.dbapi_connection.execute(query, (index,)).fetchone()
    return bool(row and row[0])


def _caller() -> str | None:
    """The function of ours that asks; None where a test does."""
    frame: Any = sys._getframe(2)
    while frame is not None:
        file = frame.f_code.co_filename
        if file.startswith(_SOURCE) and not file.endswith(("bulk.py", "database.py", "bodies.py")):
            return f"{file.removeprefix(_SOURCE)[1:]}:{frame.f_code.co_name}"
        frame = frame.f_back
    return None
