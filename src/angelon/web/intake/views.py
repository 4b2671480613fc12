"""Hands a delivery to the engine's intake and its answer back, ahead of everything that only pages need."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import parse_qsl

import orjson
from werkzeug.http import HTTP_STATUS_CODES

from angelon.engine.arrivals.intake import Answer, Intake
from angelon.web.origins import Proxies

MOST_READ = 16 * 1024 * 1024
PREFIX = "/in/"


class IntakeMiddleware:
    """WSGI: answers `/in/<source-key>` itself and passes everything else on.

    A delivery needs no session, token, template or page frame; without them one costs about half as much.
    """

    def __init__(self, app: Callable[..., Iterable[bytes]], intake: Intake, proxies: Proxies) -> None:
        self._app = app
        self.intake = intake
        self._proxies = proxies

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        path: str = environ.get("PATH_INFO", "")
        if not path.startswith(PREFIX):
            return self._app(environ, start_response)
        headers = headers_of(environ)
        length = int(environ.get("CONTENT_LENGTH") or 0)
        raw = environ["wsgi.input"].read(MOST_READ + 1) if length <= MOST_READ else b""
        text = environ.get("QUERY_STRING", "")
        remote = self._proxies.sender(environ.get("REMOTE_ADDR", ""), headers.get("x-forwarded-for", ""))
        answer = self.intake.receive(
            path[len(PREFIX) :].encode("latin-1").decode("utf-8", "replace"),
            environ["REQUEST_METHOD"],
            headers,
            raw,
            length,
            query_of(text),
            remote,
        )
        status, found, body = as_http(answer, environ["REQUEST_METHOD"])
        start_response(f"{status} {HTTP_STATUS_CODES.get(status, '')}", found)
        return [body]


def headers_of(environ: dict[str, Any]) -> dict[str, str]:
    """A WSGI request's headers, with lower-case names."""
    headers = {name[5:].replace("_", "-").lower(): value for name, value in environ.items() if name.startswith("HTTP_")}
    if environ.get("CONTENT_TYPE"):
        headers["content-type"] = environ["CONTENT_TYPE"]
    return headers


def query_of(text: str) -> dict[str, str]:
    return dict(parse_qsl(text[:2000])) if text else {}


def as_http(answer: Answer, method: str) -> tuple[int, list[tuple[str, str]], bytes]:
    """(status, headers, body) of an answer."""
    if answer.text is not None:
        body, kind = answer.text.encode(), "text/plain; charset=utf-8"
    else:
        body, kind = (
            orjson.dumps(answer.body),
            "application/json" if answer.status < 300 else "application/problem+json",
        )
    headers = [
        ("Content-Type", kind),
        ("Content-Length", str(len(body))),
        ("X-Content-Type-Options", "nosniff"),
        *answer.headers.items(),
    ]
    return answer.status, headers, body if method != "HEAD" else b""
