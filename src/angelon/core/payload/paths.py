"""JSONPath (RFC 9535): compiled once, with a short way for the plain paths that most recipes are."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from jsonpath_rfc9535.exceptions import JSONPathError
from jsonpath_rfc9535.segments import JSONPathRecursiveDescentSegment
from jsonpath_rfc9535.selectors import FilterSelector, IndexSelector, NameSelector

from angelon.core.payload.budget import TooMuch, compile_bounded, find_bounded
from angelon.core.problems import Invalid, Problem

MISSING: Any = type("Missing", (), {"__repr__": lambda _: "MISSING", "__bool__": lambda _: False})()

_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")


class BadPath(ValueError):
    """A path that is no JSONPath, or one that looks at too much of a payload. `position` counts characters from 0."""

    def __init__(self, path: str, why: str, position: int) -> None:
        super().__init__(why)
        self.path = path
        self.position = position
        self.problem = Problem(
            "path",
            f"“{path}” is not a JSONPath: {why} at character {position + 1}.",
            "Click a field of the payload to have its path.",
        )


class TooLong(BadPath):
    """A path that looks at more places of a payload than one may."""

    def __init__(self, path: str, why: str) -> None:
        super().__init__(path, why, 0)
        self.problem = Problem(
            "path",
            f"“{path}” can't be used on this payload: {why}.",
            "Write it with fewer descents (..) and wildcards.",
        )


@dataclass(frozen=True, slots=True)
class Path:
    """A compiled path.

    `keys` holds the names and indexes of a path that can match one place only; None for a path that may match
    several. `many` is true where the path asks for every match by its form (a wildcard, a slice, a descent); a path
    with filters alone is taken to look for one.
    """

    text: str
    query: Any
    keys: tuple[str | int, ...] | None
    many: bool
    by_name: bool = False
    """Whether all keys are names."""

    def find(self, payload: Any) -> Any:
        """The value at this path: MISSING where nothing is; a list of values where the path asks for many.

        Raises BadPath where it looks at more of the payload than its budget allows.
        """
        if self.keys is not None:
            here = payload
            if self.by_name:
                try:
                    for key in self.keys:
                        here = here[key]
                except (KeyError, TypeError):  # no such member, or no object
                    return MISSING
                return here
            for key in self.keys:
                if isinstance(key, str):
                    if not isinstance(here, dict) or key not in here:
                        return MISSING
                    here = here[key]
                else:
                    if not isinstance(here, list) or not -len(here) <= key < len(here):
                        return MISSING
                    here = here[key]
            return here
        try:
            values: list[Any] = find_bounded(self.query, payload).values()
        except TooMuch as error:
            raise TooLong(self.text, str(error.args[0])) from None
        except (JSONPathError, RecursionError):
            return MISSING
        if not values:
            return MISSING
        return values if self.many or len(values) > 1 else values[0]

    def places(self, payload: Any) -> list[str]:
        """The plain paths (as `child` writes them) of every match."""
        try:
            nodes = find_bounded(self.query, payload)
        except (JSONPathError, RecursionError):
            return []
        return [plain(node.location) for node in nodes]


@lru_cache(maxsize=4096)
def compile_path(text: str) -> Path:
    """Compiles a JSONPath (RFC 9535). Raises BadPath with the position of what can't be read."""
    if len(text) > 500:
        raise BadPath(text[:40] + "…", "it is longer than 500 characters", 500)
    try:
        query = compile_bounded(text)
    except JSONPathError as error:
        token = getattr(error, "token", None)
        why = str(error.args[0] if error.args else error)
        raise BadPath(text, why, getattr(token, "index", 0) or 0) from None
    except RecursionError:
        raise BadPath(text, "it is nested too deeply", 0) from None
    keys: list[str | int] | None = []
    many = False
    for segment in query.segments:
        selectors = segment.selectors
        descends = isinstance(segment, JSONPathRecursiveDescentSegment)
        sole = selectors[0] if len(selectors) == 1 and not descends else None
        if isinstance(sole, NameSelector) and keys is not None:
            keys.append(sole.name)
        elif isinstance(sole, IndexSelector) and keys is not None:
            keys.append(sole.index)
        else:
            if sole is None or not isinstance(sole, NameSelector | IndexSelector):
                many = many or descends or len(selectors) > 1 or not isinstance(selectors[0], FilterSelector)
                keys = None
    by_name = keys is not None and all(isinstance(key, str) for key in keys)
    return Path(text, query, tuple(keys) if keys is not None else None, many, by_name)


def child(parent: str, key: str | int) -> str:
    """The path of a member or element, in the shorthand where the name allows it."""
    if isinstance(key, int):
        return f"{parent}[{key}]"
    return _member(parent, key) if len(parent) + len(key) < 100 else _member.__wrapped__(parent, key)


@lru_cache(maxsize=4096)
def _member(parent: str, key: str) -> str:
    if _PLAIN.match(key):
        return f"{parent}.{key}"
    quoted = (
        key.replace("\\", "\\\\").replace("'", "\\'").replace("\n", "\\n").replace("\t", "\\t").replace("\r", "\\r")
    )
    quoted = re.sub(r"[\x00-\x1f]", lambda m: f"\\u{ord(m[0]):04x}", quoted)
    return f"{parent}['{quoted}']"


def plain(location: tuple[str | int, ...] | list[str | int]) -> str:
    """A location (names and indexes from the root) as a path."""
    path = "$"
    for key in location:
        path = child(path, key)
    return path


def looks_like_path(text: object) -> bool:
    """Whether a parameter is meant as a path into the payload rather than as itself."""
    return isinstance(text, str) and (text.startswith("$.") or text.startswith("$["))


def list_at(path: str, payload: Any, within: str) -> list[Any]:
    """The list of orders, or rows, at a path of what is called `within`. Raises Invalid at `items_at`."""
    try:
        items = compile_path(path).find(payload)
    except BadPath as error:
        raise Invalid([error.problem.at("items_at")]) from None
    if isinstance(items, list):
        return items
    there = f" There are: {', '.join(list(payload)[:12])}." if isinstance(payload, dict) and payload else ""
    what = f"There is no list at {path} in {within}.{there}"
    raise Invalid([Problem("items_at", what, "Say at which path the list is, such as $.orders.")])
