"""What is noted about a customer: tags, and values of the variables that are kept with customers."""

from __future__ import annotations

from typing import Any

from pydantic import Field, model_validator

from angelon.core.specs.base import OneLine, Spec, Tag, VariableName


class Marks(Spec):
    tags: dict[Tag, bool] = Field(default_factory=dict, max_length=20)
    """Tags that are set (True) or taken off."""
    values: dict[VariableName, OneLine] = Field(default_factory=dict, max_length=20)
    """Values as people write them, by variable; the variable's type says what they are. Both may be written as lines:
    `+vip`, `-lead`, `size = L`.
    """

    @model_validator(mode="before")
    @classmethod
    def _lines(cls, data: Any) -> Any:
        return read_marks(data) if isinstance(data, str) else data

    def __bool__(self) -> bool:
        return bool(self.tags or self.values)


def read_marks(text: str) -> dict[str, object]:
    """A line each: `+vip` sets a tag, `-lead` takes one off, `size = L` notes a value. Raises ValueError."""
    tags: dict[str, bool] = {}
    values: dict[str, str] = {}
    for line in (part.strip() for part in text.splitlines()):
        name, sign, value = (part.strip() for part in line.partition("="))
        if not line:
            continue
        if line[0] in "+-" and line[1:].strip():
            tags[line[1:].strip()] = line[0] == "+"
        elif sign and name and value:
            values[name] = value
        else:
            raise ValueError(f"“{line[:60]}” says nothing to note: write +tag, -tag, or variable = value")
    return {"tags": tags, "values": values}


def written_marks(marks: Marks) -> str:
    """The same as text."""
    lines = [f"{'+' if on else '-'}{tag}" for tag, on in marks.tags.items()]
    return "\n".join([*lines, *(f"{name} = {value}" for name, value in marks.values.items())])
