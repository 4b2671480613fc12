"""A payload as a flat list of fields, in reading order: what the bench's left side shows."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any, Literal

from angelon.core.payload.paths import child
from angelon.core.payload.redact import BLOT, secret

Kind = Literal["object", "list", "text", "number", "flag", "null", "json"]


@dataclass(frozen=True, slots=True)
class Field:
    """One place in a payload. `depth` counts from 0 at the root's members; `size` is the number of members of
    a branch.
    """

    path: str
    key: str
    kind: Kind
    depth: int
    value: Any
    size: int = 0

    @property
    def branch(self) -> bool:
        return self.kind in ("object", "list")

    @property
    def label(self) -> str:
        """The value as the tree shows it."""
        if self.kind == "object":
            return ""
        if self.kind == "list":
            return "1 item" if self.size == 1 else f"{self.size} items"
        if secret(self.key) and self.value is not None:
            return BLOT
        if self.kind == "json":
            return "JSON in text"
        return json.dumps(self.value, ensure_ascii=False)


def kind_of(value: Any) -> Kind:
    """The JSON type of a value, with text that itself holds JSON told apart."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "flag"
    if isinstance(value, int | float):
        return "number"
    if isinstance(value, str):
        return "json" if holds_json(value) else "text"
    return "object" if isinstance(value, dict) else "list"


def holds_json(text: str) -> bool:
    """Whether a text is itself a JSON object or list."""
    if len(text) < 2 or (text[0], text[-1]) not in (("{", "}"), ("[", "]")):
        return False
    try:
        return isinstance(json.loads(text), dict | list)
    except (ValueError, RecursionError):
        return False


def fields(payload: Any, limit: int = 2000) -> list[Field]:
    """Every field of a payload, branches before their members, at most `limit` of them."""
    found: list[Field] = []

    def walk(value: Any, path: str, depth: int) -> None:
        members: Any = value.items() if isinstance(value, dict) else enumerate(value)
        for key, item in members:
            if len(found) >= limit:
                return
            here = child(path, key)
            kind = kind_of(item)
            size = len(item) if isinstance(item, dict | list) else 0
            found.append(Field(here, f"[{key}]" if isinstance(key, int) else key, kind, depth, item, size))
            if kind in ("object", "list"):
                walk(item, here, depth + 1)

    if isinstance(payload, dict | list):
        walk(payload, "$", 0)
    return found
