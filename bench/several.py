"""Sends a second with 1, 2 and 4 sending processes on SQLite and on PostgreSQL, what each costs of a processor, and the
bytes that an order leaves behind: what docs/scale.md reckons with.
"""

from __future__ import annotations

import os
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from angelon.cli.serving import free_port
from angelon.db.database import Database
from angelon.db.log import events
from angelon.engine.clock import Clock
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from bench.load import measure
from bench.moving import Home, _answers, arrived, process, wait_for
from bench.rows import Row
from bench.sink import taken
from cluster.postgresql import Server

NUMBER = 2000
SENDERS = (1, 2, 4)
PLANNERS = (1, 2, 4)
BACKLOG = 5000
_TICKS = os.sysconf("SC_CLK_TCK")


def several() -> list[Row]:
    """On two cores, which the mail server and the database share with the workers."""
    rows = []
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        server = Server(Path(folder) / "postgresql")
        Path(folder).chmod(0o755)
        server.start()
        stack.callback(server.stop)
        for name in ("SQLite", "PostgreSQL"):
            alone = 0.0
            for senders in SENDERS:
                url = server.create(f"sends{senders}") if name == "PostgreSQL" else ""
                speed, worked, served = _sending(Path(folder) / f"{name}-{senders}", url, senders, server)
                alone = alone or speed
                detail = {"ms of CPU a send, workers": worked, "against one process": speed / alone}
                if url:
                    detail["ms of CPU a send, PostgreSQL"] = served
                rows.append(Row(f"sends a second, {senders} processes on {name}", speed, "1/s", "", detail))
            rows += intake(Path(folder) / f"{name}-accepted", name, server)
            rows += _planning(Path(folder) / f"{name}-planned", name, server)
        rows += _planned_beside(Path(folder), server)
    return rows


def beside() -> list[Row]:
    """One store planned by several processes, alone."""
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        server = Server(Path(folder) / "postgresql")
        Path(folder).chmod(0o755)
        server.start()
        stack.callback(server.stop)
        return _planned_beside(Path(folder), server)


def _filled(folder: Path, port: int, url: str) -> Home:
    folder.mkdir()
    return Home(str(folder), port, url)


def _sending(folder: Path, url: str, senders: int, server: Server) -> tuple[float, float, float]:
    """Sends a second, and the milliseconds of a processor that each took of the workers and of PostgreSQL."""
    port, counted = free_port(), folder / "counted"
    home = _filled(folder, port, url)
    _plan(home, NUMBER)
    with ExitStack() as stack:
        stack.enter_context(process("-m", "bench.sink", str(port), str(counted), env=dict(os.environ)))
        env = home.environment(ANGELON_DATABASE_URL=url) if url else home.environment()
        before = cpu_of(server)
        workers = [
            stack.enter_context(process("-m", "angelon", "worker", "--role", "send", env=env)) for _ in range(senders)
        ]
        first, began = _at_least(counted, NUMBER // 10)
        started = sum(_cpu(worker.pid) for worker in workers)
        number, ended = _at_least(counted, NUMBER)
        worked = sum(_cpu(worker.pid) for worker in workers) - started
        served = cpu_of(server) - before
    home.database.close()
    sent = number - first
    return sent / (ended - began), worked * 1000 / sent, served * 1000 / number


def _at_least(counted: Path, number: int) -> tuple[int, float]:
    """Waits for so many mails; gives how many there are by then, and when the last came (seconds since 1970)."""
    until = time.monotonic() + 120
    while time.monotonic() < until:
        found = taken(counted)
        if found[0] >= number:
            return found
        time.sleep(0.02)
    raise TimeoutError(f"fewer than {number} mails came")


def intake(folder: Path, name: str, server: Server) -> list[Row]:
    """Deliveries that one web process accepts a second, and what each takes of a processor."""
    url = server.create("accepted") if name == "PostgreSQL" else ""
    home, port = _filled(folder, free_port(), url), free_port()
    more = {"BENCH_PORT": str(port)} | ({"ANGELON_DATABASE_URL": url} if url else {})
    with process("-m", "bench.app", env=home.environment(**more)) as web:
        wait_for(lambda: _answers(port))
        measure(port, [home.raw_request(number) for number in range(200)], 32, 202)
        before, served = _cpu_below(web.pid), cpu_of(server)
        requests = [home.raw_request(1000 + number) for number in range(NUMBER)]
        speed, slowest = measure(port, requests, 32, 202)
        detail = {"p99 ms": slowest, "ms of CPU a delivery, web": (_cpu_below(web.pid) - before) * 1000 / NUMBER}
        if url:
            detail["ms of CPU a delivery, PostgreSQL"] = (cpu_of(server) - served) * 1000 / NUMBER
    home.database.close()
    return [Row(f"deliveries accepted a second, one web process on {name}", speed, "1/s", "", detail)]


def _planning(folder: Path, name: str, server: Server) -> list[Row]:
    """Events planned a second by one process, and what an order with its event and send takes of the disk."""
    url = server.create("planned") if name == "PostgreSQL" else ""
    home = _filled(folder, free_port(), url)
    before, cpu = size_of(home.database), cpu_of(server)
    took = _plan(home, NUMBER)
    served = (cpu_of(server) - cpu) * 1000 / NUMBER
    detail = {"bytes an order": (size_of(home.database) - before) / NUMBER}
    home.database.close()
    if url:
        detail["ms of CPU an event, PostgreSQL (stored and planned)"] = served
    return [Row(f"events planned a second, one process on {name}", NUMBER / took, "1/s", "", detail)]


def _planned_beside(folder: Path, server: Server) -> list[Row]:
    """Events of one store planned a second by one process and by several, on PostgreSQL, and what each takes."""
    speeds: dict[int, float] = {}
    costs: dict[int, float] = {}
    waits: dict[int, float] = {}
    for planners in PLANNERS:
        url = server.create(f"planners{planners}")
        home = _filled(folder / f"planners-{planners}", free_port(), url)
        with home.database.connection() as connection:
            events.add(connection, arrived(home, list(range(1, BACKLOG + 1))))
            connection.exec_driver_sql("ANALYZE")
        env = home.environment(ANGELON_DATABASE_URL=url)
        with ExitStack() as stack:
            working = [
                stack.enter_context(process("-m", "angelon", "worker", "--role", "plan", env=env))
                for _ in range(planners)
            ]
            first, began = _planned_at_least(home, BACKLOG // 5)
            before = sum(_cpu_below(one.pid) for one in working) + cpu_of(server)
            last, ended, waited = _planned_at_least(home, BACKLOG * 4 // 5, True)
            used = sum(_cpu_below(one.pid) for one in working) + cpu_of(server) - before
        home.database.close()
        speeds[planners], costs[planners] = (last - first) / (ended - began), used * 1000 / (last - first)
        waits[planners] = waited
    rows = []
    for planners in PLANNERS[1:]:
        detail = {"1/s, one process": speeds[1], f"1/s, {planners} processes": speeds[planners]}
        name = f"one store's events planned by {planners} processes, against one"
        rows.append(Row(name, speeds[planners] / speeds[1], "ratio", ">= 1.4" if planners == 4 else "", detail))
        spent = {"ms, one process": costs[1], f"ms, {planners} processes": costs[planners]}
        spent |= {"planners that wait for a lock, at a moment": waits[planners]}
        aim = "<= 1.1" if planners == 4 else ""
        rows.append(
            Row(
                f"the same, CPU an event, PostgreSQL's too, {planners}", costs[planners] / costs[1], "ratio", aim, spent
            )
        )
    return rows


def _planned_at_least(home: Home, number: int, looks: bool = False) -> Any:
    """Waits for so many events to be planned; gives how many are by then, and when that was (seconds, monotonic); with
    `looks` also in how many of its looks, of each planner, a lock was waited for.
    """
    until = time.monotonic() + 180
    waiting = "SELECT count(*) FROM event WHERE planned_at IS NULL AND waits_for = ''"
    locked = "SELECT count(*) FROM pg_locks WHERE NOT granted"
    seen = found_locked = 0
    while time.monotonic() < until:
        with home.database.reading() as session:
            connection = session.connection()
            found = BACKLOG - int(connection.exec_driver_sql(waiting).scalar_one())
            found_locked += int(connection.exec_driver_sql(locked).scalar_one())
            seen += 1
        if found >= number:
            moment = time.monotonic()
            return (found, moment, found_locked / seen) if looks else (found, moment)
        time.sleep(0.1)
    raise TimeoutError(f"fewer than {number} events were planned")


def _plan(home: Home, number: int) -> float:
    """Stores and plans orders, whose sends are due at once; gives the seconds that planning took."""
    with home.database.connection() as connection:
        events.add(connection, arrived(home, list(range(1, number + 1))))
    planner = Planner(home.database, Setups(home.database), Clock())
    began = time.perf_counter()
    while planner.run_batch()[0]:
        pass
    return time.perf_counter() - began


def size_of(database: Database) -> int:
    """Bytes of a database on the disk."""
    if not database.sqlite:
        with database.connection() as connection:
            return int(connection.exec_driver_sql("SELECT pg_database_size(current_database())").scalar_one())
    with database.engine.connect() as connection:
        connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    return Path(database.engine.url.database or "").stat().st_size


def _cpu(pid: int) -> float:
    """Seconds of a processor that a process has used."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return (int(fields[11]) + int(fields[12]) + int(fields[13]) + int(fields[14])) / _TICKS


def cpu_of(server: Server) -> float:
    """Of all processes of the server, those that have ended among them."""
    return _cpu_below(server.pid)


def _cpu_below(pid: int) -> float:
    """Of a process and those that it has started."""
    own = [int(one) for file in Path(f"/proc/{pid}/task").glob("*/children") for one in file.read_text().split()]
    return _cpu(pid) + sum(_cpu_below(one) for one in own)
