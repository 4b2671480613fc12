"""Cells of tables that people open in a spreadsheet. Pure."""

from __future__ import annotations


def active_again(cell: str) -> str:
    """A cell as it was before `inert`."""
    return cell[1:] if cell[:1] == "'" and inert(cell[1:]) == cell else cell


def inert(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula; a phone number keeps its plus."""
    return f"'{cell}" if (cell and cell[0] in "=-@\t\r") or (cell[:1] == "+" and not cell[1:].isdigit()) else cell
