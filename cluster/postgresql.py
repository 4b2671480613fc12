"""A PostgreSQL server in a folder of its own, from Debian's package; reached over a port of this machine."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg

PROGRAMS = Path("/usr/lib/postgresql")
"""Debian's. `POSTGRESQL_PROGRAMS` names the folder of another version's, such as the newest."""
USER = "angelon"
SETTINGS = {
    "listen_addresses": "127.0.0.1",
    "unix_socket_directories": "",
    "max_connections": "100",
    "shared_buffers": "256MB",
    "wal_compression": "on",
    "max_wal_size": "2GB",
}
DURABLE = {"fsync": "on", "synchronous_commit": "on"}
FAST = {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"}
"""For tests: what is written may be lost with the machine, which they don't survive either."""


class Missing(RuntimeError):
    """PostgreSQL's programs are not on this machine; scripts/ensure-postgresql.sh installs them."""


class Server:
    """Started on first use of `start`, with the data in `folder`; trusts whoever connects from this machine."""

    def __init__(self, folder: Path, port: int = 0, durable: bool = True) -> None:
        self.folder, self.port = folder, port or _free_port()
        self._data = folder / "data"
        self.settings = SETTINGS | (DURABLE if durable else FAST)
        self._running: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Starts it and waits until it answers. Raises Missing, and TimeoutError after 60 s."""
        if not (self._data / "PG_VERSION").exists():
            self._make()
        options = [part for name, value in self.settings.items() for part in ("-c", f"{name}={value}")]
        log = (self.folder / "log").open("ab")
        self._running = subprocess.Popen(
            [*as_user(), str(_program("postgres")), "-D", str(self._data), "-p", str(self.port), *options],
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
        until = time.monotonic() + 60
        while True:
            try:
                psycopg.connect(self._conninfo("postgres"), connect_timeout=2).close()
                return
            except psycopg.OperationalError:
                if self._running.poll() is not None or time.monotonic() > until:
                    raise TimeoutError(f"PostgreSQL does not start; {self.folder / 'log'} says why.") from None
                time.sleep(0.05)

    @property
    def pid(self) -> int:
        assert self._running is not None, "it runs"
        return self._running.pid

    def _make(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        own_folder(self.folder)
        made = subprocess.run(
            [
                *(*as_user(), str(_program("initdb")), "-D", str(self._data), "-U", USER, "-A", "trust"),
                *("-E", "UTF8", "--locale=C.UTF-8", "--no-sync"),
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        if made.returncode:
            raise RuntimeError(f"PostgreSQL’s data folder can’t be made: {made.stderr.strip()[-500:]}")

    def _conninfo(self, name: str) -> str:
        return f"host=127.0.0.1 port={self.port} user={USER} dbname={name}"

    def url(self, name: str) -> str:
        """The address of a database, as ANGELON_DATABASE_URL takes it."""
        return f"postgresql+psycopg://{USER}@127.0.0.1:{self.port}/{name}"

    def encrypted(self) -> list[str]:
        """Of each connection to it whether it is encrypted: t or f."""
        with psycopg.connect(self._conninfo("postgres")) as connection:
            asked = "SELECT CASE WHEN s.ssl THEN 't' ELSE 'f' END FROM pg_stat_ssl s JOIN pg_stat_activity USING (pid) "
            return [one for (one,) in connection.execute(asked + "WHERE backend_type = 'client backend'")]

    def has(self, name: str) -> bool:
        """Whether there is a database of this name."""
        with psycopg.connect(self._conninfo("postgres")) as connection:
            found = connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", (name,)).fetchone()
        return found is not None

    def create(self, name: str, like: str = "template1") -> str:
        """A new database, made as a copy of another; gives its address."""
        with psycopg.connect(self._conninfo("postgres"), autocommit=True) as connection:
            connection.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')  # type: ignore[call-overload]
            connection.execute(f'CREATE DATABASE "{name}" TEMPLATE "{like}" STRATEGY FILE_COPY')  # type: ignore[call-overload]
        return self.url(name)

    def drop(self, name: str) -> None:
        """Takes a database away, whoever uses it."""
        with psycopg.connect(self._conninfo("postgres"), autocommit=True) as connection:
            connection.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')  # type: ignore[call-overload]

    def stop(self, at_once: bool = False) -> None:
        """Stops it; `at_once` as a loss of power would, with every process killed."""
        if self._running is None:
            return
        if at_once:
            os.killpg(self._running.pid, signal.SIGKILL)
        else:
            os.killpg(self._running.pid, signal.SIGINT)
        try:
            self._running.wait(20)
        except subprocess.TimeoutExpired:
            os.killpg(self._running.pid, signal.SIGKILL)
        self._running = None
        until = time.monotonic() + 10
        while at_once and time.monotonic() < until and _answers(self.port):
            time.sleep(0.05)
        if at_once:  # its own processes end a moment later, and the next start looks for them
            (self._data / "postmaster.pid").unlink(missing_ok=True)


@contextlib.contextmanager
def temporary(folder: Path, durable: bool = False) -> Iterator[Server]:
    """A server for tests, whose folder goes with it."""
    server = Server(folder, durable=durable)
    server.start()
    try:
        yield server
    finally:
        server.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _program(name: str) -> Path:
    own = os.environ.get("POSTGRESQL_PROGRAMS")
    found = [Path(own) / name] if own else sorted(PROGRAMS.glob(f"*/bin/{name}"))
    if not found:
        raise Missing(f"There is no {name} below {PROGRAMS}. Run: sh scripts/ensure-postgresql.sh")
    return found[-1]


def _owner() -> str:
    """Whom the server runs as where this is root, which it refuses to be."""
    for name in ("postgres", "nobody"):
        with contextlib.suppress(KeyError):
            return pwd.getpwnam(name).pw_name
    raise Missing("There is no user that PostgreSQL could run as.")


def own_folder(*paths: Path) -> None:
    """Gives files to whom the server runs as."""
    if os.getuid() == 0:
        owner = pwd.getpwnam(_owner())
        for path in paths:
            os.chown(path, owner.pw_uid, owner.pw_gid)


def as_user() -> list[str]:
    if os.getuid() != 0:
        return []
    owner = pwd.getpwnam(_owner())
    return ["setpriv", "--reuid", str(owner.pw_uid), "--regid", str(owner.pw_gid), "--clear-groups"]


def _free_port() -> int:
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])


def _answers(port: int) -> bool:
    with socket.socket() as sock:
        return sock.connect_ex(("127.0.0.1", port)) == 0
