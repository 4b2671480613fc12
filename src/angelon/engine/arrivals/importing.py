"""Takes the rows of files as deliveries of their source: in parts, each stored with how far the file is taken. How many
events wait to be processed bounds how fast: an order of today does not wait behind a file.
"""

from __future__ import annotations

import datetime as dt
import io
import itertools
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import structlog
from sqlalchemy import Connection

from angelon.core.deliveries import QUIET
from angelon.core.fetching import Item, body_of, called, item_of
from angelon.core.payload.body import NotReadable
from angelon.core.problems import Invalid
from angelon.core.sheets import Row, read_rows
from angelon.core.specs.file_form import FileForm, Folder
from angelon.core.specs.source import Source
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events, imports
from angelon.db.rows import ImportRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.arrivals.fetching import refuse_unfit, take_in
from angelon.engine.arrivals.imported import write_told
from angelon.engine.clock import Clock
from angelon.engine.planner.faults import describe_fault
from angelon.engine.setups import Setups

log = structlog.get_logger()

A_PART = 200
"""Orders that one transaction stores."""
AHEAD = 500
"""Events that may wait to be processed before a file gives way."""
HELD = dt.timedelta(minutes=2)
"""For how long a part has the file for itself."""
KEPT_ERRORS = 2000
STILL = 5.0
"""Seconds since a file in a folder was last written to, when it is taken to be whole."""
MOST_BYTES = 100_000_000
"""Bytes of a file in a folder."""
FOLDER = "folder"
"""Who gave a file that was in a folder."""
TELL_EVERY, TELL_WITHIN = 30.0, dt.timedelta(days=1)
"""Seconds between looks at whether all was told; how long after a file was imported it is looked for."""
TAKING, TAKEN = "taking", "taken"
"""Where files of a folder are put while they are read, and after it."""


def row_problem(source: Source, row: Row) -> str:
    """Why a row can't be taken; empty where it can."""
    if row.problem or row.payload is None:
        return row.problem or "There is nothing in it."
    if source.knows_orders and not called(source, row.payload):
        return "It has no order reference or number where the mapping looks for it."
    try:
        refuse_unfit(source, body_of(row.payload))
    except NotReadable as error:
        return error.problem.said
    return ""


def store_file(
    database: Database, source_id: int, name: str, data: bytes, form: FileForm, now: dt.datetime, by: str
) -> int:
    """Keeps a file's bytes piece by piece, and then its row; gives its id. Nothing of it is taken by that."""
    packed = list(imports.pieces(data))
    with database.connection(purpose="import") as connection:
        made = {"source_id": source_id, "name": name[:200], "size": len(data), "created_at": now, "by": by[:200]}
        id_ = imports.add(connection, **made, state=imports.LOOKED_AT, form=form.model_dump(mode="json"))
    for number, piece in packed:
        with database.connection(purpose="import") as connection:
            imports.add_piece(connection, id_, number, piece)
    return id_


class TakenOver(RuntimeError):
    """Another process takes this file, or somebody stopped it."""


class Importer:
    """One for each process that plans; one file at a time."""

    def __init__(
        self,
        database: Database,
        setups: Setups,
        clock: Clock,
        wake: Callable[[], None] = lambda: None,
        folder: Path | None = None,
        stop: threading.Event | None = None,
    ) -> None:
        """`folder` holds a folder for each source that takes files from one, by the source's key."""
        self._database, self._setups, self._clock, self._wake = database, setups, clock, wake
        self._folder, self._stop = folder, stop or threading.Event()
        self._told: dict[Path, str] = {}
        self._tell_next = 0.0

    def run_due(self) -> int:
        """Takes what waits; gives how many orders were new."""
        if self._folder is not None:
            self._look_in_folders(self._folder)
            if time.monotonic() > self._tell_next:
                self._tell_next = time.monotonic() + TELL_EVERY
                self._tell_in_folders(self._folder)
        with self._database.reading() as session:
            due = imports.due(session.connection(), self._clock.now())
        new = 0
        for row in due:
            if self._stop.is_set():
                break
            new += self._guarded(row.id, row.source_id)
        return new

    def _guarded(self, import_id: int, source_id: int) -> int:
        """One file: what is wrong with it harms no other."""
        try:
            return self._take(import_id, source_id)
        except TakenOver:
            return 0
        except Exception as error:
            if is_database_failure(error):
                raise
            told = str(error.problems[0]) if isinstance(error, Invalid) else describe_fault(error)
            if not isinstance(error, Invalid):
                log.exception("a file could not be taken", import_id=import_id)
            with self._database.connection(purpose="import") as connection:
                ended = {"state": imports.FAILED, "problem": told, "ended_at": self._clock.now(), "held_until": None}
                imports.change(connection, import_id, **ended)
            return 0

    def _take(self, import_id: int, source_id: int) -> int:
        live = self._setups.of_source(source_id)
        source = live.setup.sources.get(live.source_key(source_id))
        with self._database.connection(purpose="import") as connection:
            now = self._clock.now()
            row = imports.claim(connection, import_id, now, now + HELD)
        if row is None:
            raise TakenOver
        if source is None or not source.on:
            raise RuntimeError("Its source is off or gone.")
        with self._database.reading() as session:
            data = imports.content(session.connection(), import_id)
        rows = read_rows(FileForm.model_validate(row.form), io.BytesIO(data))
        new, held = 0, row.held_until
        for part in _parts(itertools.islice(rows, row.rows, None)):
            self._give_way(live)
            held, came = self._store(source, source_id, import_id, held, part)
            new += came
            if self._stop.is_set():
                return new
        with self._database.connection(purpose="import") as connection:
            self._mine(connection, import_id, held)
            imports.change(connection, import_id, state=imports.DONE, ended_at=self._clock.now(), held_until=None)
        return new

    def _store(
        self, source: Source, source_id: int, import_id: int, held: dt.datetime | None, part: list[Row]
    ) -> tuple[dt.datetime, int]:
        """One part in one transaction; gives until when the file is held, and how many orders were new."""
        problems = [(row, row_problem(source, row)) for row in part]
        items: list[Item] = [item_of(source, row.payload) for row, problem in problems if not problem]
        wrong = [[row.number, problem, row.size] for row, problem in problems if problem]
        with self._database.connection(purpose="import") as connection:
            row = self._mine(connection, import_id, held)
            new = take_in(connection, source, source_id, items, self._clock, QUIET if row.quiet else "")
            held = self._clock.now() + HELD
            values = {
                "rows": row.rows + len(part),
                "new": row.new + new,
                "failed": row.failed + len(wrong),
                "errors": [*(row.errors or []), *wrong][:KEPT_ERRORS],
                "held_until": held,
            }
            imports.change(connection, import_id, **values)
        if new:
            self._wake()
        return held, new

    @staticmethod
    def _mine(connection: Connection, import_id: int, held: dt.datetime | None) -> ImportRecord:
        """The row where this process still has it. Raises TakenOver."""
        row = imports.hold(connection, import_id)
        if row is None or row.state != imports.RUNNING or row.held_until != held:
            raise TakenOver
        return row

    def _give_way(self, live: LiveSetup) -> None:
        """Waits while much is to be processed; not for longer than the file is held, so that it goes on in the end."""
        ids, until = list(live.source_ids.values()), time.monotonic() + HELD.total_seconds() / 2
        while not self._stop.is_set() and time.monotonic() < until:
            with self._database.reading() as session:
                if events.waiting(session.connection(), ids, AHEAD) < AHEAD:
                    return
            self._stop.wait(0.2)

    # ---- folders

    def _look_in_folders(self, folder: Path) -> None:
        """Keeps files that were put into a source's folder, has them taken, and moves them aside."""
        for store_id in self._setups.ids():
            live = self._setups.get(store_id)
            for key, source in live.setup.sources.items():
                if source.folder is None or not source.folder.on or not source.on:
                    continue
                try:
                    self._look_in(folder / key, source.folder, live.source_ids[key])
                except OSError as error:
                    self._tell(folder / key, error)

    def _tell_in_folders(self, folder: Path) -> None:
        """Writes beside files that were imported what was told, once nothing of that is under way."""
        since = self._clock.now() - TELL_WITHIN
        with self._database.reading() as session:
            rows = imports.untold(session.connection(), FOLDER, since)
        for row in rows:
            live = self._setups.of_source(row.source_id)
            source = live.setup.sources.get(live.source_key(row.source_id))
            if source is None or self._under_way(row):
                continue
            with self._database.reading() as session:
                data = imports.content(session.connection(), row.id)
            file = folder / source.key / TAKEN / f"{row.name}.told.csv"
            try:
                if data and file.parent.is_dir():
                    write_told(file, self._database, live, source, FileForm.model_validate(row.form), data)
            except (OSError, Invalid) as error:
                log.error("what was told can't be written", file=str(file), why=str(error))
            with self._database.connection(purpose="import") as connection:
                imports.change(connection, row.id, told_at=self._clock.now())

    def _under_way(self, row: ImportRecord) -> bool:
        """Whether what came with a file is not processed yet, or sends about it wait still."""
        with self._database.reading() as session:
            began, ended = row.began_at or self._clock.now(), row.ended_at or self._clock.now()
            return imports.any_open(session.connection(), row.source_id, began, ended)

    def _look_in(self, mine: Path, folder: Folder, source_id: int) -> None:
        """Whole files are put aside first, so that none is half written when it is read; what a process left there is
        taken by the next. What comes twice by that is no news.
        """
        taking, taken = mine / TAKING, mine / TAKEN
        for one in (mine, taking, taken):
            one.mkdir(mode=0o700, parents=True, exist_ok=True)
        for file in _files(mine):
            if time.time() - file.stat().st_mtime > STILL:
                file.rename(taking / f"{self._clock.now():%Y%m%d-%H%M%S}-{file.name}")
        for file in _files(taking):
            if file in self._told:
                continue  # it can't be read, or not be moved: it is not taken again and again
            try:
                if file.stat().st_size > MOST_BYTES:
                    raise OSError(f"it has more than {MOST_BYTES // 1_000_000} MB")
                data, now = file.read_bytes(), self._clock.now()
                id_ = store_file(self._database, source_id, file.name, data, folder.form, now, FOLDER)
                with self._database.connection(purpose="import") as connection:
                    imports.change(connection, id_, state=imports.WAITING, quiet=folder.quiet)
                file.rename(taken / file.name)
            except OSError as error:
                self._tell(file, error)

    def _tell(self, where: Path, error: OSError) -> None:
        if self._told.get(where) != str(error):
            log.error("a file in a folder can't be taken", file=str(where), why=str(error))
        self._told[where] = str(error)


def _files(folder: Path) -> list[Path]:
    """Those that are files, none that hides; in the order of their names."""
    found = (one for one in folder.iterdir() if not one.name.startswith("."))
    return sorted(one for one in found if one.is_file() and not one.is_symlink())


def _parts(rows: Iterator[Row]) -> Iterator[list[Row]]:
    while part := list(itertools.islice(rows, A_PART)):
        yield part
