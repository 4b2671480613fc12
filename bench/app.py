"""The application with an empty page beside it, and with a chosen size of group commit."""

from __future__ import annotations

import os
from typing import Any

from flask import Blueprint, Response

from angelon import settings
from angelon.web import services
from angelon.web.app import create_app
from angelon.web.origins import Proxies
from angelon.web.server import RsgiServer
from bench.serving import serve


def application() -> Any:
    made = services.make(settings.load())
    made.writer._most = int(os.environ.get("BENCH_MOST", "256"))
    pages = Blueprint("empty", __name__)

    @pages.get("/healthz-empty")
    def empty() -> Response:
        return Response(b"")

    app = create_app(made, [pages])
    return RsgiServer(app, made.intake, made.writer, Proxies([]), app.extensions["angelon.guesses"])


if __name__ == "__main__":
    serve("bench.app:application", "rsgi", factory=True)
