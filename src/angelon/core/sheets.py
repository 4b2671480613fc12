"""The rows of a file as payloads: CSV, spreadsheets, JSON, JSON Lines. A row that cannot be read harms only itself.
Pure: files come in as bytes or open files.
"""

from __future__ import annotations

import codecs
import csv
import datetime as dt
import io
import itertools
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, BinaryIO

import openpyxl
import orjson
from openpyxl.utils import get_column_letter

from angelon.core.payload.paths import list_at
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.file_form import FileForm

MOST_COLUMNS = 500
MOST_ROWS = 1_000_000
MOST_CELL = 100_000
"""Characters of a cell."""
MOST_UNPACKED = 400_000_000
"""Bytes of a spreadsheet when it is unpacked."""
MOST_STRINGS = 60_000_000
"""Bytes of the texts that a spreadsheet's cells share, which are held in memory."""
MOST_GROUPED = 500
"""Rows of one order."""
LOOKED_AT = 200_000
"""Bytes by which encoding and delimiter are guessed."""
DELIMITERS = (",", ";", "\t", "|")
OWN_ROWS = "rows"


@dataclass(frozen=True, slots=True)
class Row:
    """One order of a file, or why there is none in a row. `number` counts the file's rows from 1, its heading among
    them.
    """

    number: int
    payload: Any = None
    problem: str = ""
    size: int = 1
    """How many rows of the file it is."""


def guess(name: str, data: bytes) -> FileForm:
    """How a file is most likely read, by what is in it."""
    if data[:4] == b"PK\x03\x04":
        return FileForm(format="xlsx")
    encoding = _encoding(data[:LOOKED_AT])
    text = data[:LOOKED_AT].decode(encoding, "replace").lstrip("\ufeff \r\n\t")
    if text[:1] in ("{", "["):
        first = text.partition("\n")[0]
        lines = text[:1] == "{" and _is_json(first) and "\n" in text.strip()
        return FileForm(format="jsonl" if lines or name.lower().endswith((".jsonl", ".ndjson")) else "json")
    delimiter = max(DELIMITERS, key=lambda sign: _columns(text, sign))
    return FileForm.model_validate({"encoding": encoding, "delimiter": delimiter})


def _is_json(text: str) -> bool:
    try:
        orjson.loads(text)
    except orjson.JSONDecodeError:
        return False
    return True


def _encoding(start: bytes) -> str:
    if start.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(start)  # a character that is cut off at the end is none
    except UnicodeDecodeError:
        return "windows-1252"
    return "utf-8"


def _columns(text: str, delimiter: str) -> tuple[int, int]:
    """How many of the first rows have as many cells as the first, where these are several; and how many cells."""
    try:
        rows = list(itertools.islice(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter), 40))[:-1] or [
            next(csv.reader([text.partition("\n")[0]], delimiter=delimiter))
        ]
    except (csv.Error, StopIteration):
        return (0, 0)
    wide = len(rows[0])
    return (sum(len(row) == wide for row in rows), wide) if wide > 1 else (0, 0)


def sheets_of(data: bytes) -> list[str]:
    """The names of a spreadsheet's sheets. Raises Invalid."""
    book = _book(io.BytesIO(data))
    try:
        return list(book.sheetnames)
    finally:
        book.close()


def read_rows(form: FileForm, file: BinaryIO) -> Iterator[Row]:
    """A file's orders in their turn, a bounded number of them in memory (of JSON, the whole). Raises Invalid where the
    file as a whole can't be read so; `file` can be read from its start.
    """
    if form.format == "json":
        return _json(form, file)
    if form.format == "jsonl":
        return _lines(form, file)
    lines = _spreadsheet(form, file) if form.format == "xlsx" else _csv(form, file)
    return _grouped(form.group_by, _table(form, lines))


def _invalid(what: str, hint: str = "", where: str = "file") -> Invalid:
    return Invalid([Problem(where, what, hint)])


# ---- JSON ---------------------------------------------------------------------------------------------------------


def _json(form: FileForm, file: BinaryIO) -> Iterator[Row]:
    try:
        payload = orjson.loads(file.read().removeprefix(codecs.BOM_UTF8))
    except orjson.JSONDecodeError as error:
        raise _invalid(f"The file is not JSON: {error}.", "Choose another format, or correct the file.") from None
    for number, item in enumerate(list_at(form.items_at, payload, "the file"), 1):
        problem = "" if isinstance(item, dict) else "It is no object, but a single value."
        yield Row(number, None if problem else item, problem)


def _lines(form: FileForm, file: BinaryIO) -> Iterator[Row]:
    for number, line in enumerate(file, 1):
        text = line.removeprefix(codecs.BOM_UTF8).strip()
        if not text:
            continue
        try:
            item = orjson.loads(text)
        except orjson.JSONDecodeError as error:
            yield Row(number, problem=f"The line is not JSON: {error}.")
            continue
        problem = "" if isinstance(item, dict) else "The line is no object, but a single value."
        yield Row(number, None if problem else item, problem)


# ---- tables -------------------------------------------------------------------------------------------------------

Line = Sequence[Any] | str
"""The cells of a row, or what is wrong with it."""


def _csv(form: FileForm, file: BinaryIO) -> Iterator[tuple[int, Line]]:
    text = io.TextIOWrapper(file, encoding="utf-8-sig" if form.encoding == "utf-8" else form.encoding,
                            errors="strict", newline="")  # fmt: skip
    reader = csv.reader(text, delimiter=form.delimiter)
    try:
        while True:
            number = reader.line_num + 1
            try:
                cells = next(reader)
            except StopIteration:
                return
            except csv.Error as error:
                yield number, f"The row can't be read: {error}. A quotation mark may be open."
                continue
            yield number, cells
    except UnicodeError:
        what = f"The file is not {form.encoding}: row {reader.line_num + 1} can't be read."
        raise _invalid(what, "Choose another encoding.", "encoding") from None
    finally:
        text.detach()


def _book(file: BinaryIO) -> Any:
    """A spreadsheet, opened. Raises Invalid for what is none, and for what would not fit into memory."""
    try:
        with zipfile.ZipFile(file) as packed:
            members = packed.infolist()
            if sum(one.file_size for one in members) > MOST_UNPACKED or len(members) > 5000:
                raise _invalid("The spreadsheet is too large when it is unpacked.", "Save it as CSV.")
            for one in members:
                if one.filename.endswith("sharedStrings.xml") and one.file_size > MOST_STRINGS:
                    raise _invalid("The spreadsheet holds too much text.", "Save it as CSV.")
                if one.filename.endswith((".xml", ".rels")):
                    with packed.open(one) as part:
                        if b"<!DOCTYPE" in (start := part.read(2000)) or b"<!ENTITY" in start:
                            raise _invalid("The spreadsheet holds a document type, which none needs.", "Save it anew.")
        file.seek(0)
        return openpyxl.load_workbook(file, read_only=True, data_only=True, keep_links=False)
    except Invalid:
        raise
    except Exception as error:  # what a broken file makes of a library is told, whatever it is
        what = f"The file is no spreadsheet that can be read (.xlsx): {type(error).__name__}."
        raise _invalid(what, "Save it anew, or as CSV.") from None


def _spreadsheet(form: FileForm, file: BinaryIO) -> Iterator[tuple[int, Line]]:
    book = _book(file)
    try:
        if form.sheet and form.sheet not in book.sheetnames:
            what = f"There is no sheet “{form.sheet}”: there are {', '.join(book.sheetnames[:10])}."
            raise _invalid(what, "Choose one of these.", "sheet")
        sheet = book[form.sheet] if form.sheet else book[book.sheetnames[0]]
        if not hasattr(sheet, "iter_rows"):
            raise _invalid(f"“{sheet.title}” is a chart, and no sheet.", "Choose another sheet.", "sheet")
        sheet.reset_dimensions()  # what the file says of its size need not be true
        for number, cells in enumerate(sheet.iter_rows(values_only=True), 1):
            yield number, [_cell(cell) for cell in cells[: MOST_COLUMNS + 1]]
    except Invalid:
        raise
    except Exception as error:
        what = f"The spreadsheet can't be read any further: {type(error).__name__}."
        raise _invalid(what, "Save it anew, or as CSV.") from None
    finally:
        book.close()


def _cell(value: Any) -> Any:
    """A spreadsheet's cell as JSON has it: whole numbers without a point, moments in ISO 8601."""
    if isinstance(value, dt.datetime):
        return value.date().isoformat() if value.time() == dt.time() else value.isoformat()
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return int(value)
    if isinstance(value, dt.timedelta):
        return str(value)
    return "" if value is None else value


def _table(form: FileForm, lines: Iterable[tuple[int, Line]]) -> Iterator[Row]:
    columns: list[str] = []
    for count, (number, cells) in enumerate(lines, 1):
        if count > MOST_ROWS:
            yield Row(number, problem=f"A file may have {MOST_ROWS:,} rows: this and what follows was left out.")
            return
        if count < form.heading:
            continue
        if isinstance(cells, str):
            if not columns:
                raise _invalid(cells, "Say in which row the heading is.", "heading")
            yield Row(number, problem=cells)
        elif not columns:
            columns = headings(cells)
        elif any(str(cell).strip() for cell in cells):
            yield _row(number, columns, cells)
    if not columns:
        raise _invalid("There is no heading in the file.", "Say in which row it is.", "heading")


def headings(cells: Sequence[Any]) -> list[str]:
    """The names of columns: unique, and none of them empty. Raises Invalid."""
    cells = cells[: max((number for number, cell in enumerate(cells, 1) if str(cell).strip()), default=0)]
    if not cells:
        raise _invalid("The row of the heading is empty.", "Say in which row it is.", "heading")
    if len(cells) > MOST_COLUMNS:
        raise _invalid(f"The heading has over {MOST_COLUMNS} columns.", "Choose another delimiter, or a smaller table.")
    made: list[str] = []
    for number, cell in enumerate(cells, 1):
        name = " ".join(str(cell).split())[:100] or f"Column {get_column_letter(number)}"
        again = next(i for i in itertools.count(1) if (f"{name} {i}" if i > 1 else name) not in made)
        made.append(f"{name} {again}" if again > 1 else name)
    return made


def _row(number: int, columns: Sequence[str], cells: Sequence[Any]) -> Row:
    more = [cell for cell in cells[len(columns) :] if str(cell).strip()]
    if more:
        what = f"It has {len(cells)} cells, and the heading has {len(columns)}. Check its quotation marks."
        return Row(number, problem=what)
    long = next((name for name, cell in zip(columns, cells, strict=False) if len(str(cell)) > MOST_CELL), None)
    if long is not None:
        return Row(number, problem=f"The cell “{long}” has over {MOST_CELL:,} characters.")
    return Row(number, dict(itertools.zip_longest(columns, cells[: len(columns)], fillvalue="")))


def _grouped(column: str, rows: Iterator[Row]) -> Iterator[Row]:
    """Rows that follow each other and are of one order, as that."""
    if not column:
        yield from rows
        return
    seen: set[int] = set()
    group: list[Row] = []
    for row in rows:
        if row.payload is None:
            yield row
            continue
        if column not in row.payload:
            raise _invalid(f"There is no column “{column}”.", f"There are: {', '.join(row.payload)}.", "group_by")
        if group and (row.payload[column] != group[0].payload[column] or len(group) >= MOST_GROUPED):
            yield _group(column, group, seen)
            group = []
        group.append(row)
    if group:
        yield _group(column, group, seen)


def _group(column: str, group: Sequence[Row], seen: set[int]) -> Row:
    first, key = group[0], hash(str(group[0].payload[column]))
    if key in seen:
        what = f"“{first.payload[column]}” occurs in earlier rows, too, with others between. Sort by {column}."
        return Row(first.number, problem=what, size=len(group))
    seen.add(key)
    return Row(first.number, {**first.payload, OWN_ROWS: [one.payload for one in group]}, size=len(group))
