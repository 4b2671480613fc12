"""Rows as lines of text: CSV (RFC 4180) or JSON Lines."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from typing import Any

from angelon.core.tables_out import inert

AT_ONCE = 1000
"""Rows that are read at once."""
Rows = Sequence[Mapping[str, Any]]


def heading(kind: str, columns: Sequence[str]) -> str:
    """What a file of this kind (csv or jsonl) begins with."""
    return _csv_line({name: name for name in columns}) if kind == "csv" else ""


def lines(kind: str, columns: Sequence[str], rows: Rows) -> str:
    write = _csv_line if kind == "csv" else _json_line
    return "".join(write({name: row[name] for name in columns}) for row in rows)


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
