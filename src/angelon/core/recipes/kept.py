"""Tables and saved steps of a mapping under other names: renamed with every step that names them, or copied. Pure."""

from __future__ import annotations

from itertools import count
from typing import Literal

from angelon.core.problems import Invalid, Problem
from angelon.core.specs.keys import word_of
from angelon.core.specs.mapping import RECIPES
from angelon.core.specs.mapping import Mapping as MappingSpec
from angelon.core.specs.variable import Step

Part = Literal["lookups", "shared_steps"]
NAMED_BY: dict[Part, tuple[str, str, str]] = {
    "lookups": ("lookup", "table", "table"),
    "shared_steps": ("run", "steps", "group of saved steps"),
}
"""The step that names such a thing, by which of its parameters; and what people call it."""


def new_name(mapping: MappingSpec, part: Part, name: str) -> str:
    """The key for a thing that is to be called so. Raises Invalid where the name gives none, or is another's."""
    what = NAMED_BY[part][2]
    key = word_of(name, what, "short_names")
    if key in getattr(mapping, part):
        raise Invalid([Problem("name", f"There is a {what} called “{key}” already.", "Choose another name.")])
    return key


def renamed(mapping: MappingSpec, part: Part, old: str, name: str) -> MappingSpec:
    """The mapping with a table or saved steps under another name, in their place, and every step that names them
    changed with them. Raises Invalid.
    """
    _refuse_unknown(mapping, part, old)
    new = new_name(mapping, part, name)
    things = {new if kept == old else kept: thing for kept, thing in getattr(mapping, part).items()}
    moved = mapping.model_copy(update={part: things})
    do, parameter, _ = NAMED_BY[part]

    def step_renamed(step: Step) -> Step:
        names = step.do == do and step.given.get(parameter) == old
        return step.model_copy(update={"given": {**step.given, parameter: new}}) if names else step

    recipes = {
        place: {
            key: recipe.model_copy(update={"steps": [step_renamed(step) for step in recipe.steps]})
            for key, recipe in getattr(moved, place).items()
        }
        for place in RECIPES
    }
    shared = {key: [step_renamed(step) for step in steps] for key, steps in moved.shared_steps.items()}
    return moved.model_copy(update={**recipes, "shared_steps": shared})


def copied(mapping: MappingSpec, part: Part, name: str) -> MappingSpec:
    """The mapping with another table or saved steps like these, under the next free name. Raises Invalid."""
    _refuse_unknown(mapping, part, name)
    things = getattr(mapping, part)
    new = next(made for n in count(2) if (made := f"{name[:56]}_{n}") not in things)
    return mapping.model_copy(update={part: {**things, new: things[name]}})


def _refuse_unknown(mapping: MappingSpec, part: Part, name: str) -> None:
    if name not in getattr(mapping, part):
        raise Invalid([Problem("name", f"There is no {NAMED_BY[part][2]} “{name}” any more.", "Reload the page.")])
