"""Server-sent events (WHATWG HTML, section 9.2): `changed` whenever something was stored, at most once a second."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from typing import Any

from flask import Blueprint, Response, current_app, request

from angelon.web.live.pulse import Pulse
from angelon.web.services import services

pages = Blueprint("live", __name__)
WATCHERS = threading.BoundedSemaphore(12)
"""Tabs that are told at once; others look by themselves."""
SECONDS = 300.0
"""After which a stream ends, and the tab opens another."""


@pages.get("/live")
def live() -> Any:
    pulse: Pulse = current_app.extensions.setdefault("angelon.pulse", Pulse(services().database))
    watchers = WATCHERS
    if request.method == "HEAD" or not watchers.acquire(blocking=False):
        return Response(status=204)  # ends an EventSource for good

    def told() -> Iterator[str]:
        yield "retry: 2000\n\n"
        seen, until = pulse.version, time.monotonic() + SECONDS
        while time.monotonic() < until:
            now = pulse.wait(seen, 10.0)
            yield "event: changed\ndata: \n\n" if now != seen else ": still here\n\n"
            seen = now
            time.sleep(1.0)

    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    response = Response(told(), mimetype="text/event-stream", headers=headers)
    response.call_on_close(watchers.release)  # also where it is never begun
    return response
