"""Several stores in one installation: each in an address of its own.

The oldest stands at the root; another under `/at/KEY`, where everything that a page leads to stays. What is asked of
the application is the same for each: the part of the address goes into WSGI's SCRIPT_NAME, before anything looks.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from flask import Flask, Response, request

from angelon.db.setup.live_setup import root_of
from angelon.db.tables import StoreRow

PREFIX = root_of("")
WHICH = "angelon.store"
"""Where a request's environment names its store; nothing stands there for the oldest."""
_KEY = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")
_ADDRESS = re.compile(r'(\s(?:href|action|formaction|src|data-[a-z-]+)=")(/(?!/|at/)[^"]*")')
"""An address of ours in a page, from its root."""


class StoreAddress:
    """WSGI: takes `/at/KEY` off the front of a path."""

    def __init__(self, app: Callable[..., Iterable[bytes]]) -> None:
        self._app = app

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        path = environ.get("PATH_INFO", "")
        if path.startswith(PREFIX):
            key, slash, rest = path[len(PREFIX) :].partition("/")
            if _KEY.fullmatch(key):
                environ[WHICH] = key
                environ["SCRIPT_NAME"] = f"{environ.get('SCRIPT_NAME', '')}{PREFIX}{key}"
                environ["PATH_INFO"] = slash + rest or "/"
        return self._app(environ, start_response)


def in_view(rows: Sequence[StoreRow]) -> StoreRow | None:
    """The store whose address was asked for: the oldest at the root; None where there is none of that key."""
    key = request.environ.get(WHICH)
    return next((row for row in rows if key in (None, row.key)), None)


def root() -> str:
    """What stands before every address of the store in view; empty for the oldest."""
    return request.script_root


def install(app: Flask) -> None:
    app.wsgi_app = StoreAddress(app.wsgi_app)  # type: ignore[method-assign]
    app.after_request(_stay)
    app.context_processor(lambda: {"store_root": root()})


def _stay(response: Response) -> Response:
    """Keeps whoever looks in their store: addresses from the root, in pages and redirects, are the store's own."""
    at = root()
    if not at:
        return response
    to = response.headers.get("Location", "")
    if to.startswith("/") and not to.startswith((f"{at}/", "//")):
        response.headers["Location"] = at + to
    if response.mimetype == "text/html" and not response.is_streamed:
        response.set_data(of_store(response.get_data(as_text=True)))
    return response


def of_store(page: str) -> str:
    """A page, or a part of one, whose addresses from the root are those of the store in view."""
    at = root()
    return _ADDRESS.sub(lambda found: f"{found[1]}{at}{found[2]}", page) if at else page
