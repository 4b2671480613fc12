"""The rows of files: guessed, read, and what a broken, hostile or huge one does."""

import datetime as dt
import io
import json
import random
import tracemalloc
import zipfile

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.problems import Invalid
from angelon.core.sheets import MOST_COLUMNS, Row, guess, headings, read_rows, sheets_of
from angelon.core.specs.file_form import FileForm

TABLE = [["Order", "Name", "Mail"], ["1", "Änne Öz", "a@example.org"], ["2", "Bo; the “great”", "b@example.org"]]


def csv_of(rows, delimiter=",", encoding="utf-8", newline="\r\n"):
    import csv

    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator=newline).writerows(rows)
    return out.getvalue().encode(encoding)


def xlsx_of(rows, title="Orders", more=()):
    book = openpyxl.Workbook()
    book.active.title = title
    for row in rows:
        book.active.append(row)
    for name in more:
        book.create_sheet(name)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def rows(form, data):
    return list(read_rows(form, io.BytesIO(data)))


def payloads(form, data):
    return [row.payload for row in rows(form, data)]


READ = [{"Order": "1", "Name": "Änne Öz", "Mail": "a@example.org"},
        {"Order": "2", "Name": "Bo; the “great”", "Mail": "b@example.org"}]  # fmt: skip


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "windows-1252", "utf-16"])
@pytest.mark.parametrize("newline", ["\r\n", "\n"])
def test_a_table_is_guessed_as_it_was_written(delimiter, encoding, newline):
    data = csv_of(TABLE, delimiter, encoding, newline)
    form = guess("orders.csv", data)
    assert (form.format, form.delimiter) == ("csv", delimiter)
    assert payloads(form, data) == READ


def test_a_spreadsheet_is_read_as_people_see_it():
    data = xlsx_of(
        [["Order", "Placed", "Total", "Paid"], [12.0, dt.datetime(2026, 3, 2), 9.5, True], [None] * 4,
         ["A7", dt.datetime(2026, 3, 2, 9, 30), None, None]],
        more=["Notes"],
    )  # fmt: skip
    form = guess("orders.xlsx", data)
    assert sheets_of(data) == ["Orders", "Notes"]
    assert rows(form, data) == [
        Row(2, {"Order": 12, "Placed": "2026-03-02", "Total": 9.5, "Paid": True}),
        Row(4, {"Order": "A7", "Placed": "2026-03-02T09:30:00", "Total": "", "Paid": ""}),
    ]
    with pytest.raises(Invalid, match="no sheet “Other”: there are Orders, Notes"):
        rows(FileForm(format="xlsx", sheet="Other"), data)
    with pytest.raises(Invalid, match="no heading"):
        rows(FileForm(format="xlsx", sheet="Notes"), data)


@pytest.mark.parametrize(
    ("name", "data", "format_"),
    [
        ("a.json", b'{"orders": [{"no": 1}]}', "json"),
        ("a.txt", b'[{"no": 1}]', "json"),
        ("a.txt", b'{"no": 1}\n{"no": 2}\n', "jsonl"),
        ("a.ndjson", b'{"no": 1}', "jsonl"),
        ("a.csv", b"no\n1\n2\n", "csv"),
    ],
)
def test_json_and_json_lines_are_told_apart(name, data, format_):
    assert guess(name, data).format == format_


def test_json_has_its_orders_at_a_path_and_says_what_is_there_instead():
    data = b'{"orders": [{"no": 1}, 7]}'
    assert rows(FileForm(format="json", items_at="$.orders"), data) == [
        Row(1, {"no": 1}), Row(2, problem="It is no object, but a single value."),
    ]  # fmt: skip
    with pytest.raises(Invalid, match=r"There is no list at \$ in the file\. There are: orders\."):
        rows(FileForm(format="json"), data)
    with pytest.raises(Invalid, match="The file is not JSON"):
        rows(FileForm(format="json"), b"[" * 100_000)


def test_a_line_that_is_no_json_harms_only_itself():
    found = rows(FileForm(format="jsonl"), b'\xef\xbb\xbf{"no": 1}\n\n{"no": \n[1]\n{"no": 4}')
    assert [row.number for row in found] == [1, 3, 4, 5]
    assert [bool(row.problem) for row in found] == [False, True, True, False]


def test_rows_of_one_order_are_one_and_what_is_not_together_is_said():
    data = csv_of([["No", "Item"], ["1", "kite"], ["1", "reel"], ["2", "line"], ["1", "spar"]])
    one, two, again = rows(FileForm(group_by="No"), data)
    assert (one.number, one.size) == (2, 2)
    assert one.payload == {
        "No": "1",
        "Item": "kite",
        "rows": [{"No": "1", "Item": "kite"}, {"No": "1", "Item": "reel"}],
    }
    assert two.payload["No"] == "2"
    assert again.number == 5
    assert "“1” occurs in earlier rows, too" in again.problem
    with pytest.raises(Invalid, match="There is no column “Nr”"):
        rows(FileForm(group_by="Nr"), data)


def test_a_broken_row_harms_only_itself():
    data = b'No,Name\n1,"a"\n2,b,c,d\n3\n"4,' + b"x" * 140_000 + b'\n5,"e"\n'
    found = rows(FileForm(), data)
    told = {row.number: row.problem or row.payload for row in found}
    assert told[2] == {"No": "1", "Name": "a"}
    assert "It has 4 cells, and the heading has 2" in told[3]
    assert told[4] == {"No": "3", "Name": ""}
    assert any("quotation mark" in str(one) for one in told.values())


def test_a_wrong_encoding_is_said_and_a_right_one_helps():
    data = csv_of(TABLE, encoding="windows-1252")
    with pytest.raises(Invalid, match="The file is not utf-8"):
        rows(FileForm(), data)
    assert payloads(FileForm(encoding="windows-1252"), data) == READ


def test_headings_are_unique_and_named():
    assert headings(["A", " a  b ", "A", "", "A 2", "", ""]) == ["A", "a b", "A 2", "Column D", "A 2 2"]
    with pytest.raises(Invalid, match="The row of the heading is empty"):
        headings(["", " "])
    with pytest.raises(Invalid, match="over 500 columns"):
        headings([str(n) for n in range(MOST_COLUMNS + 1)])


def test_bombs_are_refused_before_they_are_unpacked():
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("xl/worksheets/sheet1.xml", b"<a>" + b" " * 410_000_000)
    tracemalloc.start()
    with pytest.raises(Invalid, match="too large when it is unpacked"):
        rows(FileForm(format="xlsx"), out.getvalue())
    assert tracemalloc.get_traced_memory()[1] < 20_000_000
    tracemalloc.stop()
    whole = xlsx_of(TABLE)
    evil = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(whole)) as plain, zipfile.ZipFile(evil, "w") as packed:
        for one in plain.infolist():
            content = plain.read(one)
            if one.filename.endswith("sheet1.xml"):
                content = b'<!DOCTYPE x [<!ENTITY a "aaaa">]>' + content
            packed.writestr(one.filename, content)
    with pytest.raises(Invalid, match="holds a document type"):
        rows(FileForm(format="xlsx"), evil.getvalue())


def test_many_rows_take_bounded_memory():
    class Endless(io.RawIOBase):
        def __init__(self):
            self.left, self.rest = 60_000, b"No,Name,Mail\n"

        def readable(self):
            return True

        def readinto(self, into):
            while len(self.rest) < len(into) and self.left:
                self.rest += f"{self.left},Somebody with a name,somebody{self.left}@example.org\n".encode()
                self.left -= 1
            part, self.rest = self.rest[: len(into)], self.rest[len(into) :]
            into[: len(part)] = part
            return len(part)

    tracemalloc.start()
    count = sum(1 for row in read_rows(FileForm(), io.BufferedReader(Endless(), 8192)) if row.payload)
    assert count == 60_000
    assert tracemalloc.get_traced_memory()[1] < 2_000_000
    tracemalloc.stop()


WHOLE = {
    "csv": csv_of(TABLE),
    "xlsx": xlsx_of(TABLE),
    "json": json.dumps(READ).encode(),
    "jsonl": b"\n".join(json.dumps(one).encode() for one in READ),
}


@given(seed=st.integers(0, 10**9), kind=st.sampled_from(["csv", "xlsx", "json", "jsonl"]))
@settings(max_examples=150)
def test_a_mutated_file_gives_rows_or_a_sentence(seed, kind):
    dice = random.Random(seed)
    whole = WHOLE[kind]
    data = bytearray(whole)
    for _ in range(dice.randint(1, 8)):
        place = dice.randrange(len(data))
        match dice.randrange(3):
            case 0:
                data[place] = dice.randrange(256)
            case 1:
                del data[place : place + dice.randint(1, 40)]
            case 2:
                data[place:place] = bytes(dice.randrange(256) for _ in range(dice.randint(1, 9)))
        if not data:
            data = bytearray(b"x")
    for form in (FileForm(format=kind), guess("file", bytes(data))):
        try:
            for row in read_rows(form, io.BytesIO(bytes(data))):
                assert (row.payload is None) == bool(row.problem)
        except Invalid as error:
            assert error.problems[0].what.endswith(".")
