"""What a change of a mapping does to the values of events that have come in: the same, another, new, gone. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Evaluation, Variables
from angelon.core.specs.source import READING
from angelon.core.values import Value

Worked = tuple[Reading, Variables]
"""A payload as one mapping reads it."""
MOST_EXAMPLES = 3


@dataclass
class ValueChange:
    """What becomes of one part of the order, or of one variable."""

    part: str
    """`reading` or `recipes`"""
    name: str
    changed: int = 0
    """Events in which it has another value than before."""
    new: int = 0
    """Events in which it has a value and had none."""
    gone: int = 0
    """Events in which it had a value and has none."""
    examples: list[tuple[str, Value, Value]] = field(default_factory=list)
    """(order number, was, is): what is gone first, of the newest events."""

    @property
    def any(self) -> bool:
        return bool(self.changed or self.new or self.gone)


def value_changes(pairs: Iterable[tuple[str, Worked, Worked]], variables: Sequence[str]) -> list[ValueChange]:
    """What differs between two mappings over events, newest first: (order number, as it was read, as it is read).

    A part that is the same in every event is left out. What is not there and what can't be read count as no value.
    """
    found = [ValueChange("reading", name) for name in READING] + [ValueChange("recipes", name) for name in variables]
    rows: list[tuple[ValueChange, list[tuple[str, Value, Value]]]] = [(one, []) for one in found]
    for number, (old_reading, old_values), (new_reading, new_values) in pairs:
        for one, gone in rows:
            if one.part == "reading":
                was, now = _value(old_reading.parts.get(one.name)), _value(new_reading.parts.get(one.name))
            else:
                was, now = _value(old_values[one.name]), _value(new_values[one.name])
            if was == now:
                continue
            if now is None:
                one.gone += 1
                gone.append((number, was, now))
            else:
                one.new += was is None
                one.changed += was is not None
                one.examples.append((number, was, now))
    for one, gone in rows:
        one.examples = (gone + one.examples)[:MOST_EXAMPLES]
    return [one for one in found if one.any]


def _value(evaluation: Evaluation | None) -> Value:
    return evaluation.value if evaluation is not None and evaluation.present else None
