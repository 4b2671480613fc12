"""Filters of a list that fits on one page: words and choices from the address, for lists of up to some hundred rows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask import request

SHOWN_FROM = 8
"""Rows from which on a list has filters."""


@dataclass(frozen=True)
class Choice:
    """One filter: how it is called, what can be chosen (value and label), and which values a row has."""

    label: str
    options: Sequence[tuple[str, str]]
    of: Callable[[Any], Iterable[str]]


@dataclass(frozen=True)
class Sort:
    """Another order of a list than its own: how it is called, and by what of a row, the largest first or the least."""

    label: str
    by: Callable[[Any], Any]
    largest_first: bool = False


@dataclass(frozen=True)
class Narrowed:
    """What is left of a list, its filters as they are set, and how it is sorted (empty: by its own order)."""

    rows: list[Any]
    choices: Mapping[str, Choice]
    chosen: Mapping[str, str]
    words: str
    total: int
    sorts: Mapping[str, Sort]
    sort: str

    @property
    def has_filters(self) -> bool:
        return self.total > SHOWN_FROM or self.is_narrowed

    @property
    def is_narrowed(self) -> bool:
        return bool(self.words or any(self.chosen.values()))


def narrowed(
    rows: Sequence[Any], text_of: Callable[[Any], str], choices: Mapping[str, Choice], sorts: Mapping[str, Sort]
) -> Narrowed:
    """The rows that have all of the words and every value that is chosen."""
    words = request.args.get("words", "").strip()[:100]
    chosen = {name: request.args.get(name, "")[:100] for name in choices}
    wanted = words.casefold().split()
    left = [
        row
        for row in rows
        if all(word in text_of(row).casefold() for word in wanted)
        and all(not value or value in choices[name].of(row) for name, value in chosen.items())
    ]
    sort = request.args.get("sort", "")
    sort = sort if sort in sorts else ""
    if sort:
        left.sort(key=sorts[sort].by, reverse=sorts[sort].largest_first)
    return Narrowed(left, choices, chosen, words, len(rows), sorts, sort)
