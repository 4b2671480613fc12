"""The fields of `order` that a text may use, and what is said of one that is none."""

from __future__ import annotations

from collections.abc import Iterable

from rapidfuzz import process

from angelon.core.problems import Problem
from angelon.core.specs.source import READING

ORDER_FIELDS = frozenset(READING) | {"stage"}


def unknown_fields(used: Iterable[str]) -> list[Problem]:
    """A problem for each field that no order has, with the closest one."""
    found = []
    for name in sorted(set(used) - ORDER_FIELDS):
        close = process.extractOne(name, sorted(ORDER_FIELDS), score_cutoff=55)
        found.append(
            Problem(
                "",
                f"An order has no field “{name}”.",
                f"Did you mean order.{close[0]}?" if close else f"The fields are {', '.join(sorted(ORDER_FIELDS))}.",
            )
        )
    return found
