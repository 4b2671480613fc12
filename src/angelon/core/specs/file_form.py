"""How the rows of a file are read."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from angelon.core.specs.base import ListPath, Spec

ENCODINGS = ("utf-8", "windows-1252", "iso-8859-15", "windows-1250", "windows-1251", "utf-16", "shift_jis", "gb18030")


class FileForm(Spec):
    """A table has a heading in its row `heading`, counted from 1, and an order in each row after it, or in those that
    follow each other and have the same text in the column `group_by`; such an order has its rows at `$.rows`. JSON
    (RFC 8259) has its orders at `items_at`; JSON Lines have one in each line.
    """

    format: Literal["csv", "xlsx", "json", "jsonl"] = "csv"
    encoding: Literal["utf-8", "windows-1252", "iso-8859-15", "windows-1250", "windows-1251", "utf-16", "shift_jis",
                      "gb18030"] = "utf-8"  # fmt: skip
    delimiter: Literal[",", ";", "\t", "|"] = ","
    sheet: str = Field("", max_length=100)
    """The name of a spreadsheet's sheet; empty for the first."""
    heading: int = Field(1, ge=1, le=100)
    group_by: str = Field("", max_length=200)
    items_at: ListPath = "$"


class Folder(Spec):
    """A folder from which files are taken as they are put there. `quiet` takes their orders in and tells nobody."""

    form: FileForm = Field(default_factory=FileForm)
    quiet: bool = False
    on: bool = True
