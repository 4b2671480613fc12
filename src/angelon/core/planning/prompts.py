"""What whoever runs a message by hand is asked, and typed: values of the variables' types. Pure."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from zoneinfo import ZoneInfo

from angelon.core.messages.channels import compiled_part
from angelon.core.planning.inputs import Setup
from angelon.core.problems import Problem
from angelon.core.recipes.coerce import as_type
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.specs.message import Message
from angelon.core.specs.route import Prompt
from angelon.core.specs.variable import Type
from angelon.core.values import Value

LONGEST = 2000
"""Characters of an answer."""


def prompts_for(message: Message, channel: str, setup: Setup) -> list[Prompt]:
    """A prompt for each variable that a message uses: all may stay as the order says."""
    used: set[str] = set()
    for locale in message.variants(channel):
        used |= set(compiled_part(message, channel, locale, setup.store).names)
    return [Prompt(variable=name) for name in setup.variables if name in used]


def read_answers(
    prompts: Collection[Prompt], typed: Mapping[str, str], setup: Setup
) -> tuple[dict[str, Value], list[Problem]]:
    """The answers as values, by variable, and what is wrong with them. What is empty is no answer."""
    values: dict[str, Value] = {}
    problems = []
    for prompt in prompts:
        text = typed.get(prompt.variable, "").strip()[:LONGEST]
        where = f"answer.{prompt.variable}"
        if not text:
            if prompt.required:
                problems.append(Problem(where, f"“{prompt.asks or prompt.variable}” needs an answer.", "Fill it in."))
            continue
        if prompt.options and text not in prompt.options:
            what = f"“{text[:40]}” is none of the choices of “{prompt.asks or prompt.variable}”."
            problems.append(Problem(where, what, f"Choose {', '.join(prompt.options)}."))
            continue
        try:
            values[prompt.variable] = read_answer(prompt.variable, text, setup)
        except StepFailed as error:
            what = f"{prompt.asks or prompt.variable}: {error.what}"
            problems.append(Problem(where, what, error.hint))
    return values, problems


def read_answer(variable: str, text: str, setup: Setup) -> Value:
    """A text as a variable's value; a list has a line for each item. Raises StepFailed."""
    known = setup.variables.get(variable)
    wanted = known.type if known is not None else Type.TEXT
    store = setup.store
    around = Context(zone=ZoneInfo(store.timezone), currency=store.currency, country=store.country, locale=store.locale)
    if wanted is Type.LIST:
        return [line.strip() for line in text.splitlines() if line.strip()]
    return as_type(text, wanted, around)
