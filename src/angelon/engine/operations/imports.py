"""Files whose rows are orders: kept, looked at, taken, stopped; what came of each row as a file."""

from __future__ import annotations

import io
import itertools
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session

from angelon.core.fetching import item_of
from angelon.core.planning.plan import work_out
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.reading import Reading
from angelon.core.sheets import Row, guess, read_rows
from angelon.core.specs import Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.file_form import FileForm, Folder
from angelon.db.log import fetches, imports
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.imported import columns_in
from angelon.engine.arrivals.importing import row_problem, store_file
from angelon.engine.installation import Installation
from angelon.engine.operations.sources import current
from angelon.engine.unit import Actor, Work

MOST_BYTES = 19_000_000
"""Bytes of a file that is uploaded; larger ones are put into the folder."""
LOOKED_AT = 2000
"""Orders of a file that are compared with what is known before it is taken."""
SHOWN = 20
SAMPLES = 3


@dataclass(frozen=True)
class Shown:
    """One order of a file as it would be taken."""

    row: Row
    problem: str
    news: str
    """`new`, `changed`, `known`; empty where it is not taken."""
    reading: Reading | None = None


@dataclass(frozen=True)
class Look:
    """What a file would bring: its first orders, and how many of the first `LOOKED_AT` are what."""

    shown: Sequence[Shown]
    counts: Mapping[str, int]
    more: bool
    """Whether the file has more orders than were compared."""
    columns: Sequence[str]


def keep(installation: Installation, store_id: int, key: str, name: str, data: bytes, actor: Actor) -> int:
    """Keeps a file, to be looked at; gives its id. Nothing of it is taken. Raises NotFound, and Invalid for a file that
    is empty or too large.
    """
    if not data.strip():
        raise Invalid([Problem("file", "The file is empty.", "Choose one with a heading and rows.")])
    if len(data) > MOST_BYTES:
        what = f"The file has {len(data) / 1e6:.0f} MB, and {MOST_BYTES // 1_000_000} MB may be uploaded."
        raise Invalid([Problem("file", what, "Split it, or put it into the source's folder.")])
    live = installation.setups.get(store_id)
    if key not in live.setup.sources:
        raise NotFound("There is no such source.")
    form, now = guess(name, data), installation.clock.now()
    return store_file(installation.database, live.source_ids[key], name, data, form, now, actor.name)


def look(session: Session, live: LiveSetup, source: Source, form: FileForm, data: bytes) -> Look:
    """What a file would bring. Raises Invalid where it can't be read so."""
    rows = list(itertools.islice(read_rows(form, io.BytesIO(data)), LOOKED_AT + 1))
    more, rows = len(rows) > LOOKED_AT, rows[:LOOKED_AT]
    problems = [row_problem(source, row) for row in rows]
    items = [item_of(source, row.payload) if not problem else None for row, problem in zip(rows, problems, strict=True)]
    source_id = live.source_ids[source.key]
    known = fetches.known(session.connection(), source_id, [item.key for item in items if item is not None])
    counts = Counter[str]()
    shown: list[Shown] = []
    for row, problem, item in zip(rows, problems, items, strict=True):
        news = ""
        if item is not None:
            was = known.get(item.key)
            news = "new" if was is None else "known" if was[0] == item.digest else "changed"
            known[item.key] = (item.digest, "")
        counts[news or "wrong"] += 1
        if len(shown) < SHOWN or (problem and counts["wrong"] <= SHOWN):
            reading = work_out(source, live.setup, row.payload)[0] if item is not None else None
            shown.append(Shown(row, problem, news, reading))
    return Look(shown, counts, more, columns_in(rows))


def reform(work: Work, key: str, import_id: int, form: FileForm) -> None:
    """Has a file that was not taken yet read in another way."""
    _open(work, key, import_id)
    imports.change(work.connection, import_id, form=form.model_dump(mode="json"))


def start(work: Work, key: str, import_id: int, quiet: bool) -> None:
    """Has a file taken. Raises Invalid where it was taken already, or no order could be told from another."""
    source = current(work, key)
    row = _open(work, key, import_id)
    if not source.knows_orders:
        what = "Neither the order's reference nor its number is mapped yet, so no order could be told from another."
        raise Invalid([Problem("file", what, "Keep its first rows as samples, and map them first.")])
    imports.change(work.connection, import_id, state=imports.WAITING, quiet=quiet)
    work.record("file taken", "source", key, None, {"file": row.name, "quiet": quiet})


def stop(work: Work, key: str, import_id: int) -> None:
    """Stops a file that is being taken: what came is kept, and the rest can be taken later."""
    row = _row(work, key, import_id)
    if row.state in imports.OPEN:
        imports.change(work.connection, import_id, state=imports.STOPPED, held_until=None, ended_at=work.now)
        work.record("file stopped", "source", key, None, {"file": row.name, "rows": row.rows})


def go_on(work: Work, key: str, import_id: int) -> None:
    """Takes on a file that was stopped or failed, from where it was left."""
    row = _row(work, key, import_id)
    if row.state not in (imports.STOPPED, imports.FAILED):
        raise Invalid([Problem("file", "This file was neither stopped nor did it fail.")])
    imports.change(work.connection, import_id, state=imports.WAITING, problem="", ended_at=None)
    work.record("file taken on", "source", key, None, {"file": row.name, "rows": row.rows})


def drop(work: Work, key: str, import_id: int) -> None:
    """Forgets a file that was only looked at."""
    _open(work, key, import_id)
    imports.drop(work.connection, import_id)


def take_from_folder(work: Work, key: str, folder: Folder | None) -> None:
    """Has files taken that are put into the source's folder, or no longer."""
    spec = current(work, key).model_dump(mode="json") | {"folder": folder.model_dump(mode="json") if folder else None}
    work.specs.save(read_spec(Source, spec))


def _row(work: Work, key: str, import_id: int) -> Any:
    row = imports.get(work.connection, work.live.source_ids.get(key, 0), import_id)
    if row is None:
        raise NotFound("There is no such file any more.")
    return row


def _open(work: Work, key: str, import_id: int) -> Any:
    row = _row(work, key, import_id)
    if row.state != imports.LOOKED_AT:
        raise Invalid([Problem("file", "This file is imported already.", "Upload it again to import it once more.")])
    return row
