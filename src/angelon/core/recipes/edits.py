"""Edits of a mapping, one at a time: what is clicked and typed on its page becomes a changed mapping, or a problem that
says what to do instead. Pure.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from typing import Any

from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.steps import STEPS
from angelon.core.specs.keys import key_of, word_of
from angelon.core.specs.mapping import RECIPES
from angelon.core.specs.mapping import Mapping as MappingSpec
from angelon.core.specs.variable import Recipe, Step

Given = Mapping[str, str]
"""The form's fields by name."""


def edited(mapping: MappingSpec, field_id: str, act: str, given: Given) -> MappingSpec:
    """The mapping after one edit of the recipe that `field_id` names (`reading.email`, `recipes.total`). Raises
    Invalid.
    """
    part, _, name = field_id.partition(".")
    if part not in RECIPES or not name:
        raise _invalid("Choose a variable first.")
    recipes: dict[str, Recipe] = dict(getattr(mapping, part))
    changed = mapping.model_copy()
    if act == "clear":
        recipes.pop(name, None)
    else:
        recipe = recipes.get(name, Recipe()).model_copy(deep=True)
        if act == "share_steps":
            changed, recipe = _share_steps(changed, recipe, given)
        elif act in _EDITS:
            recipe = _EDITS[act](recipe, {**given, "inside": "yes" if part in ("line", "parcel") else ""})
        else:
            raise _invalid("That is nothing that can be done here.")
        recipes[name] = recipe
        if not recipe.path and not recipe.or_paths and recipe.default is None and (not recipe.steps or act == "path"):
            del recipes[name]
    return changed.model_copy(update={part: recipes})


def with_part(mapping: MappingSpec, kind: str, name: str, path: str) -> MappingSpec:
    """The mapping with a part of one's own of each line or parcel. Raises Invalid."""
    if kind not in ("line", "parcel"):
        raise _invalid("Only a line or a parcel can have parts of its own.")
    key = word_of(name, "part", "category")
    if key in getattr(mapping, kind):
        raise _invalid(f"A {kind} has a part “{key}” already. Open it in the list, or choose another name.")
    if not path.strip():
        raise _invalid(f"Write where “{key}” stands in each {kind}, such as $.{key}.")
    return edited(mapping, f"{kind}.{key}", "path", {"path": path})


def with_table(mapping: MappingSpec, name: str, text: str) -> MappingSpec:
    """The mapping with a small table for the step lookup; `text` has a row a line, `what = what to use`. Raises
    Invalid.
    """
    key = word_of(name, "table", "short_names")
    rows = {}
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            what, equals, use = line.partition("=")
            if not equals or not what.strip():
                raise _invalid(f"Line {number} of the table is no row: write it as HER-180 = the Heron.")
            rows[what.strip()] = use.strip()
    return mapping.model_copy(update={"lookups": {**mapping.lookups, key: rows}})


def _path(recipe: Recipe, given: Given) -> Recipe:
    return recipe.model_copy(update={"path": _given_path(given)})


def _or_path(recipe: Recipe, given: Given) -> Recipe:
    path = _given_path(given)
    known = (recipe.path, *recipe.or_paths)
    return recipe.model_copy(update={"or_paths": [*recipe.or_paths, path]}) if path and path not in known else recipe


def _given_path(given: Given) -> str:
    path = given.get("path", "").strip()
    if given["inside"] and (inside := re.match(r"\$.*?\[\d+\]", path)):
        path = "$" + path[inside.end() :]  # a field of an item was clicked: its path starts at the item
    if path:
        try:
            compile_path(path)
        except BadPath as error:
            raise Invalid([error.problem]) from None
    return path


def _drop_path(recipe: Recipe, given: Given) -> Recipe:
    paths = [path for path in (recipe.path, *recipe.or_paths) if path]
    number = _number(given, "number")
    if 0 <= number < len(paths):
        paths.pop(number)
    return recipe.model_copy(update={"path": paths[0] if paths else "", "or_paths": paths[1:]})


def _add_step(recipe: Recipe, given: Given) -> Recipe:
    return recipe.model_copy(update={"steps": [*recipe.steps, _step(given)]})


def _set_step(recipe: Recipe, given: Given) -> Recipe:
    step, number = _step(given), _number(given, "number")
    if not 0 <= number < len(recipe.steps):
        raise _invalid("That step is no longer there. Reload the page.")
    return recipe.model_copy(update={"steps": [*recipe.steps[:number], step, *recipe.steps[number + 1 :]]})


def _drop_step(recipe: Recipe, given: Given) -> Recipe:
    number = _number(given, "number")
    return recipe.model_copy(update={"steps": [step for at, step in enumerate(recipe.steps) if at != number]})


def _step_up(recipe: Recipe, given: Given) -> Recipe:
    steps, number = list(recipe.steps), _number(given, "number")
    if 0 < number < len(steps):
        steps[number - 1], steps[number] = steps[number], steps[number - 1]
    return recipe.model_copy(update={"steps": steps})


def _take(recipe: Recipe, given: Given) -> Recipe:
    try:
        return Recipe.model_validate(json.loads(given.get("recipe", "")))
    except (ValueError, RecursionError):
        raise _invalid("That suggestion can't be read. Reload the page.") from None


def _default(recipe: Recipe, given: Given) -> Recipe:
    return recipe.model_copy(update={"default": given.get("default", "") or None})


_EDITS: dict[str, Callable[[Recipe, Given], Recipe]] = {
    "path": _path,
    "or_path": _or_path,
    "drop_path": _drop_path,
    "add_step": _add_step,
    "set_step": _set_step,
    "drop_step": _drop_step,
    "step_up": _step_up,
    "take": _take,
    "default": _default,
}


def _share_steps(mapping: MappingSpec, recipe: Recipe, given: Given) -> tuple[MappingSpec, Recipe]:
    """The recipe's steps under a name, and the recipe that runs them."""
    kept = key_of(given.get("name_of_steps", ""), "_")
    if not kept or not kept[0].isalpha() or not recipe.steps:
        raise _invalid("Give the steps a name that starts with a letter, and have at least one.")
    if any(step.do == "run" and step.given.get("steps") == kept for step in recipe.steps):
        raise _invalid(f"These steps run “{kept}” themselves. Choose another name.")
    shared = {**mapping.shared_steps, kept: recipe.steps}
    runs = [Step.model_validate({"run": {"steps": kept}})]
    return mapping.model_copy(update={"shared_steps": shared}), recipe.model_copy(update={"steps": runs})


def _step(given: Given) -> Step:
    kind = STEPS.get(given.get("do", ""))
    if kind is None:
        raise _invalid("Choose a step from the list.")
    parameters = {
        one.name: _parameter(one.kind, given[f"p.{one.name}"])
        for one in kind.parameters
        if given.get(f"p.{one.name}", "") != ""
    }
    return Step.model_validate({kind.name: parameters})


def _parameter(kind: str, text: str) -> Any:
    if kind == "number":
        number = re.fullmatch(r"-?[0-9]{1,18}(\.[0-9]{1,18})?", text)
        return text if number is None else float(text) if number[1] else int(text)
    if kind == "flag":
        return text in ("true", "on", "yes")
    if kind == "list":
        return [part.strip() for part in text.split(",") if part.strip()]
    return text


def _number(given: Given, name: str) -> int:
    try:
        return int(given.get(name, ""))
    except ValueError:
        return -1


def _invalid(what: str) -> Invalid:
    return Invalid([Problem("", what)])
