"""A recipe carried out: the value, or the problem, and what went in and came out at each line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, NamedTuple

from angelon.core.payload.paths import MISSING, BadPath, compile_path
from angelon.core.problems import Problem
from angelon.core.recipes import coerce
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.recipes.steps import run_step
from angelon.core.specs.variable import Recipe, Step, Type, Variable
from angelon.core.values import Value, unfit

_FALLBACK = "fallback text"


class Line(NamedTuple):
    """One line of an evaluation: what was done, and the value after it or the problem. `used` is false for a path not
    needed.
    """

    what: str | Step
    value: Value = None
    problem: Problem | None = None
    used: bool = True

    @property
    def label(self) -> str:
        return self.what if isinstance(self.what, str) else label(self.what)


@dataclass(slots=True)  # and not frozen, which takes twice as long to make: nobody changes one
class Evaluation:
    value: Value
    problem: Problem | None = None
    path: str = ""
    """The path that gave the value; empty where none did."""
    by_default: bool = False
    """Whether the value is the recipe's default."""
    asked: tuple[Recipe, Type, Context, str] | None = field(default=None, compare=False, repr=False)
    """What was evaluated; None for a value that was given."""

    @property
    def present(self) -> bool:
        return self.problem is None and self.value is not None

    @property
    def said(self) -> Value:
        """What the payload itself says; None where the value is the recipe's default, or there is none."""
        return self.value if self.present and self.path and not self.by_default else None

    @property
    def lines(self) -> list[Line]:
        """What went in and came out at each line: worked out again where somebody looks, which few do."""
        lines: list[Line] = []
        if self.asked is not None:
            _carry_out(*self.asked, lines)
        return lines


def label(step: Step) -> str:
    """A step as one short line: `join, separator “ · ”`."""
    return step.do + "".join(
        f", {name} {given if str(given).startswith('$') else f'“{given}”'}" for name, given in step.given.items()
    )


def absent(value: Value) -> bool:
    """Whether a value counts as none: null, empty or blank text, an empty list."""
    if isinstance(value, str):
        return not value or value.isspace()
    return value is None or value is MISSING or value == []


def evaluate(recipe: Recipe, wanted: Type, context: Context, where: str = "") -> Evaluation:
    """The value of a recipe as a type.

    Where no path has a value, or a step fails, `default` is used; without one the evaluation holds a Problem. It
    never raises, whatever the payload, and gives no value that can't be calculated with, shown and stored.
    """
    made = _carry_out(recipe, wanted, context, where, None)
    made.asked = recipe, wanted, context, where
    return made


def _carry_out(recipe: Recipe, wanted: Type, context: Context, where: str, lines: list[Line] | None) -> Evaluation:
    """An evaluation; what it did is added to `lines`, where they are wanted."""
    try:
        made = _evaluate(recipe, wanted, context, where, lines)
    except Exception as error:  # a step that promises more than it keeps harms its own variable only
        if lines is not None:
            lines.clear()
        return Evaluation(
            None,
            Problem(
                where,
                f"It can't be evaluated: {type(error).__name__}.",
                "Look at its steps with this event as the sample.",
            ),
        )
    found = unfit(made.value) if made.problem is None else ""
    if not found:
        return made
    problem = Problem(
        where, f"{recipe.path or 'The mapping'} gives {found}.", "Choose another path, or add a step that takes it out."
    )
    _note(lines, f"as {wanted.value}", problem=problem)
    if recipe.default is not None:
        instead = _default(recipe, wanted, context, where, lines, made.path)
        if instead.problem is None and not unfit(instead.value):
            return instead
        if lines:
            lines.pop()  # what is told is what was wrong first
    return Evaluation(None, problem, made.path)


def _note(
    lines: list[Line] | None,
    what: str | Step,
    value: Value = None,
    problem: Problem | None = None,
    used: bool = True,
) -> None:
    if lines is not None:
        lines.append(Line(what, value, problem, used))


def _evaluate(recipe: Recipe, wanted: Type, context: Context, where: str, lines: list[Line] | None) -> Evaluation:
    value, used, problem = _first_value(recipe, context, where, lines)
    failed = False
    for number, step in enumerate(recipe.steps):
        try:
            value = run_step(step.do, step.given, value, context, step)
        except StepFailed as error:
            if value is None and not problem:
                break
            problem = error.problem(f"{where}.steps.{number}" if where else f"steps.{number}")
            _note(lines, step, problem=problem)
            failed = True
            break
        _note(lines, step, value)
    if not failed and not absent(value):
        try:
            return Evaluation(coerce.as_type(value, wanted, context), None, used)
        except StepFailed as error:
            problem = Problem(where, error.what, error.hint)
            _note(lines, f"as {wanted.value}", problem=problem)
    if recipe.default is not None:
        return _default(recipe, wanted, context, where, lines, used)
    return Evaluation(None, problem or _nothing_at(recipe.path, where), used)


@lru_cache(maxsize=4096)
def _nothing_at(path: str, where: str) -> Problem:
    tried = path or "The mapping"
    return Problem(where, f"{tried} has no value in this event.", "Choose another path, or give a fallback text.")


def _first_value(
    recipe: Recipe, context: Context, where: str, lines: list[Line] | None
) -> tuple[Value, str, Problem | None]:
    """The value at the first path that has one, the path, and what was wrong with those before it."""
    problem: Problem | None = None
    paths = (recipe.path, *recipe.or_paths) if recipe.path else recipe.or_paths
    for number, path in enumerate(paths):
        label = f"fallback {path}" if number else path
        try:
            found = compile_path(path).find(context.payload)
        except BadPath as error:
            problem = error.problem.at(where)
            _note(lines, label, problem=problem)
            continue
        if not absent(found):
            if lines is not None:
                lines.append(Line(label, found))
                lines.extend(Line(f"fallback {other}", used=False) for other in paths[number + 1 :])
            return found, path, problem
        if lines is not None:
            nothing = "nothing is there" if found is MISSING else "it is empty there"
            lines.append(Line(label, problem=Problem(where, f"{path}: {nothing}.")))
    return None, "", problem


def _default(
    recipe: Recipe, wanted: Type, context: Context, where: str, lines: list[Line] | None, used: str
) -> Evaluation:
    """What is to be used where there is no value."""
    try:
        value = coerce.as_type(recipe.default, wanted, context)
    except StepFailed as error:
        problem = Problem(where, f"The fallback text does not fit: {error.what}", error.hint)
        _note(lines, _FALLBACK, problem=problem)
        return Evaluation(None, problem, used, True)
    _note(lines, _FALLBACK, value)
    return Evaluation(value, None, used, True)


class Variables:
    """The variables of one payload, each worked out when first asked for, once."""

    def __init__(
        self,
        variables: dict[str, Variable],
        recipes: dict[str, Recipe],
        context: Context,
        given: Mapping[str, Value] | None = None,
    ) -> None:
        """`given` are values that stand in place of what the recipes would say."""
        self._variables = variables
        self._recipes = recipes
        self._context = context.but(variable=self._of_another)
        self._done: dict[str, Evaluation] = {name: Evaluation(value) for name, value in (given or {}).items()}
        self._given = dict(self._done)
        self._open: list[str] = []

    def with_given(self, given: Mapping[str, Value]) -> Variables:
        """These variables with values in place of what is worked out for them."""
        if not given:
            return self
        made = Variables(self._variables, self._recipes, self._context, given)
        made._done |= {name: done for name, done in self._given.items() if name not in given}
        made._given = {name: made._done[name] for name in (*self._given, *given)}
        return made

    def __getitem__(self, name: str) -> Evaluation:
        done = self._done.get(name)
        if done is None:
            done = self._done[name] = self._work_out(name)
        return done

    def names(self) -> list[str]:
        return list(self._variables)

    def values(self, names: list[str]) -> dict[str, Value]:
        """Values by name; None for a variable that has none and need not."""
        return {name: self[name].value for name in names}

    def problems(self, names: list[str]) -> list[Problem]:
        """What keeps these variables from being used: required ones without a value, and unknown ones."""
        found = []
        for name in names:
            evaluation = self[name]
            if evaluation.problem is None:
                continue
            variable = self._variables.get(name)
            if variable is None or variable.required:
                found.append(replace(evaluation.problem, what=f"{name} has no value. {evaluation.problem.what}"))
        return found

    def _work_out(self, name: str) -> Evaluation:
        variable = self._variables.get(name)
        where = f"recipes.{name}"
        if variable is None:
            return Evaluation(None, Problem(where, f"There is no variable “{name}”."))
        recipe = self._recipes.get(name)
        if recipe is None:
            return Evaluation(
                None, Problem(where, f"{name} is not mapped in this source.", "Map it on the source's page.")
            )
        if name in self._open:
            circle = " → ".join([*self._open[self._open.index(name) :], name])
            return Evaluation(
                None, Problem(where, f"The templates go in a circle: {circle}.", "Take one of them out of the circle.")
            )
        self._open.append(name)
        try:
            return evaluate(recipe, variable.type, self._context, where)
        finally:
            self._open.pop()

    def _of_another(self, name: str) -> Value:
        if name in self._open:
            circle = " → ".join([*self._open[self._open.index(name) :], name])
            raise StepFailed(f"The templates go in a circle: {circle}.", "Take one of them out of the circle.")
        evaluation = self[name]
        if evaluation.problem:
            variable = self._variables.get(name)
            if variable is not None and not variable.required:
                return None
            raise StepFailed(f"{name}, which it uses, has no value. {evaluation.problem.what}")
        return evaluation.value


def as_variable(payload: Any, recipe: Recipe, wanted: Type = Type.TEXT, **around: Any) -> Evaluation:
    """One recipe on one payload, with whatever surroundings are given."""
    return evaluate(recipe, wanted, Context(payload=payload, **around))
