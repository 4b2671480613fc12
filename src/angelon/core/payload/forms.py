"""Form fields as objects: `a[b][0][c]=1` becomes `{"a": {"b": [{"c": "1"}]}}`."""

from __future__ import annotations

import re
from typing import Any

_PART = re.compile(r"\[([^\[\]]*)\]")
MAX_DEPTH = 64
"""Levels of one name; a name with more is taken as it stands."""
_INDEX = re.compile(r"0|[1-9][0-9]{0,5}")


def nest(pairs: list[tuple[str, str]]) -> dict[str, Any]:
    """Pairs of a form as one object. A name given twice becomes a list; `a[]` appends; whole-number keys 0…n make a
    list.
    """
    root: dict[str, Any] = {}
    for name, value in pairs:
        head, *keys = _split(name)
        _put(root, [head, *keys], value)
    listed = {key: _lists(item) for key, item in root.items()}
    return listed


def _split(name: str) -> list[str]:
    at = name.find("[")
    if at <= 0 or not name.endswith("]"):
        return [name]
    keys = _PART.findall(name[at:])
    if len(keys) > MAX_DEPTH:
        return [name]
    return [name[:at], *keys] if "".join(f"[{k}]" for k in keys) == name[at:] else [name]


def _put(into: dict[str, Any], keys: list[str], value: str) -> None:
    here = into
    for key in keys[:-1]:
        if key == "":
            key = str(len(here))
        child = here.get(key)
        if not isinstance(child, dict):
            child = here[key] = {} if child is None else {"": child}
        here = child
    last = keys[-1] if keys[-1] != "" or len(keys) == 1 else str(len(here))
    if last not in here:
        here[last] = value
    elif isinstance(here[last], list):
        here[last].append(value)
    elif isinstance(here[last], dict):
        here[last][str(len(here[last]))] = value
    else:
        here[last] = [here[last], value]


def _lists(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    made = {key: _lists(item) for key, item in value.items()}
    if made and all(_INDEX.fullmatch(key) for key in made):
        order = sorted(made, key=int)
        if [int(k) for k in order] == list(range(len(order))):
            return [made[k] for k in order]
    return made
