"""Pages and static files go out compressed to whoever takes that: zstd (RFC 8878), else gzip (RFC 9110 section
8.4.1.3). A static file is compressed once for a process.
"""

from __future__ import annotations

import gzip
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

import zstandard
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
    taken = {name for name, quality in request.accept_encodings if quality}
    coding = next((one for one in _BY if one in taken), "")
    if not coding or request.method != "GET":
        return response
    if response.direct_passthrough:
        _compress_file(response, coding)
    elif not response.is_streamed and (response.content_length or 0) >= LEAST:
        response.set_data(_BY[coding][0](response.get_data()))
        response.headers["Content-Encoding"] = coding
    return response


def _zstd(level: int) -> Callable[[bytes], bytes]:
    return lambda data: zstandard.ZstdCompressor(level=level).compress(data)


_BY: dict[str, tuple[Callable[[bytes], bytes], Callable[[bytes], bytes]]] = {
    "zstd": (_zstd(6), _zstd(19)),
    "gzip": (lambda data: gzip.compress(data, 5, mtime=0), lambda data: gzip.compress(data, 9, mtime=0)),
}
"""How a page is compressed, quickly, and how a file, well."""


def _compress_file(response: Response, coding: str) -> None:
    """A static file, from its compressed copy."""
    name = str(request.view_args.get("filename", "")) if request.endpoint == "static" and request.view_args else ""
    if not name or request.headers.get("Range"):
        return
    file = Path(__file__).with_name("static") / name
    data = _of_file(file, file.stat().st_mtime_ns, coding)
    if len(data) >= LEAST // 2:
        response.direct_passthrough = False
        response.set_data(data)
        response.headers["Content-Encoding"] = coding
        etag, _ = response.get_etag()
        if etag:
            response.set_etag(etag, weak=True)


@lru_cache(maxsize=400)
def _of_file(file: Path, changed: int, coding: str) -> bytes:
    return _BY[coding][1](file.read_bytes())
