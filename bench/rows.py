"""How a benchmark's outcome is kept and printed."""

from __future__ import annotations

import json
import statistics
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any


@dataclass
class Row:
    name: str
    value: float
    unit: str
    aim: str = ""
    detail: dict[str, Any] = field(default_factory=dict)

    @property
    def met(self) -> bool | None:
        if not self.aim:
            return None
        sign, number = self.aim.split()
        return self.value >= float(number) if sign == ">=" else self.value <= float(number)

    def beyond(self, times: float) -> bool:
        """Whether it misses its aim by so many times."""
        if not self.aim:
            return False
        sign, number = self.aim.split()
        return self.value * times < float(number) if sign == ">=" else self.value > float(number) * times


def in_turn(rounds: int, *measures: Callable[[], float]) -> list[list[float]]:
    """Each measure once a round, one after the other, so that a slow minute hits all of them."""
    found: list[list[float]] = [[] for _ in measures]
    for _ in range(rounds):
        for place, measure in enumerate(measures):
            found[place].append(measure())
    return found


def median(values: list[float]) -> float:
    return statistics.median(values)


def report(rows: list[Row], file: Path) -> None:
    file.write_text(json.dumps([asdict(row) for row in rows], indent=1) + "\n")
    width = max(len(row.name) for row in rows)
    for row in rows:
        mark = {True: "met", False: "NOT MET", None: ""}[row.met]
        detail = ", ".join(f"{k} {v:,.3g}" if isinstance(v, float) else f"{k} {v}" for k, v in row.detail.items())
        print(f"{row.name:{width}}  {row.value:9.3g} {row.unit:6} {row.aim:9} {mark:8} {detail}")
