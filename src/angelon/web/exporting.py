"""Lists as files: CSV (RFC 4180) or JSON Lines, streamed, however long they are."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from flask import Response, g, stream_with_context

from angelon.core.masking import masked
from angelon.core.tables_out import inert

AT_ONCE = 1000
"""Rows that are read at once."""
TYPES = {"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl; charset=utf-8"}


def as_file(name: str, kind: str, columns: Sequence[str], parts: Iterator[Sequence[Mapping[str, Any]]]) -> Response:
    """A file of these rows, which come in parts; with addresses and numbers hidden from who may only look."""
    hide = g.get("role") == "viewer"
    headers = {"Content-Disposition": f'attachment; filename="{name}.{kind}"', "Cache-Control": "no-store"}
    made = stream_with_context(_lines(kind, columns, parts, hide))
    return Response(made, content_type=TYPES[kind], headers=headers)


def _lines(
    kind: str, columns: Sequence[str], parts: Iterator[Sequence[Mapping[str, Any]]], hide: bool
) -> Iterator[str]:
    write: Callable[[Mapping[str, Any]], str] = _csv_line if kind == "csv" else _json_line
    if kind == "csv":
        yield _csv_line({name: name for name in columns})
    for rows in parts:
        text = "".join(write({name: row[name] for name in columns}) for row in rows)
        yield masked(text) if hide else text


def _csv_line(row: Mapping[str, Any]) -> str:
    out = io.StringIO()
    cells = ("" if value is None else str(value) for value in row.values())
    csv.writer(out, lineterminator="\r\n").writerow([inert(cell) for cell in cells])
    return out.getvalue()


def _json_line(row: Mapping[str, Any]) -> str:
    return json.dumps(row, ensure_ascii=False) + "\n"


def moment(at: Any) -> str:
    """A moment as files have it: ISO 8601, in UTC; empty where there is none."""
    return at.isoformat() if at is not None else ""
