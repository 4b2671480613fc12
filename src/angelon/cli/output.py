"""What a command says: lines for people, or with --json one object at its end."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any, TypeVar

import click

Command = TypeVar("Command", bound=Callable[..., Any])
_META = "angelon.json"


def json_too(command: Command) -> Command:
    """Gives a command the option --json. It says what it does by `say`."""
    return click.option(
        "--json", is_flag=True, expose_value=False, is_eager=True, callback=_begin, help="Print the result as JSON."
    )(command)


def _begin(context: click.Context, _: click.Parameter, wanted: bool) -> None:
    if not wanted or context.resilient_parsing:
        return
    told: dict[str, Any] = {}
    context.meta[_META] = told
    context.call_on_close(lambda: click.echo(json.dumps(told, ensure_ascii=False, indent=2)) if told else None)


def say(text: str, **told: Any) -> None:
    """Prints a line for people; with --json it goes to standard error, and what is `told` into the object."""
    context = click.get_current_context(silent=True)
    gathered = context.meta.get(_META) if context is not None else None
    if gathered is not None:
        gathered.update(told)
    if text:
        click.echo(text, err=gathered is not None)
