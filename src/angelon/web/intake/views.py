"""Hands a delivery to the engine's intake and its answer back, ahead of everything that only pages need."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import parse_qsl, unquote

import orjson
from werkzeug.http import HTTP_STATUS_CODES

from angelon.engine.intake import Intake

MOST_READ = 16 * 1024 * 1024
PREFIX = "/in/"


class IntakeFirst:
    """WSGI: answers `/in/<source-key>` itself and passes everything else on.

    A delivery needs no session, token, template or page frame; without them one costs about half as much.
    """

    def __init__(self, app: Callable[..., Iterable[bytes]], intake: Intake) -> None:
        self._app = app
        self._intake = intake

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        path: str = environ.get("PATH_INFO", "")
        if not path.startswith(PREFIX):
            return self._app(environ, start_response)
        headers = {name[5:].replace("_", "-").lower(): value for name, value in environ.items() if name.startswith("HTTP_")}
        if environ.get("CONTENT_TYPE"):
            headers["content-type"] = environ["CONTENT_TYPE"]
        length = int(environ.get("CONTENT_LENGTH") or 0)
        raw = environ["wsgi.input"].read(MOST_READ + 1) if length <= MOST_READ else b""
        text = environ.get("QUERY_STRING", "")
        query = dict(parse_qsl(text)) if text else {}
        answer = self._intake.receive(unquote(path[len(PREFIX) :]), environ["REQUEST_METHOD"], headers, raw, length, query, environ.get("REMOTE_ADDR", ""))
        if answer.text is not None:
            body, kind = answer.text.encode(), "text/plain; charset=utf-8"
        else:
            body, kind = orjson.dumps(answer.body), "application/json" if answer.status < 300 else "application/problem+json"
        start_response(
            f"{answer.status} {HTTP_STATUS_CODES.get(answer.status, '')}",
            [("Content-Type", kind), ("Content-Length", str(len(body))), ("X-Content-Type-Options", "nosniff"), *answer.headers.items()],
        )
        return [body] if environ["REQUEST_METHOD"] != "HEAD" else []
