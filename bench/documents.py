"""Invoices: what computing one takes, and what drawing one costs against mails; whether a mail waits for a drawing."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from angelon.db.access.secrets import Vault
from angelon.engine.documents.press import Press
from angelon.engine.planner import Planner
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.engine.setups import Setups
from bench.moving import KEY, Home, arrived, free_port, process, wait_for
from bench.rows import Row, in_turn, median
from tests.core.documents.made import DAY, order, shop, store


def _mail_cpu(home: Home, numbers: list[int]) -> float:
    """Seconds of CPU that one mail takes here, from its event planned to its mail accepted."""
    from angelon.db.log import events
    from angelon.engine.clock import Clock

    setups, clock = Setups(home.database), Clock()
    with home.database.connection() as connection:
        events.add(connection, arrived(home, numbers))
    dispatcher = Dispatcher("bench", home.database, setups, Vault(KEY), clock)
    began, sent = time.process_time(), 0
    planner = Planner(home.database, setups, clock)
    while planner.run_batch()[0]:
        pass
    while did := dispatcher.run_batch(16):
        sent += did
    return (time.process_time() - began) / max(sent, 1)


def documents(rounds: int = 5) -> list[Row]:
    from angelon.core.documents.making import buyer_of, invoice

    placed = order("1 x 119 HER-180; 2 x 24.80 PAT-1; 3 x 4.99 LIN-050", "189.97", postage="6.40")
    settings, kites = shop(), store()
    made = invoice(settings, kites, placed, buyer_of(placed), DAY, number="2026-0001")
    look = {"accent": "#0E5A55", "font": "sans-serif"}
    press, frozen = Press(), made.plain()
    for _ in range(3):
        press.pdf(frozen, look)

    def drawing() -> float:
        """In the process that draws, which does nothing else."""
        began = _cpu_of(press)
        for _ in range(20):
            press.pdf(frozen, look)
        return (_cpu_of(press) - began) / 20

    def computing() -> float:
        began = time.process_time()
        for _ in range(100):
            invoice(settings, kites, placed, buyer_of(placed), DAY)
        return (time.process_time() - began) / 100

    with tempfile.TemporaryDirectory() as folder:
        port = free_port()
        home = Home(folder, port)
        with process("-m", "angelon", "standins", "--mail-port", str(port), env=home.environment()):
            wait_for(lambda: _answers(port))
            serial = iter(range(1, 1_000_000))
            _mail_cpu(home, [next(serial) for _ in range(40)])
            drawn, computed, mailed = in_turn(
                rounds, drawing, computing, lambda: _mail_cpu(home, [next(serial) for _ in range(100)])
            )
    press.end()
    return [
        Row("CPU of drawing an invoice against that of twenty mails", median(drawn) / (20 * median(mailed)), "ratio",
            "<= 1.0", {"drawing ms": median(drawn) * 1000, "a mail ms": median(mailed) * 1000}),
        Row("CPU of computing an invoice against that of a mail", median(computed) / median(mailed), "ratio", "<= 1.0",
            {"computing ms": median(computed) * 1000}),
    ]  # fmt: skip


def _cpu_of(press: Press) -> float:
    """Seconds of CPU that the process which draws has taken so far (proc(5), fields 14 and 15 of stat)."""
    assert press._process is not None
    fields = Path(f"/proc/{press._process.pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _answers(port: int) -> bool:
    import socket

    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0
