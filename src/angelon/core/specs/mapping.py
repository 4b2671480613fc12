"""A source's mapping: where the order's parts and the variables stand in its payloads, apart from how deliveries are
checked and named, so that it can be a draft of its own.
"""

from __future__ import annotations

from pydantic import Field

from angelon.core.specs.base import Spec, VariableName, read_spec
from angelon.core.specs.source import Source
from angelon.core.specs.variable import Recipe, Step


class Mapping(Spec):
    """The parts of a source that say where values stand. Each means what the part of this name means in a source."""

    reading: dict[str, Recipe] = Field(default_factory=dict)
    line: dict[str, Recipe] = Field(default_factory=dict)
    parcel: dict[str, Recipe] = Field(default_factory=dict)
    recipes: dict[VariableName, Recipe] = Field(default_factory=dict)
    shared_steps: dict[VariableName, list[Step]] = Field(default_factory=dict)
    lookups: dict[VariableName, dict[str, str]] = Field(default_factory=dict)


RECIPES = ("reading", "line", "parcel", "recipes")
"""The parts that hold a recipe for each name."""


def mapping_of(source: Source) -> Mapping:
    """The mapping of a source, as a copy."""
    return Mapping.model_validate({name: getattr(source, name) for name in Mapping.model_fields}).model_copy(deep=True)


def with_mapping(source: Source, mapping: Mapping) -> Source:
    """The source, mapped this way. Raises Invalid where a part is none that a source has."""
    return read_spec(Source, source.model_dump(mode="json") | mapping.model_dump(mode="json"))


def changed_parts(was: Mapping, now: Mapping) -> list[str]:
    """What differs between two mappings: `reading.email`, `recipes.total`, `shared_steps.clean`, `lookups.carriers`."""
    found = []
    old, new = was.plain(), now.plain()
    for part in Mapping.model_fields:
        before, after = old.get(part, {}), new.get(part, {})
        found += [f"{part}.{name}" for name in dict.fromkeys([*before, *after]) if before.get(name) != after.get(name)]
    return found


def unmapped(was: Mapping, now: Mapping) -> list[str]:
    """What is mapped in one mapping and in the other no more: `reading.email`, `recipes.total`."""
    return [f"{part}.{name}" for part in RECIPES for name in getattr(was, part) if name not in getattr(now, part)]
