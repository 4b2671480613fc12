"""Cells of tables that people open in a spreadsheet. Pure."""

from __future__ import annotations


def active_again(cell: str) -> str:
    """A cell as it was before `inert`."""
    return cell[1:] if cell[:1] == "'" and inert(cell[1:]) == cell else cell


def inert(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula, also one with blanks before it or in full width; a phone number
    keeps its plus.
    """
    begins = cell.lstrip(_BLANKS)[:1]
    formula = (begins and begins in "=-@＝－＠＋") or cell[:1] in ("\t", "\r")
    return f"'{cell}" if formula or (begins == "+" and not cell[1:].isdigit()) else cell


_BLANKS = " \n\u00a0\u200b\u2060\ufeff"
