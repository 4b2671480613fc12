"""The connection to the database: SQLite with durable commits, or PostgreSQL."""

from __future__ import annotations

import math
import sqlite3
import sys
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Connection, create_engine, event, inspect, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlmodel import Session

from angelon.core import outside
from angelon.db import locks, servers
from angelon.db.derived import counting, searching
from angelon.db.write_turn import LONG_HOLD, Held, WriteTurn

MIGRATIONS = Path(__file__).with_name("migrations")


class OtherDatabase(RuntimeError):
    """The database was written by a version of Angelon that this one can't bring up to date: a newer one, or one from
    before the oldest migration.
    """


_SQLITE_FAILURES = frozenset({5, 6, 7, 8, 9, 10, 11, 13, 14, 15, 26})
"""SQLite's result codes that say something of the database and nothing of the statement: busy, locked, out of memory,
read-only, interrupted, I/O, corrupt, full, can't open, protocol, not a database."""


MOVED = 1811
"""SQLite's code for what a trigger refuses: the installation was moved to another database (`engine/moving.py`)."""
_SERVER_FAILURES = frozenset({"08", "25", "40", "53", "55", "57", "58", "XX"})
"""The classes of SQLSTATE (PostgreSQL's appendix A) that say the same: no connection, transaction state, rolled back
(deadlocks among them), no resources, not ready (locks), an operator's doing (a shutdown), system, internal.
"""
_OF_SQLITE: dict[str, Any] = {
    **{"pool_size": 40, "max_overflow": 40, "pool_use_lifo": True},
    "connect_args": {"check_same_thread": False, "timeout": 20},
}


def is_database_failure(error: BaseException) -> bool:
    """Whether the database could not be worked with, so that the same will do another time; false where it refused a
    value.
    """
    seen: BaseException | None = error
    while seen is not None:
        if isinstance(seen, PoolTimeout):
            return True
        if isinstance(seen, DBAPIError):
            code = getattr(seen.orig, "sqlite_errorcode", None)
            state = str(getattr(seen.orig, "sqlstate", None) or "")
            if seen.connection_invalidated or (
                (code & 0xFF in _SQLITE_FAILURES or code == MOVED)
                if code is not None
                else state[:2] in _SERVER_FAILURES
                if state
                else isinstance(seen, OperationalError)
            ):
                return True
        seen = seen.__cause__ or seen.__context__
    return False


def is_busy(error: BaseException) -> bool:
    """Whether another holds the database, rather than that it is full or damaged."""
    if not isinstance(error, DBAPIError):
        return False
    return (getattr(error.orig, "sqlite_errorcode", 0) or 0) & 0xFF in (5, 6) or getattr(
        error.orig, "sqlstate", ""
    ) in ("40001", "40P01", "55P03")


class Database:
    """One engine. SQLite runs in WAL mode with `synchronous=FULL`: a commit that returned survives a power cut."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.sqlite = url.startswith("sqlite")
        self._turn = WriteTurn(_turn_of(url))
        self._writers: list[Connection] = []
        self.listens_at: URL | None = None
        """Where notices of other machines are listened for."""
        if not self.sqlite:
            self.engine, self.listens_at = servers.engine_of(url)
        else:
            self.engine = create_engine(url, **_OF_SQLITE)
            if url.startswith("sqlite:///"):
                Path(url.removeprefix("sqlite:///")).parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            event.listen(self.engine, "connect", _prepare_sqlite)
            event.listen(self.engine, "begin", _begin)

    @property
    def shown_url(self) -> str:
        """The address without a password."""
        return str(self.engine.url.render_as_string(hide_password=True))

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session for reading; what it changes is not kept."""
        with Session(self.engine, expire_on_commit=False) as session:
            yield session

    @contextmanager
    def writing(
        self, lock: locks.Lock = locks.INSTALLATION, purpose: str = "", compiles: bool = True
    ) -> Iterator[Session]:
        """One transaction, committed at the end. On SQLite it takes the write lock at once, so it can't fail
        half-way; on PostgreSQL whoever writes under the same lock waits for its end. `purpose` is what holds of the
        turn are added up by: the function that writes, where it is not given.
        """
        with (
            self.connection(lock, purpose or _caller(), compiles=compiles) as connection,
            Session(connection, expire_on_commit=False) as session,
        ):
            yield session
            session.flush()

    @contextmanager
    def connection(
        self, lock: locks.Lock | None = None, purpose: str = "", first: bool = False, compiles: bool = True
    ) -> Iterator[Connection]:
        """One write transaction without the session's bookkeeping, for the hot paths. `first` is for deliveries, which
        go before whatever else wants to write; `compiles` as for `outside.writing`.
        """
        purpose = purpose or _caller()
        with (
            outside.writing(purpose, compiles),
            self._taken(purpose, first),
            self._writer() as connection,
            connection.begin(),
        ):
            if lock is not None:
                locks.hold(connection, lock)
            yield connection

    @contextmanager
    def _writer(self) -> Iterator[Connection]:
        """A connection that writes. On SQLite it is kept for the next write, with its pages and statements at hand: to
        take one from the pool and give it back costs as much as a small write.
        """
        try:
            connection = self._writers.pop()
        except IndexError:
            connection = self.engine.connect().execution_options(angelon_write=True)
        try:
            yield connection
        except BaseException:
            connection.close()
            raise
        if self.sqlite:
            self._writers.append(connection)
        else:
            connection.close()

    def _taken(self, purpose: str, first: bool) -> AbstractContextManager[None]:
        """Lets one thread of one process write at a time, so that none of them polls for SQLite's lock; on PostgreSQL
        only the time is taken.
        """
        return self._turn.take(purpose, first) if self.sqlite else self._turn.timed(purpose)

    def log_long_writes(self, on: bool) -> None:
        """Whether the log is told of long writes: it is, but for commands, whose output is for who has typed them."""
        self._turn.longest = LONG_HOLD if on else math.inf

    def held(self) -> list[Held]:
        """How long writes have kept others from writing, by purpose, the longest first: of all processes on SQLite, of
        this one on PostgreSQL.
        """
        return self._turn.held()

    def behind(self) -> str:
        """The version of a database that has to be migrated; empty where it is up to date, or new."""
        at = self._revision()
        return at if at is not None and at < _newest() else ""

    def migrate(self) -> None:
        """Brings the schema up to date. Raises OtherDatabase where this version does not know the database's."""
        newest = _newest()
        if self._revision() == newest:
            return
        from alembic import command
        from alembic.config import Config
        from alembic.script import ScriptDirectory
        from alembic.util import CommandError

        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        at = self._revision()
        if at is not None:
            try:
                ScriptDirectory.from_config(config).get_revision(at)
            except CommandError:
                raise OtherDatabase(
                    f"The database is at version {at}, and this Angelon knows versions up to {newest}. Start the "
                    "newer Angelon that wrote it, or use another ANGELON_HOME."
                    if at > newest
                    else f"The database is at version {at}, from before the first release, and this Angelon migrates "
                    "from 0029 on. Migrate it with commit 2861317 first, or use another ANGELON_HOME."
                ) from None
        with (
            self._taken("migrating", False),  # in turn, and as a write from its beginning: others may write meanwhile
            self.engine.connect().execution_options(angelon_write=True) as connection,
        ):
            driver: Any = connection.connection.dbapi_connection
            if self.sqlite:  # a table that others point to is made anew in some migrations
                driver.execute("PRAGMA foreign_keys=OFF")
            try:
                with connection.begin():
                    locks.hold(connection, locks.MIGRATIONS)  # one process migrates, the others find it done
                    config.attributes["connection"] = connection
                    before = self._tables(connection)
                    command.upgrade(config, "head")
                    anew = [name for name, page in self._tables(connection).items() if before.get(name, page) != page]
                    broken = connection.exec_driver_sql("PRAGMA foreign_key_check").fetchall() if anew else []
                    assert not broken, f"the migration would leave references to nothing: {broken[:3]}"
                    counting.begin(connection)
                    searching.begin(connection)
            finally:
                if self.sqlite:
                    driver.execute("PRAGMA foreign_keys=ON")

    def _tables(self, connection: Connection) -> dict[str, int]:
        """SQLite's tables, each with where it begins: one that was made anew begins elsewhere."""
        query = "SELECT name, rootpage FROM sqlite_master WHERE type = 'table'"
        return dict(connection.exec_driver_sql(query).tuples().all()) if self.sqlite else {}

    def _revision(self) -> str | None:
        with self.engine.connect() as connection:
            if not inspect(connection).has_table("alembic_version"):
                return None
            return connection.execute(text("SELECT version_num FROM alembic_version")).scalar()

    def close(self) -> None:
        """Lets go of all connections; later ones are made anew."""
        while self._writers:
            self._writers.pop().close()
        self.engine.dispose()


def _file_of(url: str) -> Path | None:
    """The file of a SQLite database; None for one in memory, and for other databases."""
    path = url.removeprefix("sqlite:///").partition("?")[0]
    return Path(path) if path != url and path and not path.startswith((":memory:", "file:")) else None


def _turn_of(url: str) -> Path | None:
    """Where writers' turns are kept: beside the database."""
    file = _file_of(url)
    return file.with_name(f"{file.name}-turn") if file is not None else None


_PASSED = ("contextlib", "angelon.db", "angelon.engine.unit", "angelon.engine.repositories", "angelon.web.services")
"""Modules through which a write is begun for others."""


def _caller() -> str:
    """The function that begins a write, as `module.function`."""
    frame = sys._getframe(2)
    while frame.f_back is not None and frame.f_globals.get("__name__", "").startswith(_PASSED):
        frame = frame.f_back
    module = str(frame.f_globals.get("__name__", "")).removeprefix("angelon.")
    return f"{module}.{frame.f_code.co_name}"


def _newest() -> str:
    return max(file.stem for file in (MIGRATIONS / "versions").glob("[0-9]*.py"))


def _prepare_sqlite(connection: Any, _: Any) -> None:
    connection.isolation_level = None
    cursor = connection.cursor()
    for pragma in (
        "journal_mode=WAL",
        "synchronous=FULL",
        "foreign_keys=ON",
        "busy_timeout=20000",
        "temp_store=MEMORY",
        "cache_size=-32000",
        "wal_autocheckpoint=4000",
    ):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _begin(connection: Connection) -> None:
    statement = "BEGIN IMMEDIATE" if connection.get_execution_options().get("angelon_write") else "BEGIN"
    driver: Any = connection.connection.dbapi_connection
    try:
        driver.execute(statement)
    except sqlite3.Error as error:
        raise OperationalError(statement, None, error) from error
