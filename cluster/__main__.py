"""`make cluster`: PostgreSQL in a folder of its own, two web processes, three workers, a balancer; the demo's store.

Everything ends with Ctrl+C; the folder stays, and the next start goes on with it.
"""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from angelon.demo.folder import HANDLERS
from angelon.standins import ZONE
from cluster.balancer import Balancer
from cluster.postgresql import Server

PORT = int(os.environ.get("PORT", "8080"))
FOLDER = Path(os.environ.get("CLUSTER", str(Path(tempfile.gettempdir()) / "angelon-cluster")))
WEBS, SENDERS = 2, 2
KEY = "a-key-that-every-process-of-the-cluster-has"


def main() -> None:
    server = Server(FOLDER / "postgresql", PORT + 50)
    print("PostgreSQL starts.", flush=True)
    server.start()
    processes: list[subprocess.Popen[bytes]] = []
    try:
        url = server.url("angelon")
        if not server.has("angelon"):
            server.create("angelon")
        mail, providers = load(url)
        ports = [PORT + 1 + number for number in range(WEBS)]
        processes.append(start(url, 0, "standins", "--mail-port", str(mail), "--provider-port", str(providers)))
        processes += [start(url, 0, "web", "--port", str(port)) for port in ports]  # beside the stand-ins
        processes.append(start(url, 10, "worker", "--role", "plan"))
        processes += [start(url, 11 + number, "worker", "--role", "send") for number in range(SENDERS)]
        for port in ports:
            answers(port)
        print(f"The cluster is ready: http://127.0.0.1:{PORT}", flush=True)
        asyncio.run(balance(ports, processes))
    except KeyboardInterrupt:
        pass
    finally:
        for process in processes:
            process.terminate()
        for process in processes:
            process.wait(20)
        server.stop()


def environment(url: str, number: int) -> dict[str, str]:
    """Each process has a data folder of its own, as on a machine of its own."""
    home = FOLDER / f"machine-{number}"
    home.mkdir(parents=True, exist_ok=True)
    given = {"ANGELON_HOME": str(home), "ANGELON_DATABASE_URL": url, "ANGELON_SECRET_KEY": KEY, "ANGELON_DEMO": "1"}
    given |= {"ANGELON_HANDLERS": str(HANDLERS), "ANGELON_ZONE": str(ZONE)}
    return {**os.environ, **given, "ANGELON_BASE_URL": f"http://127.0.0.1:{PORT}"}


def start(url: str, number: int, *arguments: str) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "angelon", *arguments]
    log = (FOLDER / "log").open("ab")
    return subprocess.Popen(command, env=environment(url, number), stderr=log)


def load(url: str) -> tuple[int, int]:
    """The demo's store, where the database is empty; gives the ports of the stand-ins."""
    os.environ.update(environment(url, 0))
    from angelon import settings
    from angelon.cli.opening import open_database
    from angelon.cli.serving import free_port
    from angelon.demo import load as demo

    chosen = settings.load()
    database = open_database(chosen)
    ports = demo.prepare(database, chosen, PORT, free_port)
    database.close()
    return ports.mail, ports.providers


def answers(port: int) -> None:
    """Waits until a web process is there. Raises TimeoutError after 60 s."""
    until = time.monotonic() + 60
    while time.monotonic() < until:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/healthz", timeout=2):
                return
        except OSError:
            time.sleep(0.2)
    raise TimeoutError(f"No web process answers at port {port}; {FOLDER / 'log'} says why.")


async def balance(ports: list[int], processes: list[subprocess.Popen[bytes]]) -> None:
    await Balancer(ports).serve("127.0.0.1", PORT)
    ended = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, ended.set)
    while not ended.is_set():
        gone = next((one for one in processes if one.poll() is not None), None)
        if gone is not None:
            print(f"A process has ended: {' '.join(map(str, gone.args[2:]))}. {FOLDER / 'log'} says why.", flush=True)  # type: ignore[index]
            return
        await asyncio.sleep(0.5)


if __name__ == "__main__":
    main()
