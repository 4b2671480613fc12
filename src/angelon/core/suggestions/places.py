"""The places of payloads that may hold a part of an order: fields, lists of objects, attributes kept as name and value,
parties kept by role, JSON kept in a text.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from angelon.core.payload.paths import child
from angelon.core.suggestions.looks import currency, money, reduction
from angelon.core.suggestions.meaning import meaning

MAX_FIELDS = 400
MAX_DEPTH = 12
Steps = tuple[dict[str, Any] | str, ...]
_NAMING = (
    "key",
    "kind",
    "name",
    "type",
    "label",
    "code",
    "field",
    "attribute",
    "attr",
    "medium",
    "art",
    "property",
    "typ",
    "via",
)
_HOLDING = (
    "value",
    "content",
    "text",
    "val",
    "v",
    "to",
    "address",
    "e164",
    "data",
    "wert",
    "valor",
    "valeur",
    "answer",
)
_SUMS = frozenset({"total", "tax", "postage", "discount", "net", "recipient"})
"""What a list of amounts names, one each: the order's sums, and not its lines."""
_ROLE = ("role", "part", "type", "kind", "relation", "usage", "function", "art", "rolle", "qualifier", "party")
_PARTIES = frozenset({"customer", "recipient", "seller", "billing"})
_HOLDERS = frozenset({"amount", "minor", "unit", "wrapper"})
"""What a key means that names no part of an order, only how a value is kept."""
_CONTENT = ("text", "value", "content", "")


@dataclass
class Place:
    """A place that samples have in common: a field, or a list of objects."""

    path: str
    key: str
    parents: tuple[str, ...]
    values: list[Any] = field(default_factory=list)
    steps: Steps = ()
    items: bool = False
    currency: str = ""
    """The path of the currency's code that stands beside an amount."""

    @property
    def value(self) -> Any:
        return next((v for v in self.values if v not in (None, "")), None)

    @cached_property
    def own(self) -> frozenset[str]:
        """What its key means; of a key that only says how a value is kept, what its parent means too."""
        mine = meaning(self.key)
        if self._holds and self._above:
            return (mine & _HOLDERS) | self._above[-1] | {"amount"}
        return mine

    @cached_property
    def around(self) -> frozenset[str]:
        """What the objects that it stands in mean."""
        above = self._above[:-1] if self._holds else self._above
        return frozenset().union(*above) - {"wrapper", "medium"}

    @cached_property
    def of_order(self) -> frozenset[str]:
        """The same from the innermost object on that is an order: a parcel that names its order is none of it."""
        last = max((at for at, means in enumerate(self._above) if "order" in means), default=0)
        above = self._above[last:]
        return frozenset().union(*(above[:-1] if self._holds else above)) - {"wrapper", "medium"}

    @property
    def is_first_of_several(self) -> bool:
        """Whether it is of the first item of a list: the others have values of their own."""
        return "[0]" in self.path

    @cached_property
    def _holds(self) -> bool:
        """Whether its key only says how the amount is kept that its parent names."""
        return bool(self.currency) and (meaning(self.key) <= _HOLDERS or self.key.strip("#@$_").lower() in _CONTENT)

    @cached_property
    def _above(self) -> list[frozenset[str]]:
        return [meaning(parent) for parent in self.parents]


def places(samples: Sequence[Any]) -> list[Place]:
    """The places that samples hold, each with its value in every sample that has it."""
    finder = _Finder()
    for sample in samples:
        if isinstance(sample, list):
            finder.listed(sample, "$", "", (), 0)
        elif isinstance(sample, dict):
            if "specversion" in sample:  # a CloudEvent: of its envelope only these may say something of the order
                sample = {key: value for key, value in sample.items() if key in ("data", "time", "subject")}
            finder.walk(sample, "$", (), 0)
            for pattern, group in _numbered(sample).items():
                finder.note("$", pattern, (), group, ({"collect": {"pattern": pattern}},), True)
    return list(finder.found.values())


class _Finder:
    def __init__(self) -> None:
        self.found: dict[str, Place] = {}

    def note(
        self,
        path: str,
        key: str,
        parents: tuple[str, ...],
        value: Any,
        steps: Steps = (),
        items: bool = False,
        currency: str = "",
    ) -> None:
        mark = f"{path}|{steps}"
        if mark not in self.found and len(self.found) >= MAX_FIELDS:
            return
        self.found.setdefault(mark, Place(path, key, parents, [], steps, items, currency)).values.append(value)

    def walk(self, value: dict[str, Any], path: str, parents: tuple[str, ...], depth: int) -> None:
        if depth > MAX_DEPTH:
            return
        unit = _currency_beside(value, path)
        for key, inner in value.items():
            here = child(path, key)
            if isinstance(inner, dict):
                self.walk(inner, here, (*parents, key), depth + 1)
            elif isinstance(inner, list):
                self.listed(inner, here, key, parents, depth)
            else:
                self.note(here, key, parents, inner, currency=unit if not isinstance(inner, bool) else "")
                self._json(inner, here, (*parents, key), depth)

    def _json(self, text: Any, path: str, parents: tuple[str, ...], depth: int) -> None:
        """What stands in a text that is JSON itself."""
        if not isinstance(text, str) or text.lstrip()[:1] != "{" or len(text) > 200_000:
            return
        try:
            inner = json.loads(text)
        except (ValueError, RecursionError):
            return
        within = _Finder()
        within.walk(inner, "$", parents, depth + 1)
        for place in within.found.values():
            if place.path != "$" and not place.steps:
                for value in place.values:
                    self.note(
                        path, place.key, place.parents, value, ({"parse_json": {"path": place.path}},), place.items
                    )

    def listed(self, items: list[Any], path: str, key: str, parents: tuple[str, ...], depth: int) -> None:
        objects = [item for item in items[:20] if isinstance(item, dict)]
        if not objects or depth > MAX_DEPTH:
            return
        wrapping = _wrapping(objects)
        inner = [item[wrapping] for item in objects] if wrapping else objects
        suffix = f".{wrapping}" if wrapping else ""
        pair = _pair(inner)
        if pair:
            naming, holding = pair
            for item in inner:
                where = f"{path}[{_equals(wrapping, naming, item[naming])}]{suffix}"
                self.note(child(where, holding), item[naming], (*parents, key), item.get(holding))
            return
        role = _role(inner)
        if role:
            for item in inner:
                where = f"{path}[{_equals(wrapping, role, item[role])}]{suffix}"
                self.walk(item, where, (*parents, key, item[role]), depth + 1)
            return
        self.note(f"{path}[*]{suffix}" if wrapping else path, key, parents, inner, (), True)
        self.walk(inner[0], f"{path}[0]{suffix}", (*parents, key), depth + 1)


def _equals(wrapping: str, name: str, value: str) -> str:
    """A filter (RFC 9535, section 2.3.5) for the item whose field has a value."""
    quoted = value.replace("\\", "\\\\").replace('"', '\\"')
    quoted = re.sub(r"[\x00-\x1f]", lambda m: f"\\u{ord(m[0]):04x}", quoted)
    return f'?{child(f"@.{wrapping}" if wrapping else "@", name)} == "{quoted}"'


def _wrapping(objects: list[dict[str, Any]]) -> str:
    """The one key under which each item of a list stands, as in lists of edges and nodes; empty where there is none."""
    keys = set(objects[0])
    if all(
        len([inner for inner in item.values() if isinstance(inner, dict)]) == 1 and len(item) <= 2 and set(item) == keys
        for item in objects
    ):
        key = next(key for key, inner in objects[0].items() if isinstance(inner, dict))
        if key.isidentifier() and all(isinstance(item[key], dict) for item in objects):
            return key if len(keys) == 1 or "wrapper" in meaning(key) else ""
    return ""


def _pair(objects: list[dict[str, Any]]) -> tuple[str, str] | None:
    """The keys under which a list of attributes keeps names and values; None for any other list."""
    for naming in _NAMING:
        for holding in _HOLDING:
            if all(
                isinstance(o.get(naming), str)
                and o[naming]
                and holding in o
                and not isinstance(o[holding], dict | list)
                and len(o) <= 4
                for o in objects
            ):
                return naming, holding
        if all(isinstance(o.get(naming), str) for o in objects) and any(meaning(o[naming]) & _SUMS for o in objects):
            for holding in objects[0]:
                amounts = [o.get(holding) for o in objects]
                if meaning(holding) & {"amount", "minor", "total"} and all(reduction(one) for one in amounts):
                    return naming, holding
    return None


def _role(objects: list[dict[str, Any]]) -> str:
    """The key that says which party each object is; empty where none does."""
    for name in _ROLE:
        values = [o.get(name) for o in objects]
        if all(isinstance(v, str) and v for v in values) and any(meaning(str(v)) & _PARTIES for v in values):
            return name
    return ""


def _currency_beside(value: dict[str, Any], path: str) -> str:
    """The path of a currency's code in an object that is an amount: a number, its currency, and little else."""
    if not 2 <= len(value) <= 4:
        return ""
    codes = [key for key, inner in value.items() if currency(inner)]
    amounts = [key for key, inner in value.items() if money(inner)]
    return child(path, codes[0]) if len(codes) == 1 and amounts and len(value) - len(amounts) <= 2 else ""


def _numbered(sample: dict[str, Any]) -> dict[str, list[dict[str, Any]]]:
    """Groups like item_1_name, item_1_qty, item_2_name as lists, by their pattern."""
    groups: dict[str, dict[int, dict[str, Any]]] = {}
    for key, value in sample.items():
        match = re.fullmatch(r"([A-Za-z]+)([_.-]?)(\d{1,3})([_.-])(\w+)", key)
        if match:
            pattern = f"{match[1]}{match[2]}{{n}}{match[4]}{{field}}"
            groups.setdefault(pattern, {}).setdefault(int(match[3]), {})[match[5]] = value
    return {
        pattern: [items[n] for n in sorted(items)]
        for pattern, items in groups.items()
        if all(len(i) >= 2 for i in items.values())
    }
