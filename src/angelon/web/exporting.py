"""Lists as files, streamed, however long they are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from flask import Response, g, stream_with_context

from angelon.core.masking import masked
from angelon.engine.exports.lines import Rows, heading, lines

TYPES = {"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl; charset=utf-8"}


def as_file(name: str, kind: str, columns: Sequence[str], parts: Iterator[Rows]) -> Response:
    """A file of these rows, which come in parts; with addresses and numbers hidden from who may only look."""
    hide = g.get("role") == "viewer"
    headers = {"Content-Disposition": f'attachment; filename="{name}.{kind}"', "Cache-Control": "no-store"}
    made = stream_with_context(_text(kind, columns, parts, hide))
    return Response(made, content_type=TYPES[kind], headers=headers)


def _text(kind: str, columns: Sequence[str], parts: Iterator[Rows], hide: bool) -> Iterator[str]:
    yield heading(kind, columns)
    for rows in parts:
        text = lines(kind, columns, rows)
        yield masked(text) if hide else text
