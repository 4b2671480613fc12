"""Order numbers in a list or a file, with what its other columns say."""

from __future__ import annotations

import csv
import io
from collections.abc import Container
from typing import Any

NUMBERS = ("number", "order number", "order_number", "reference", "order", "order_id")


def numbered_rows(text: str, variables: Container[str]) -> list[tuple[str, dict[str, str]]]:
    """The order numbers of a CSV file or a list, each with the values of the columns that are called like a variable.
    The number is in the column `number`, `reference` or `order` where there is a heading, else in the first.
    """
    if not text.strip():
        return []
    try:
        dialect: Any = csv.Sniffer().sniff(text[:4000], delimiters=",;\t")
    except csv.Error:
        dialect = csv.excel
    try:
        rows = [row for row in csv.reader(io.StringIO(text, newline=""), dialect) if any(cell.strip() for cell in row)]
    except csv.Error:  # a cell of over 128 KB, a quote that never ends: no list of numbers
        rows = [[line] for line in text.splitlines() if line.strip()]
    heading = [cell.strip().casefold() for cell in rows[0]] if rows else []
    column = next((heading.index(name) for name in NUMBERS if name in heading), None)
    others = {place: name for place, name in enumerate(heading) if column is not None and name in variables}
    others.pop(column if column is not None else -1, None)
    at = column or 0
    return [
        (row[at].strip(), {name: row[place].strip() for place, name in others.items() if len(row) > place})
        for row in (rows[1:] if column is not None else rows)
        if len(row) > at and row[at].strip()
    ]
