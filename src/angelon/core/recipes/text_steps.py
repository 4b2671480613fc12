"""Steps that make a text by a small template."""

from __future__ import annotations

from angelon.core.recipes.context import Context, StepFailed
from angelon.core.templates import BadTemplate, CantRender, compile_template
from angelon.core.values import Value


def render_small(source: str, value: Value, context: Context) -> str:
    """The step `template`: `value` is the value in hand, every other name another variable. Raises StepFailed."""
    try:
        compiled = compile_template(source)
        values = {name: value if name == "value" else _another(name, context) for name in compiled.names}
        return compiled.render(values, context.locale, 10_000)
    except (BadTemplate, CantRender) as error:
        raise StepFailed(error.problem.what, error.problem.hint) from None


def _another(name: str, context: Context) -> Value:
    if context.variable is None:
        raise StepFailed(f"There is no variable “{name}” here.")
    return context.variable(name)


def render_item(source: str, item: Value, context: Context) -> str:
    """The step `each`: an item's fields by name, `value` the item itself. Raises StepFailed."""
    try:
        compiled = compile_template(source)
        scope = {**(item if isinstance(item, dict) else {}), "value": item}
        return compiled.render({name: scope.get(name) for name in compiled.names}, context.locale, 10_000)
    except (BadTemplate, CantRender) as error:
        raise StepFailed(error.problem.what, error.problem.hint) from None
