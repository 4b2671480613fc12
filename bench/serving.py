"""The web server that both programs run on, with the same settings."""

from __future__ import annotations

import os


def serve(target: str, interface: str, factory: bool = False) -> None:
    """Serves `module:name` on the port of BENCH_PORT, by one worker; `interface` is rsgi or wsgi."""
    from granian import Granian
    from granian.constants import Interfaces
    from granian.log import LogLevels

    Granian(
        target,
        address="127.0.0.1",
        port=int(os.environ["BENCH_PORT"]),
        interface=Interfaces(interface),
        factory=factory,
        workers=1,
        backlog=1024,
        log_level=LogLevels.error,
    ).serve()
