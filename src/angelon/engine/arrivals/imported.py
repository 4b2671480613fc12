"""What came of the rows of a file: which were not imported, and whose customers were told."""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from angelon.core.fetching import called
from angelon.core.sheets import OWN_ROWS, Row, read_rows
from angelon.core.specs import Source
from angelon.core.specs.file_form import FileForm
from angelon.core.tables_out import inert
from angelon.core.values import show
from angelon.db.database import Database
from angelon.db.log import orders, sends
from angelon.db.setup.live_setup import LiveSetup

AT_ONCE = 500

OUTCOME = ("told", "told_at", "told_by", "told_through")


def columns_of(form: FileForm, data: bytes) -> list[str]:
    """The columns of a table; of JSON the keys of its first order."""
    return columns_in(read_rows(form, io.BytesIO(data)))


def columns_in(rows: Iterable[Row]) -> list[str]:
    first: dict[str, Any] = next((row.payload for row in rows if row.payload is not None), {})
    return [name for name in first if name != OWN_ROWS]


def wrong_rows(form: FileForm, data: bytes, errors: Sequence[Sequence[Any]]) -> Iterator[list[dict[str, Any]]]:
    """The rows that were not imported, as they are in the file, with why: to be mended and uploaded again. `errors` has
    the number of the first row of an order, why, and how many rows it has.
    """
    why = {number + more: problem for number, problem, size in errors for more in range(size)}
    for part in _parts(read_rows(form.model_copy(update={"group_by": ""}), io.BytesIO(data))):
        yield [{"problem": why[row.number], **_flat(row.payload)} for row in part if row.number in why]


def told(
    database: Database, live: LiveSetup, source: Source, form: FileForm, data: bytes
) -> Iterator[list[dict[str, Any]]]:
    """The file's rows with whether, when and by which messages each order's customer was told."""
    names = {key: message.name for key, message in live.setup.messages.items()}
    for part in _parts(read_rows(form, io.BytesIO(data))):
        references = {row.number: called(source, row.payload) for row in part if row.payload is not None}
        with database.reading() as session:
            wanted = [one for one in references.values() if one]
            known = orders.of_source(session.connection(), live.source_ids[source.key], wanted)
            sent = sends.told(session.connection(), list(known.values()))
        for_row = {number: sent.get(known.get(reference, 0), []) for number, reference in references.items()}
        yield [line for row in part for line in _told_rows(row, for_row.get(row.number, []), live, names)]


def _told_rows(row: Row, sent: Sequence[Any], live: LiveSetup, names: Mapping[str, str]) -> list[dict[str, Any]]:
    keys = [live.message_key(one.message_id) for one in sent]
    outcome = {
        "told": "yes" if sent else "no",
        "told_at": max(one.settled_at for one in sent).isoformat() if sent else "",
        "told_by": "; ".join(dict.fromkeys(names.get(key, key) for key in keys)),
        "told_through": "; ".join(dict.fromkeys(one.channel for one in sent)),
    }
    payloads = row.payload.get(OWN_ROWS, [row.payload]) if row.payload is not None else []
    return [{**_flat(one), **outcome} for one in payloads]


def _flat(payload: Any) -> dict[str, Any]:
    return {name: value for name, value in (payload or {}).items() if name != OWN_ROWS}


def _parts(rows: Iterator[Row]) -> Iterator[list[Row]]:
    while part := list(itertools.islice(rows, AT_ONCE)):
        yield part


def write_told(file: Path, database: Database, live: LiveSetup, source: Source, form: FileForm, data: bytes) -> None:
    """Writes a file's rows with what was told, at once under its name. Raises OSError, Invalid."""
    columns = [*columns_of(form, data), *OUTCOME]
    part = file.with_name(f".{file.name}")
    with part.open("w", newline="", encoding="utf-8") as out:
        rows = csv.writer(out)
        rows.writerow(columns)
        for lines in told(database, live, source, form, data):
            rows.writerows([inert(show(line.get(name, ""))) for name in columns] for line in lines)
    part.replace(file)
