"""A variable that messages use, and the recipe by which a source gives it a value."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from pydantic import Field, field_validator, model_serializer, model_validator

from angelon.core.specs.base import OneLine, Spec, VariableName


class Type(StrEnum):
    __hash__ = str.__hash__  # an enum's own is written in Python, and each value looks its type up

    TEXT = "text"
    NUMBER = "number"
    MONEY = "money"
    DATE = "date"
    PHONE = "phone"
    EMAIL = "email"
    URL = "url"
    LIST = "list"
    FLAG = "flag"


class Variable(Spec):
    """A named, typed value. One that is required and has no value holds the send that needs it. With `keep` the last
    value that an event has said stays with its customer (`kept.NAME` in conditions).
    """

    name: VariableName
    type: Type = Type.TEXT
    about: OneLine = ""
    sample: Any = None
    required: bool = True
    keep: bool = False


class Step(Spec):
    """One small operation on a value: its name and what it is given.

    Written short: `strip`, or `{removeprefix: {prefix: "No. "}}`.
    """

    do: str = Field(min_length=1, max_length=40)
    given: dict[str, Any] = Field(default_factory=dict)

    @model_validator(mode="before")
    @classmethod
    def _short(cls, data: Any) -> Any:
        if isinstance(data, str):
            return {"do": data}
        if isinstance(data, dict) and len(data) == 1 and "do" not in data:
            ((do, given),) = data.items()
            return {"do": do, "given": given or {}}
        return data

    @model_serializer
    def _long(self) -> Any:
        return {self.do: self.given} if self.given else self.do


class Recipe(Spec):
    """How one value is got out of a payload: a path (RFC 9535), steps, and what to use otherwise.

    `or_paths` are tried in order where `path` has nothing. `default` is used as it stands, without the steps.
    A recipe with no path has only its `default`. Written short, a recipe is its path.
    """

    path: str = Field("", max_length=500)
    or_paths: list[str] = Field(default_factory=list, max_length=10)
    steps: list[Step] = Field(default_factory=list, max_length=30)
    default: Any = None

    @model_validator(mode="before")
    @classmethod
    def _short(cls, data: Any) -> Any:
        return {"path": data} if isinstance(data, str) else data

    @field_validator("path")
    @classmethod
    def _rooted(cls, path: str) -> str:
        if path and not path.startswith("$"):
            raise ValueError("has to start with $, the root of the payload")
        return path

    @model_serializer
    def _long(self) -> Any:
        full = {
            "path": self.path,
            "or_paths": self.or_paths,
            "steps": [s.model_dump() for s in self.steps],
            "default": self.default,
        }
        kept = {k: v for k, v in full.items() if v not in ("", [], None)}
        return self.path if set(kept) <= {"path"} else kept
