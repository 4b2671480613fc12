"""Where a thing of the set-up is used: a variable, a part of the order, a table, kept steps. Pure."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store

_NAMING = frozenset({"only_if", "day", "variable", "of"})
"""Fields that name a variable or an order's part as they stand, rather than in a template."""
_JINJA = re.compile(r"\{\{.*?\}\}|\{%.*?%\}", re.S)
_QUOTED = re.compile(r"('[^']*'|\"[^\"]*\")")


@dataclass(frozen=True, slots=True)
class Use:
    """One place where a thing is used."""

    kind: str
    """message, route, segment, source or store"""
    key: str
    name: str
    """What people call the thing that uses it."""
    where: str

    def __str__(self) -> str:
        return f"{self.name} ({self.where})"


@dataclass(frozen=True, slots=True)
class Specs:
    """Everything that may use a thing, as it is live and as it is drafted."""

    messages: tuple[Message, ...]
    routes: tuple[Route, ...]
    sources: tuple[Source, ...]
    store: Store


def of_name(name: str, among: Specs) -> list[Use]:
    """Where a variable (`gift_note`) or a part of the order (`order.total`) is used: each place once."""
    found = [
        Use("message", message.key, message.name, where)
        for message in among.messages
        for where in _places(message.model_dump(mode="json"), name, _in_message)
    ]
    found += [
        Use("route", route.key, route.name, where)
        for route in among.routes
        for where in _places(route.model_dump(mode="json"), name, _in_route)
    ]
    found += [
        Use("segment", segment.key, segment.name, "its conditions")
        for segment in among.store.segments
        if any(_places(segment.model_dump(mode="json"), name, lambda path: "its conditions"))
    ]
    found += [
        Use("source", source.key, source.name, where)
        for source in among.sources
        for where in _places(_recipes(source), name, _in_source)
        if where != f"the mapping of {name}"
    ]
    found += [
        Use("store", "", "Suppressions", f"consent for {CHANNEL_LABELS.get(channel, channel)}")
        for channel, variable in among.store.consent.items()
        if variable == name
    ]
    return list(dict.fromkeys(found))


def of_table(name: str, source: Source) -> list[Use]:
    """Where a source's table is looked into."""
    return _of_step(source, "lookup", "table", name)


def of_kept_steps(name: str, source: Source) -> list[Use]:
    """Where the steps that a source keeps under a name are run."""
    return _of_step(source, "run", "steps", name)


def listed(uses: Iterable[Use], most: int = 5) -> str:
    """The places in one line, and how many more there are."""
    found = [str(use) for use in uses]
    more = f" and {len(found) - most} more" if len(found) > most else ""
    return f"{', '.join(found[:most])}{more}"


def _of_step(source: Source, do: str, parameter: str, name: str) -> list[Use]:
    parts = {"reading": source.reading, "line": source.line, "parcel": source.parcel, "recipes": source.recipes}
    found = [
        Use("source", source.key, source.name, _in_source([kind, part]))
        for kind, recipes in parts.items()
        for part, recipe in recipes.items()
        if any(step.do == do and step.given.get(parameter) == name for step in recipe.steps)
    ]
    found += [
        Use("source", source.key, source.name, f"the saved steps {kept}")
        for kept, steps in source.shared_steps.items()
        if any(step.do == do and step.given.get(parameter) == name for step in steps)
    ]
    return found


def _places(data: Any, name: str, called: Any) -> list[str]:
    """The places of a spec, as plain data, that use a name: each once, as `called` calls its path."""
    word = _word(name)
    return list(dict.fromkeys(called(path) for path, text in _texts(data, []) if _mentions(path, text, word)))


def renamed(data: Any, old: str, new: str) -> Any:
    """A spec as plain data in which a variable is called otherwise, wherever `of_name` finds it."""
    word = _word(old)

    def swap(path: list[str], text: str) -> str:
        if path[-1] in _NAMING and "{" not in text:
            return word.sub(new, text)
        return _JINJA.sub(lambda part: "".join(_swapped(part.group(), word, new)), text)

    def within(value: Any, path: list[str]) -> Any:
        if isinstance(value, str):
            return swap(path, value)
        if isinstance(value, dict):
            return {
                key: inner if _of_items(key, inner) else within(inner, [*path, _field(value, str(key))])
                for key, inner in value.items()
            }
        return [within(inner, [*path, ""]) for inner in value] if isinstance(value, list) else value

    return within(data, [""])


def _swapped(jinja: str, word: re.Pattern[str], new: str) -> Iterator[str]:
    for number, part in enumerate(_QUOTED.split(jinja)):
        yield part if number % 2 else word.sub(new, part)


def _word(name: str) -> re.Pattern[str]:
    """A variable's name in an expression, or what is kept of it (`kept.loyalty`): not an attribute of something else,
    nor the name of an argument.
    """
    return re.compile(rf"(?:(?<![.\w])|(?<=^kept\.)){re.escape(name)}(?!\w|\s*=[^=])")


def _mentions(path: list[str], text: str, word: re.Pattern[str]) -> bool:
    if path[-1] in _NAMING and "{" not in text:
        return word.search(text) is not None
    return any(word.search(_QUOTED.sub("", part)) for part in _JINJA.findall(text))


def _texts(data: Any, path: list[str]) -> Iterator[tuple[list[str], str]]:
    if isinstance(data, str):
        yield path, data
    elif isinstance(data, dict):
        for key, value in data.items():
            if not _of_items(key, value):
                yield from _texts(value, [*path, _field(data, str(key))])
    elif isinstance(data, list):
        for number, value in enumerate(data):
            yield from _texts(value, [*path, str(number)])


def _of_items(key: str, value: Any) -> bool:
    """Whether this is the step `each`, whose text names the parts of an item and no variables."""
    return key == "each" and isinstance(value, dict) and set(value) <= {"text"}


def _field(data: dict[str, Any], field: str) -> str:
    """What a field is called; a recipient of kind variable names its variable in `who`."""
    return "variable" if field == "who" and data.get("kind") == "variable" else field


def _in_message(path: list[str]) -> str:
    if path[0] in CHANNEL_LABELS and len(path) > 1:
        return f"{CHANNEL_LABELS[path[0]]} in {path[1]}"
    return {"attachments": "its attachments", "envelope": "its addresses"}.get(path[0], "its settings")


_OF_ROUTE = {"only_if": "its conditions", "timing": "its timing", "asks": "its questions", "to": "its recipients"}


def _in_route(path: list[str]) -> str:
    return _OF_ROUTE.get(path[0], "its settings")


def _recipes(source: Source) -> dict[str, Any]:
    dumped = source.model_dump(mode="json")
    return {kind: dumped[kind] for kind in ("reading", "line", "parcel", "recipes", "shared_steps")}


def _in_source(path: list[str]) -> str:
    kind, name = path[0], path[1]
    if kind == "recipes":
        return f"the mapping of {name}"
    return (
        f"the saved steps {name}"
        if kind == "shared_steps"
        else f"the {'order' if kind == 'reading' else kind}’s {name}"
    )
