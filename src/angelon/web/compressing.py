"""Pages and static files go out compressed (gzip, RFC 9110 section 8.4.1.3) to whoever takes that; a static file is
compressed once for a process.
"""

from __future__ import annotations

import gzip
from functools import lru_cache
from pathlib import Path

from flask import Flask, Response, request

LEAST = 1000
"""Bytes from which on a response is compressed."""
TYPES = frozenset(
    {
        *("text/html", "text/css", "text/plain", "text/javascript", "application/javascript", "application/json"),
        *("image/svg+xml", "application/problem+json"),
    }
)


def install(app: Flask) -> None:
    """Called before whatever else looks at a response: it is the last to see one."""
    app.after_request(_compressed)


def _compressed(response: Response) -> Response:
    if response.mimetype not in TYPES or response.status_code != 200 or "Content-Encoding" in response.headers:
        return response
    response.vary.add("Accept-Encoding")
    if not request.accept_encodings["gzip"] or request.method != "GET":
        return response
    if response.direct_passthrough:
        _compress_file(response)
    elif not response.is_streamed and (response.content_length or 0) >= LEAST:
        response.set_data(gzip.compress(response.get_data(), 5, mtime=0))
        response.headers["Content-Encoding"] = "gzip"
    return response


def _compress_file(response: Response) -> None:
    """A static file, from its compressed copy."""
    name = str(request.view_args.get("filename", "")) if request.endpoint == "static" and request.view_args else ""
    if not name or request.headers.get("Range"):
        return
    file = Path(__file__).with_name("static") / name
    data = _of_file(file, file.stat().st_mtime_ns)
    if len(data) >= LEAST // 2:
        response.direct_passthrough = False
        response.set_data(data)
        response.headers["Content-Encoding"] = "gzip"
        etag, _ = response.get_etag()
        if etag:
            response.set_etag(etag, weak=True)


@lru_cache(maxsize=200)
def _of_file(file: Path, changed: int) -> bytes:
    return gzip.compress(file.read_bytes(), 9, mtime=0)
