"""Tables of the shop's own: made from a file, replaced by another, filled up, deleted."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from slugify import slugify
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.sheets import guess, read_rows
from angelon.core.values import show
from angelon.db.rows import ShopTableItem, ShopTableRecord
from angelon.db.setup import shop_tables
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.installation import Installation
from angelon.engine.unit import Actor, Work, unit

CREDENTIALS = "table"
"""The kind of the credentials by which a table is fetched."""
MOST_ROWS = 50_000
"""Rows of a table that is looked up, all of which are held in memory."""
MOST_ONCE = 500_000
MOST_BYTES = 19_000_000
A_PART = 500
"""Rows of one transaction."""
_KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z")


@dataclass(frozen=True)
class Changes:
    """What a file changed."""

    new: int = 0
    changed: int = 0
    gone: int = 0

    def __bool__(self) -> bool:
        return bool(self.new or self.changed or self.gone)

    def __str__(self) -> str:
        return f"{self.new:,} new, {self.changed:,} changed, {self.gone:,} gone"


@dataclass(frozen=True)
class Content:
    """A file as a table: the names of its columns, and its rows by their first cell."""

    columns: list[str]
    rows: dict[str, list[str]]


def most_rows(table: ShopTableRecord) -> int:
    return MOST_ONCE if table.once else MOST_ROWS


def read_file(name: str, data: bytes, most: int, items_at: str = "$") -> Content:
    """A file's rows by their first column, of JSON those at `items_at`. Raises Invalid with what is wrong with the
    first row that does not do.
    """
    if not data.strip():
        raise _invalid("The file is empty.", "Choose one with a heading and rows.")
    if len(data) > MOST_BYTES:
        raise _invalid(f"The file is larger than {MOST_BYTES // 1_000_000} MB.", "Split it.")
    columns: list[str] = []
    rows: dict[str, list[str]] = {}
    form = guess(name, data).model_copy(update={"items_at": items_at})
    for row in read_rows(form, io.BytesIO(data)):
        if row.problem or row.payload is None:
            raise _invalid(f"Row {row.number}: {row.problem}", "Correct it, and upload the file again.")
        cells = [show(cell).strip() if cell is not None else "" for cell in row.payload.values()]
        columns = columns or _columns(list(row.payload))
        if not cells or not cells[0]:
            raise _invalid(f"Row {row.number} has nothing in the column “{columns[0]}”.", "Fill it in.")
        if cells[0] in rows:
            raise _invalid(f"Row {row.number}: “{cells[0][:60]}” occurs twice.", "Each row needs a key of its own.")
        rows[cells[0]] = cells
        if len(rows) > most:
            raise _invalid(f"The file has over {most:,} rows.", "Keep only what is looked up.")
    if not rows:
        raise _invalid("The file has no rows.", "Add some under the heading.")
    return Content(columns, rows)


def _columns(headings: Sequence[str]) -> list[str]:
    """Columns as texts and steps name them: `Net price` is `net_price`."""
    made: list[str] = []
    for heading in headings:
        name = slugify(heading, separator="_")[:40] or f"column_{len(made) + 1}"
        name = name if name[0].isalpha() else f"c_{name}"
        made.append(name if name not in made else f"{name}_{len(made) + 1}")
    return made


def _invalid(what: str, hint: str = "", where: str = "file") -> Invalid:
    return Invalid([Problem(where, what, hint)])


def create(
    installation: Installation, store_id: int, name: str, once: bool, file: str, data: bytes, actor: Actor
) -> str:
    """A table from a file; gives its key. Raises Invalid."""
    key = slugify(name, separator="_")[:40]
    if not _KEY.match(key):
        raise _invalid(f"“{name[:60]}” can’t name a table.", "Begin it with a letter.", "name")
    content = read_file(file, data, MOST_ONCE if once else MOST_ROWS)
    now = installation.clock.now()
    with unit(installation, store_id, actor) as work:
        if shop_tables.get(work.connection, store_id, key) is not None:
            raise _invalid(f"There is a table “{key}” already.", "Choose another name, or replace that one.", "name")
        made = {"store_id": store_id, "key": key, "name": name.strip()[:100], "columns": content.columns}
        table_id = shop_tables.add(work.connection, **made, once=once, changed_at=now)
        work.record("created", "table", key, None, {"rows": len(content.rows), "columns": content.columns})
    _fill(installation, store_id, table_id, key, content, once, actor)
    return key


def replace(installation: Installation, store_id: int, key: str, file: str, data: bytes, actor: Actor) -> Changes:
    """Another content for a table; of one that is given out, more rows. It holds all at once when all is stored. Raises
    Invalid, NotFound.
    """
    with installation.database.reading() as session:
        table = shop_tables.get(session.connection(), store_id, key)
    if table is None:
        raise NotFound("There is no such table any more.")
    return hold_content(installation, store_id, key, read_file(file, data, most_rows(table)), actor)


def hold_content(
    installation: Installation, store_id: int, key: str, content: Content, actor: Actor, careful: bool = False
) -> Changes:
    """The same with what was read. `careful` refuses what nobody looks at before it holds, and which lacks columns of
    the table or has less than half its rows. Raises Invalid, NotFound.
    """
    with installation.database.reading() as session:
        table = shop_tables.get(session.connection(), store_id, key)
        if table is None:
            raise NotFound("There is no such table any more.")
        number = shop_tables.counts(session.connection(), [table.id]).get(table.id, (0, 0))[0]
    if table.once and content.columns != table.columns:
        what = f"The file has the columns {', '.join(content.columns)}, and the table {', '.join(table.columns)}."
        raise _invalid(what, "Give the rows the same columns, or make another table.")
    _refuse_lost_columns(installation.setups.get(store_id), key, content.columns)
    if careful:
        _refuse_less(table, number, content)
    return _fill(installation, store_id, table.id, key, content, table.once, actor)


def _refuse_less(table: ShopTableRecord, number: int, content: Content) -> None:
    """Raises Invalid where much of a table would be gone."""
    lost = [column for column in table.columns if column not in content.columns]
    hint = "The table is as it was. Fetch it by hand and accept that where it is right."
    if lost:
        raise _invalid(f"The column “{lost[0]}” is missing.", hint)
    if not table.once and len(content.rows) * 2 < number:
        raise _invalid(f"It has {len(content.rows):,} rows, and the table {number:,}.", hint)


def _refuse_lost_columns(live: LiveSetup, key: str, columns: Sequence[str]) -> None:
    """Raises Invalid where a mapping looks up a column that the new content lacks."""
    lost = sorted(used_columns(live, key) - set(columns))
    if lost:
        what = f"The file has no column “{lost[0]}”, which a mapping looks up."
        raise _invalid(what, "Add the column, or change the mapping first.")


def used_columns(live: LiveSetup, key: str) -> set[str]:
    """The columns of a table that mappings look up."""
    found: set[str] = set()
    for source in live.setup.sources.values():
        text = source.model_dump_json()
        found |= set(re.findall(rf'"table":\s*"{re.escape(key)}\.([a-z0-9_]+)"', text))
    return found


def _fill(
    installation: Installation, store_id: int, table_id: int, key: str, content: Content, once: bool, actor: Actor
) -> Changes:
    """Stores rows in parts, and then has them hold, in one short transaction."""
    database = installation.database
    with database.reading() as session:
        held = shop_tables.hold(session.connection(), table_id)
        if held is None:
            raise _invalid("Somebody else deleted this table just now.", "Make it again, and upload then.")
        new, counts = compare(session.connection(), held, content)
    if held.version >= 0 and held.columns == content.columns and not counts:
        return counts
    version = 0 if once else max(int(installation.clock.now().timestamp()), held.version + 1)
    rows = new if once else list(content.rows.items())
    try:
        for start in range(0, len(rows), A_PART):
            with database.connection(purpose="table") as connection:
                shop_tables.add_items(connection, table_id, version, rows[start : start + A_PART])
        with unit(installation, store_id, actor) as work:
            table = shop_tables.hold(work.connection, table_id)
            if table is None or table.version != held.version:
                raise _invalid("Somebody else replaced this table just now.", "Look at it, and upload again.")
            changes = {"version": version, "columns": content.columns, "changed_at": work.now}
            shop_tables.change(work.connection, table_id, **changes)
            work.record("table filled", "table", key, None, {"rows": len(content.rows), "changes": str(counts)})
            work.change_setup()
    except IntegrityError:
        raise _invalid("Somebody else fills this table just now.", "Upload the file again in a moment.") from None
    if not once:
        _sweep(installation, table_id, version)
    return counts


def compare(
    connection: Connection, table: ShopTableRecord, content: Content
) -> tuple[list[tuple[str, list[str]]], Changes]:
    """The rows that a table does not have, and what a content would change in it."""
    known = dict(_items(connection, table.id, table.version))
    new = [row for row in content.rows.items() if row[0] not in known]
    if table.once:
        return new, Changes(len(new))
    changed = sum(1 for name, cells in content.rows.items() if name in known and known[name] != cells)
    return new, Changes(len(new), changed, len(known.keys() - content.rows.keys()))


def _items(connection: Connection, table_id: int, version: int) -> Iterator[tuple[str, list[str]]]:
    after = 0
    while part := shop_tables.items(connection, table_id, version, after):
        after = part[-1].id
        yield from ((row.key, row.cells) for row in part)


def _sweep(installation: Installation, table_id: int, but: int | None) -> None:
    """Takes rows away in parts."""
    while True:
        with installation.database.connection(purpose="table") as connection:
            if shop_tables.drop_items(connection, table_id, A_PART, but) < A_PART:
                return


def set_low(work: Work, key: str, low: int) -> None:
    """From how few rows on somebody is told. Raises NotFound, Invalid."""
    table = shop_tables.get(work.connection, work.store_id, key)
    if table is None:
        raise NotFound("There is no such table any more.")
    if not 0 <= low <= 1_000_000:
        raise _invalid("This is no number of rows.", "Write it like 10.", "low")
    shop_tables.change(work.connection, table.id, low=low)


def delete(installation: Installation, store_id: int, key: str, actor: Actor) -> None:
    """Deletes a table that nothing uses. What was given out stays with its sends. Raises NotFound, Invalid."""
    live = installation.setups.get(store_id)
    users = uses(live, key)
    if users:
        raise _invalid(f"It is used by {', '.join(users)}.", "Change that first.")
    with unit(installation, store_id, actor) as work:
        table = shop_tables.get(work.connection, store_id, key)
        if table is None:
            raise NotFound("There is no such table any more.")
        if shop_tables.given(work.connection, table.id, 1):
            raise _invalid("Rows of it were given out, which their sends name.", "Remove the free rows instead.")
        shop_tables.change(work.connection, table.id, version=-1, due_at=None)
        work.record("deleted", "table", key, None, None)
        work.change_setup()
    _sweep(installation, table.id, None)
    with installation.database.writing() as session:
        installation.vault.drop(session, CREDENTIALS, table.id)
        shop_tables.drop(session.connection(), table.id)


def remove_free(installation: Installation, store_id: int, key: str, actor: Actor) -> None:
    """Removes the rows of a table that nobody was given. Raises NotFound."""
    with unit(installation, store_id, actor) as work:
        table = shop_tables.get(work.connection, store_id, key)
        if table is None or not table.once:
            raise NotFound("There is no such table any more.")
        work.record("free rows removed", "table", key, None, None)
    _sweep(installation, table.id, None)


def uses(live: LiveSetup, key: str) -> list[str]:
    """What uses a table, in words."""
    found = [f"the message “{one.name}”" for one in live.setup.messages.values() if one.gives == key]
    for source in live.setup.sources.values():
        if re.search(rf'"table":\s*"{re.escape(key)}\.', source.model_dump_json()):
            found.append(f"the mapping of {source.name}")
    return found


def rows_out(table: ShopTableRecord, rows: Sequence[ShopTableItem]) -> Iterator[Mapping[str, Any]]:
    """Rows as a file has them."""
    for row in rows:
        yield {
            **dict(zip(table.columns, row.cells, strict=False)),
            **({"given_to": row.send_id or ""} if table.once else {}),
        }
