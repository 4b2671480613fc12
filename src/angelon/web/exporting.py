"""Lists as files, streamed, however long they are."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from typing import Any

from flask import Response, g, stream_with_context

from angelon.core.masking import masked
from angelon.db.database import Database
from angelon.engine.exports.lines import AT_ONCE, Rows, heading, lines
from angelon.engine.exports.listed import Listed
from angelon.engine.exports.process import beside
from angelon.web.services import services

BESIDE = threading.BoundedSemaphore(3)
"""Processes that may list at the same time for one that shows pages."""
HERE = 5000
"""Rows that the process that shows pages makes itself."""
TYPES = {"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl; charset=utf-8"}


def as_file(name: str, kind: str, columns: Sequence[str], parts: Iterator[Rows]) -> Response:
    """A file of these rows, which come in parts; with addresses and numbers hidden from who may only look."""
    return _answer(name, kind, stream_with_context(_text(kind, columns, parts, _hides())))


def as_file_of(name: str, kind: str, listed: Listed) -> Response:
    """A file of a list that may be long: what is over HERE rows is made by a process of its own."""
    return _answer(name, kind, stream_with_context(_lines(kind, listed, services().database, _hides())))


def _hides() -> bool:
    return bool(g.get("role") == "viewer")


def _answer(name: str, kind: str, made: Any) -> Response:
    headers = {"Content-Disposition": f'attachment; filename="{name}.{kind}"', "Cache-Control": "no-store"}
    return Response(made, content_type=TYPES[kind], headers=headers)


def _lines(kind: str, listed: Listed, database: Database, hide: bool) -> Iterator[str | bytes]:
    yield heading(kind, listed.columns)
    for _ in range(0, HERE, AT_ONCE):
        with database.reading() as session:
            rows, number = listed.read(session)
        text = lines(kind, listed.columns, rows)
        yield masked(text) if hide else text
        if number < AT_ONCE:
            return
    if not BESIDE.acquire(blocking=False):  # as many as may are at it: then it is made here
        yield from (masked(text) if hide else text for text in _texts(kind, listed, database))
        return
    try:
        yield from beside(database, listed, kind, hide)
    finally:
        BESIDE.release()


def _texts(kind: str, listed: Listed, database: Database) -> Iterator[str]:
    return (lines(kind, listed.columns, rows) for rows in listed.parts(database))


def _text(kind: str, columns: Sequence[str], parts: Iterator[Rows], hide: bool) -> Iterator[str]:
    yield heading(kind, columns)
    for rows in parts:
        text = lines(kind, columns, rows)
        yield masked(text) if hide else text
