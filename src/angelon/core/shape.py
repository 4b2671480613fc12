"""What a source's payloads have looked like so far, and when one no longer has what a recipe needs."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from angelon.core.payload.paths import child

MAX_PATHS = 1500
MAX_NODES = 6000
RECENT = 0.15
"""The weight of the newest delivery in the recent rate of a path."""


@dataclass(slots=True)
class FieldStats:
    """One path over all deliveries of one name. Delivery numbers count from 1; `at` is when it was there last,
    aware.
    """

    count: int
    first: int
    last: int
    recent: float
    kind: str
    kinds: dict[str, int]
    streak: int
    at: dt.datetime
    sample: str = ""

    def rate(self) -> float:
        """How often it was there while it was, from 0 to 1."""
        return self.count / (self.last - self.first + 1)

    def recent_rate(self, now: int) -> float:
        return self.recent * float((1 - RECENT) ** (now - self.last))


@dataclass(slots=True)
class Shape:
    """Every path that deliveries of one name have had. Paths into lists have `[*]`. Bounded by MAX_PATHS."""

    deliveries: int = 0
    paths: dict[str, FieldStats] = field(default_factory=dict)

    def learn(self, came: Iterable[tuple[Any, dt.datetime]]) -> None:
        """Takes payloads in, in the order in which they came, each with when (aware). Memory stays bounded whatever
        they hold.
        """
        paths, now, newest = self.paths, self.deliveries, {}
        for payload, at in came:
            now += 1
            for path, value in _first_values(payload).items():
                kind = _KINDS.get(type(value), "text")
                seen = paths.get(path)
                if seen is None:
                    if len(paths) < MAX_PATHS:
                        recent = RECENT if now > 1 else 1.0
                        paths[path] = FieldStats(1, now, now, recent, kind, {kind: 1}, 1, at, _short(value))
                    continue
                before = seen.recent if seen.last == now - 1 else seen.recent_rate(now - 1)
                seen.recent = before * (1 - RECENT) + RECENT
                seen.count += 1
                seen.last = now
                seen.at = at
                if kind != "null":
                    newest[path] = value
                    seen.streak = seen.streak + 1 if seen.kind == kind else 1
                    seen.kind = kind
                    seen.kinds[kind] = seen.kinds.get(kind, 0) + 1
        self.deliveries = now
        for path, value in newest.items():
            paths[path].sample = _short(value)

    def plain(self) -> dict[str, Any]:
        rows = {
            p: [s.count, s.first, s.last, round(s.recent, 4), s.kind, s.kinds, s.streak, s.at.isoformat(), s.sample]
            for p, s in self.paths.items()
        }
        return {"deliveries": self.deliveries, "paths": rows}

    @classmethod
    def of(cls, plain: dict[str, Any] | None) -> Shape:
        if not plain:
            return cls()
        return cls(
            plain["deliveries"],
            {
                p: FieldStats(r[0], r[1], r[2], r[3], r[4], r[5], r[6], dt.datetime.fromisoformat(r[7]), r[8])
                for p, r in plain["paths"].items()
            },
        )


_KINDS = {type(None): "null", bool: "flag", int: "number", float: "number", dict: "object", list: "list"}
_NESTED = (dict, list)
MOST_KEPT = 64
"""Names of an object whose paths are kept at hand."""


def _first_values(payload: Any) -> dict[str, Any]:
    """Every path with the first value there, list indexes as `[*]`; of a list, its first ten items; of MAX_NODES in
    all.
    """
    found: dict[str, Any] = {}
    stack: list[tuple[str, Any]] = [("$", payload)]
    left = MAX_NODES
    while stack and left > 0:
        path, value = stack.pop()
        if isinstance(value, dict):
            names = tuple(value)
            left -= len(names)
            below = _below(path, names) if len(names) <= MOST_KEPT else _below.__wrapped__(path, names[:MAX_NODES])
            for here, inner in zip(below, value.values(), strict=False):
                if here not in found:
                    found[here] = inner
                if type(inner) in _NESTED:
                    stack.append((here, inner))
        elif isinstance(value, list):
            stack.extend((f"{path}[*]", item) for item in value[:10])
    return found


@lru_cache(maxsize=512)
def _below(path: str, names: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(child(path, name) for name in names)


def _short(value: Any) -> str:
    return "" if isinstance(value, dict | list) else str(value)[:40]


@dataclass(frozen=True, slots=True)
class Drift:
    """A path that is no longer what it was. `since` is when it was there last, or when its type changed; aware."""

    path: str
    name: str
    label: str
    since: dt.datetime
    sample: str = ""


def general(path: str) -> str:
    """A recipe's path as shapes know it: indexes, filters and wildcards all as `[*]`."""
    made = re.sub(r"\[(?:-?\d+|\*|\?[^\]]*|-?\d*:-?\d*(?::-?\d*)?)\]", "[*]", path)
    return re.sub(r"\['([A-Za-z_][A-Za-z0-9_]*)'\]", r".\1", made)


def drift(shape: Shape, name: str, paths: Iterable[str]) -> list[Drift]:
    """Which of these recipe paths have drifted in the deliveries of one name.

    Missing: absent so many times in a row that chance would do it less than once in 500. Rare: once in four of five
    or more, now in fewer than a third. Changed: the last three had another type than most before.
    """
    found = []
    for path in dict.fromkeys(paths):
        seen = shape.paths.get(general(path))
        if seen is None or seen.count < 5:
            continue
        absent = shape.deliveries - seen.last
        rate = min(seen.rate(), 0.97)
        if absent >= 3 and (1 - rate) ** absent < 0.002:
            found.append(
                Drift(
                    path,
                    name,
                    f"missing in the last {absent} deliveries; before that in {_share(seen.rate())}",
                    seen.at,
                    seen.sample,
                )
            )
        elif seen.count >= 10 and seen.rate() >= 0.5 and seen.recent_rate(shape.deliveries) < 0.3:
            found.append(
                Drift(
                    path,
                    name,
                    f"has become rare: lately in {_share(seen.recent_rate(shape.deliveries))}",
                    seen.at,
                    seen.sample,
                )
            )
        else:
            main = max(seen.kinds, key=lambda k: seen.kinds[k])
            if main != seen.kind and seen.streak >= 3 and main != "null":
                found.append(Drift(path, name, f"was {main} and is now {seen.kind}", seen.at, seen.sample))
    return found


def _share(rate: float) -> str:
    return "all" if rate > 0.985 else f"{rate * 100:.0f} of 100"


@dataclass(frozen=True, slots=True)
class Difference:
    """What differs between two payloads at one path."""

    path: str
    how: str
    """`added`, `gone`, or `changed`."""
    was: Any = None
    now: Any = None


def compare(was: Any, now: Any, limit: int = 500) -> list[Difference]:
    """What the second payload has, lacks, or says otherwise than the first."""
    found: list[Difference] = []

    def walk(a: Any, b: Any, path: str) -> None:
        if len(found) >= limit:
            return
        if isinstance(a, dict) and isinstance(b, dict):
            for key in {**a, **b}:
                here = child(path, key)
                if key not in a:
                    found.append(Difference(here, "added", None, b[key]))
                elif key not in b:
                    found.append(Difference(here, "gone", a[key]))
                else:
                    walk(a[key], b[key], here)
        elif isinstance(a, list) and isinstance(b, list):
            for number in range(max(len(a), len(b))):
                here = f"{path}[{number}]"
                if number >= len(a):
                    found.append(Difference(here, "added", None, b[number]))
                elif number >= len(b):
                    found.append(Difference(here, "gone", a[number]))
                else:
                    walk(a[number], b[number], here)
        elif a != b or type(a) is not type(b):
            found.append(Difference(path, "changed", a, b))

    walk(was, now, "$")
    return found[:limit]
