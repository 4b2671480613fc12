"""How a spec is stored: as plain data with the format that it was written in, so that a later version can still read
it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import Spec, read_spec

FORMAT = 2
"""The format that this version writes. It goes up when a field is renamed or comes to mean something else."""
FORMAT_KEY = "format"
"""Where the format stands in what is stored; data without one was written in format 1."""

Data = dict[str, Any]
SpecT = TypeVar("SpecT", bound=Spec)


def to_stored(spec: Spec) -> Data:
    """A spec as it is stored."""
    return {FORMAT_KEY: FORMAT, **spec.plain()}


def from_stored(kind: type[SpecT], data: Mapping[str, Any]) -> SpecT:
    """A stored spec, whatever format it was written in. Raises Invalid where it can't be read."""
    return read_spec(kind, upgraded(kind.__name__.lower(), data))


def upgraded(kind: str, data: Mapping[str, Any]) -> Data:
    """Stored data of a kind (`route`, `source` …) in today's format, without the format's own key. Raises Invalid
    where it was written by a later version.
    """
    found = dict(data)
    written_in = found.pop(FORMAT_KEY, 1)
    if not isinstance(written_in, int) or not 1 <= written_in <= FORMAT:
        what = f"It was written in format {written_in}, and this Angelon reads formats up to {FORMAT}."
        raise Invalid([Problem(FORMAT_KEY, what, "Start the Angelon that wrote it.")])
    for number in range(written_in, FORMAT):
        upgrade = UPGRADES.get((kind, number))
        if upgrade is not None:
            found = upgrade(found)
    return found


def _route_1(route: Data) -> Data:
    """Plain names: what follows when a send fails is its fallback, and who comes first is a priority."""
    renamed = _renamed(route, {"otherwise": "fallback", "rank": "priority"})
    if isinstance(renamed.get("fallback"), dict):
        renamed["fallback"] = _renamed(renamed["fallback"], {"ways": "options"})
    if isinstance(renamed.get("guards"), dict):
        renamed["guards"] = _renamed(renamed["guards"], {"even_if_told": "even_if_notified"})
    return renamed


def _source_1(source: Data) -> Data:
    """What a recipe uses where nothing is found is its default."""
    found = dict(source)
    for part in ("reading", "recipes", "line", "parcel"):
        if isinstance(found.get(part), dict):
            found[part] = {name: _recipe_1(recipe) for name, recipe in found[part].items()}
    if isinstance(found.get("enrichments"), list):
        found["enrichments"] = [
            {**one, "parameters": {name: _recipe_1(recipe) for name, recipe in one["parameters"].items()}}
            if isinstance(one, dict) and isinstance(one.get("parameters"), dict)
            else one
            for one in found["enrichments"]
        ]
    return found


def _recipe_1(recipe: Any) -> Any:
    if not isinstance(recipe, dict):
        return recipe
    renamed = _renamed(recipe, {"otherwise": "default"})
    if isinstance(renamed.get("steps"), list):
        renamed["steps"] = [_step_1(step) for step in renamed["steps"]]
    return renamed


def _step_1(step: Any) -> Any:
    if isinstance(step, dict) and isinstance(step.get("lookup"), dict):
        return {"lookup": _renamed(step["lookup"], {"otherwise": "default"})}
    return step


def _renamed(data: Mapping[str, Any], names: Mapping[str, str]) -> Data:
    return {names.get(name, name): value for name, value in data.items()}


UPGRADES: dict[tuple[str, int], Callable[[Data], Data]] = {
    ("route", 1): _route_1,
    ("source", 1): _source_1,
    ("mapping", 1): _source_1,
}
"""(kind, format) to what brings its data into the next format."""
