"""PostgreSQL over TLS and through a pooler (PgBouncer, a connection for each transaction): orders come in, each is told
once, also when the pooler is killed meanwhile; notices come past it, or the processes look by themselves.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from itertools import count
from pathlib import Path

import httpx

from angelon.cli.serving import free_port
from angelon.standins.box import Box
from cluster.postgresql import Server, as_user, own_folder
from proof.places import Place, until

ORDERS_FOR = 8.0
"""Seconds that orders come in for."""


def run() -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    program = shutil.which("pgbouncer", path=os.environ["PATH"] + ":/usr/sbin")
    if not program:
        return {}, ["pgbouncer is not installed"]
    counts: dict[str, int] = {}
    for name, direct in (("with notices past it", True), ("with looking alone", False)):
        counts |= {f"{what} {name}": number for what, number in _once(program, direct, broken).items()}
    return counts, broken


def _once(program: str, direct: bool, broken: list[str]) -> dict[str, int]:
    with _folder() as folder, _server(folder) as server, _pooler(program, folder, server) as pooler:
        server.create("angelon")
        address = f"postgresql+psycopg://angelon@127.0.0.1:{pooler.port}/angelon?pooler=transaction"
        if direct:
            address += f"&direct=127.0.0.1:{server.port}&sslmode=prefer"
        here = Place(folder / "home", address)
        try:
            for name in ("stand-ins", "web", "planner", "sender"):
                here.start(name)
            assert here.up()
            first = _first(here)
            accepted, stop = set[int](), threading.Event()
            posting = threading.Thread(target=here.keep_posting, args=(stop, count(10), accepted, 0.02))
            posting.start()
            time.sleep(ORDERS_FOR / 2)
            pooler.again()
            time.sleep(ORDERS_FOR / 2)
            stop.set()
            posting.join()
            if not here.settled(120):
                broken.append("not all was settled")
            told = [mail.rcpt_to for mail in Box(here.outside).mails()]
            twice = len(told) - len(set(told))
            if missing := {f"p{number}@example.org" for number in accepted} - set(told):
                broken.append(f"{len(missing)} orders were told nobody")
            if twice:
                broken.append(f"{twice} mails went out twice")
            if any(encrypted != "t" for encrypted in server.encrypted()):
                broken.append("a connection to the server is not encrypted")
            return {"orders": len(accepted), "mails": len(told), "milliseconds of a delivery to its mail": first}
        finally:
            here.close()


def _first(here: Place) -> int:
    """Milliseconds from a delivery to its mail, when nothing else is done: the median of five."""
    took = []
    with httpx.Client(timeout=10) as client:
        for number in range(5):
            began, before = time.monotonic(), len(Box(here.outside).mails())
            here.post(client, number)
            until(lambda before=before: len(Box(here.outside).mails()) > before, 20, 0.01)  # type: ignore[misc]
            took.append(time.monotonic() - began)
            time.sleep(0.5)
    return round(1000 * sorted(took)[2])


@contextlib.contextmanager
def _folder() -> Iterator[Path]:
    folder = Path(tempfile.mkdtemp(prefix="angelon-pooled-"))
    folder.chmod(0o755)  # the server runs as a user of its own
    (folder / "home").mkdir()
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@contextlib.contextmanager
def _server(folder: Path) -> Iterator[Server]:
    """A server that takes nothing without TLS."""
    server = Server(folder / "postgresql", durable=True)
    server.start()
    server.stop()
    request = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=127.0.0.1"]
    names = ["-addext", "subjectAltName=IP:127.0.0.1"]
    data = folder / "postgresql" / "data"
    made = [*request, *names, "-keyout", str(data / "server.key"), "-out", str(data / "server.crt")]
    subprocess.run(made, check=True, capture_output=True)
    shutil.copy(data / "server.crt", folder / "root.crt")
    (data / "server.key").chmod(0o600)
    (data / "pg_hba.conf").write_text("hostssl all all 127.0.0.1/32 trust\n")
    own_folder(data / "server.key", data / "server.crt")
    server.settings["ssl"] = "on"
    server.start()
    try:
        yield server
    finally:
        server.stop()


class _Pooler:
    def __init__(self, program: str, folder: Path, server: Server) -> None:
        self.port = free_port()
        self._file = folder / "pgbouncer.ini"
        self._file.write_text(
            f"[databases]\n* = host=127.0.0.1 port={server.port} user=angelon\n[pgbouncer]\nlisten_addr = 127.0.0.1\n"
            f"listen_port = {self.port}\nunix_socket_dir =\nauth_type = any\npool_mode = transaction\n"
            "default_pool_size = 12\nmax_client_conn = 200\nserver_tls_sslmode = verify-full\n"
            f"server_tls_ca_file = {folder / 'root.crt'}\nlogfile = /dev/null\n"
        )
        self._command = [*as_user(), program, str(self._file)]
        self._start()

    def _start(self) -> None:
        self._running = subprocess.Popen(self._command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def again(self) -> None:
        """Killed, and started anew two seconds later."""
        self._running.kill()
        self._running.wait()
        time.sleep(2)
        self._start()

    def stop(self) -> None:
        self._running.terminate()
        self._running.wait(10)


@contextlib.contextmanager
def _pooler(program: str, folder: Path, server: Server) -> Iterator[_Pooler]:
    made = _Pooler(program, folder, server)
    try:
        yield made
    finally:
        made.stop()
