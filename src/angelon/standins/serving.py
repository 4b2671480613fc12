"""Runs the stand-ins that listen on ports of their own: the mailbox and the providers."""

from __future__ import annotations

import contextlib
import signal
import threading

from angelon.standins.box import Box
from angelon.standins.mailbox import Mailbox
from angelon.standins.providers import Providers


def serve(box: Box, host: str, mail_port: int, provider_port: int, back: tuple[str, int] | None) -> None:
    """Runs them until the process is told to end. `back` is where mail that comes back is taken."""
    parties: list[Mailbox | Providers] = [Mailbox(box, host, mail_port, back), Providers(box, host, provider_port)]
    for party in parties:
        party.start()
    with contextlib.suppress(KeyboardInterrupt):
        stop = threading.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: stop.set())
        stop.wait()
    for party in parties:
        party.stop()
