"""The bench: a payload's fields, the variables, and what each recipe makes of the event in hand."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.payload.tree import Field, fields
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import Evaluation, evaluate, said
from angelon.core.recipes.steps import STEPS, StepKind, fitting
from angelon.core.specs.source import READING, Source
from angelon.core.specs.variable import Recipe, Type, Variable
from angelon.core.values import Value, show
from angelon.web.hand import Hand

TREE_LIMIT = 600


@dataclass
class Row:
    """One line of the bench's right side: a part of the reading, or a variable."""

    kind: str
    """`reading` or `recipes`."""
    name: str
    type: Type
    about: str
    recipe: Recipe | None
    evaluation: Evaluation | None
    shown: str
    places: list[str] = field(default_factory=list)
    """The payload's fields that it comes from, for its thread."""
    required: bool = True

    @property
    def mark(self) -> str:
        return f"{self.kind}.{self.name}"


@dataclass
class Bench:
    tree: list[Field]
    more: int
    reading: list[Row]
    variables: list[Row]
    open: str = ""
    steps: list[StepKind] = field(default_factory=list)

    @property
    def mapped(self) -> int:
        return sum(1 for row in self.variables if row.recipe is not None)


def lay_out(source: Source, variables: dict[str, Variable], hand: Hand, opened: str, locale: str) -> Bench:
    """Everything that the bench shows, for a source as it stands and the event in hand."""
    tree = fields(hand.payload, TREE_LIMIT + 1) if hand.payload is not None else []
    reading = [
        _row("reading", part, wanted, about, source.reading.get(part), hand.reading.parts.get(part) if hand.reading else None, hand, locale, part in ("reference", "email"))
        for part, (wanted, about) in READING.items()
    ]
    rows = []
    for name, variable in variables.items():
        recipe = source.recipes.get(name)
        evaluation = hand.variables[name] if hand.variables and recipe is not None else None
        rows.append(_row("recipes", name, variable.type, variable.about, recipe, evaluation, hand, locale, variable.required))
    bench = Bench(tree[:TREE_LIMIT], max(0, len(tree) - TREE_LIMIT), reading, rows, opened)
    chosen = next((row for row in (*reading, *rows) if row.mark == opened), None)
    if chosen and chosen.recipe:
        bench.steps = fitting(_value_before_next(chosen, hand))
    return bench


def _value_before_next(row: Row, hand: Hand) -> Value:
    """The value that the next step would be handed."""
    values = [line for line in (row.evaluation.lines if row.evaluation else []) if line.used and not line.problem]
    return values[-1].value if values else None


def _row(kind: str, name: str, wanted: Type, about: str, recipe: Recipe | None, evaluation: Evaluation | None, hand: Hand, locale: str, required: bool) -> Row:
    text = ""
    if evaluation is not None and evaluation.problem is None:
        value = evaluation.value
        text = f"{len(value)} {'item' if len(value) == 1 else 'items'}" if kind == "reading" and isinstance(value, list) else show(value, locale)
    places: list[str] = []
    path = (evaluation.path if evaluation else "") or (recipe.path if recipe else "")
    if path and hand.payload is not None:
        try:
            places = compile_path(path).places(hand.payload)[:12]
        except BadPath:
            places = []
    return Row(kind, name, wanted, about, recipe, evaluation, text, places, required)


def column(row: Row, locale: str = "en") -> list[dict[str, Any]]:
    """The steps of an open row as lines: label, what came out, and which step it is (for editing)."""
    if row.recipe is None or row.evaluation is None:
        return []
    lines = []
    paths = [p for p in (row.recipe.path, *row.recipe.or_paths) if p]
    for number, line in enumerate(row.evaluation.lines):
        step = number - len(paths)
        lines.append(
            {
                "label": line.label,
                "value": "" if line.problem else _short(line.value, locale),
                "problem": line.problem,
                "used": line.used,
                "path": number if number < len(paths) else None,
                "step": step if 0 <= step < len(row.recipe.steps) else None,
            }
        )
    reached = len(row.evaluation.lines) - len(paths)
    for number in range(max(reached, 0), len(row.recipe.steps)):
        lines.append({"label": said(row.recipe.steps[number]), "value": "", "problem": None, "used": False, "path": None, "step": number})
    return lines


def _short(value: Value, locale: str) -> str:
    if isinstance(value, list):
        inner = ", ".join(show(item, locale) if not isinstance(item, dict) else "{…}" for item in value[:4])
        return f"[{inner}{', …' if len(value) > 4 else ''}] {len(value)}"
    if isinstance(value, dict):
        return "{" + ", ".join(list(value)[:5]) + "}"
    text = show(value, locale)
    return text if len(text) <= 120 else text[:119] + "…"


# ---- edits --------------------------------------------------------------------------------------------------------


class BadEdit(ValueError):
    """An edit that can't be made, with what to do instead."""


def edit(source: Source, mark: str, act: str, given: dict[str, str]) -> Source:
    """The source after one edit of a recipe. Raises BadEdit."""
    kind, _, name = mark.partition(".")
    if kind not in ("reading", "recipes") or not name:
        raise BadEdit("Choose a variable first.")
    recipes: dict[str, Recipe] = dict(getattr(source, kind))
    recipe = recipes.get(name, Recipe()).model_copy(deep=True)
    if act == "clear":
        recipes.pop(name, None)
        return source.model_copy(update={kind: recipes})
    if act in ("path", "or_path"):
        path = given.get("path", "").strip()
        if path:
            try:
                compile_path(path)
            except BadPath as error:
                raise BadEdit(f"{error.problem.what} {error.problem.mend}") from None
        if act == "path":
            recipe.path = path
            if len(path) == 0 and not recipe.otherwise:
                recipes.pop(name, None)
                return source.model_copy(update={kind: recipes})
        elif path and path not in (recipe.path, *recipe.or_paths):
            recipe.or_paths.append(path)
    elif act == "drop_path":
        number = _number(given, "number")
        paths = [p for p in (recipe.path, *recipe.or_paths) if p]
        if 0 <= number < len(paths):
            paths.pop(number)
        recipe.path, recipe.or_paths = (paths[0] if paths else ""), paths[1:]
    elif act in ("add_step", "set_step"):
        kind_of = STEPS.get(given.get("do", ""))
        if kind_of is None:
            raise BadEdit("Choose a step from the list.")
        step = {kind_of.name: {p.name: _given(p.kind, given[f"p.{p.name}"]) for p in kind_of.parameters if given.get(f"p.{p.name}", "") != ""}}
        from angelon.core.specs.variable import Step

        made = Step.model_validate(step)
        if act == "add_step":
            recipe.steps.append(made)
        else:
            number = _number(given, "number")
            if not 0 <= number < len(recipe.steps):
                raise BadEdit("That step is no longer there. Reload the page.")
            recipe.steps[number] = made
    elif act == "drop_step":
        number = _number(given, "number")
        if 0 <= number < len(recipe.steps):
            recipe.steps.pop(number)
    elif act == "step_up":
        number = _number(given, "number")
        if 0 < number < len(recipe.steps):
            recipe.steps[number - 1], recipe.steps[number] = recipe.steps[number], recipe.steps[number - 1]
    elif act == "otherwise":
        recipe.otherwise = given.get("otherwise", "") or None
    else:
        raise BadEdit("That is nothing that can be done here.")
    if not recipe.path and not recipe.or_paths and not recipe.steps and recipe.otherwise is None:
        recipes.pop(name, None)
    else:
        recipes[name] = recipe
    return source.model_copy(update={kind: recipes})


def _given(kind: str, text: str) -> Any:
    if kind == "number":
        return float(text) if "." in text and text.replace(".", "").lstrip("-").isdigit() else int(text) if text.lstrip("-").isdigit() else text
    if kind == "flag":
        return text in ("true", "on", "yes")
    if kind == "list":
        return [part.strip() for part in text.split(",") if part.strip()]
    return text


def _number(given: dict[str, str], name: str) -> int:
    try:
        return int(given.get(name, ""))
    except ValueError:
        return -1


def try_out(recipe: Recipe, wanted: Type, payload: Any, context: Context) -> Evaluation:
    """One recipe on one payload."""
    from dataclasses import replace

    return evaluate(recipe, wanted, replace(context, payload=payload))
