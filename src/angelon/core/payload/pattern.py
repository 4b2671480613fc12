"""What bodies of one kind have in common: the names of their fields, by which each is stored smaller. No value of a
field is in it, so that nothing in it is about a person.
"""

from __future__ import annotations

import json
import re
from typing import Any

import orjson

MOST_NAMES = 400
_NAME = re.compile(r"[A-Za-z_@$][A-Za-z_$:.-]{0,40}\Z")
"""A field's name. What has a digit, a space or a letter of another script may be a key that was made up: an order's
number, what a customer is called.
"""
_FORMS = b'"T00:00:00+00:00"T00:00:00.000Z"https://www.'
"""How moments (RFC 3339) and addresses are written."""


def names_of(raw: bytes) -> Any:
    """The structure of a JSON object with its fields' names, each value empty; None for anything else."""
    try:
        value = orjson.loads(raw)
    except orjson.JSONDecodeError:
        return None
    return _emptied(value, [MOST_NAMES]) if isinstance(value, dict) else None


def _emptied(value: Any, left: list[int]) -> Any:
    if isinstance(value, dict):
        made = {}
        for name, inner in value.items():
            left[0] -= 1
            if left[0] < 0:
                break
            if _NAME.match(name):
                made[name] = _emptied(inner, left)
        return made
    if isinstance(value, list):
        return [_emptied(value[0], left)] if value else []
    return "" if isinstance(value, str) else None if value is None else 0


def common(one: Any, other: Any) -> Any:
    """What two structures have in common: a name that stands in one body alone may be one that somebody made up."""
    if isinstance(one, dict) and isinstance(other, dict):
        return {name: common(inner, other[name]) for name, inner in one.items() if name in other}
    if isinstance(one, list) and isinstance(other, list):
        return [common(one[0], other[0])] if one and other else []
    return "" if isinstance(one, dict | list) else one


def pattern_of(structure: Any, like: bytes) -> bytes:
    """A body of this structure, written as `like` is."""
    spaced = b'": ' in like
    separators = (", ", ": ") if spaced else (",", ":")
    return _FORMS + json.dumps(structure, separators=separators, ensure_ascii=False).encode()
