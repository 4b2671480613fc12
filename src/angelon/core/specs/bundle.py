"""A store's whole set-up as one file."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import Any, Literal

import yaml
from pydantic import Field

from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import Key, Spec, read_spec
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store
from angelon.core.specs.stored import FORMAT, FORMAT_KEY, upgraded
from angelon.core.specs.variable import Variable


class Bundle(Spec):
    """Sources, variables, gateways, messages and routes of one store, without secrets.

    `live` lists the keys of the routes that are switched on.
    """

    angelon: Literal[2] = 2
    """The format; a bundle in an earlier one is read as well."""
    store: Store
    sources: list[Source] = Field(default_factory=list)
    variables: list[Variable] = Field(default_factory=list)
    gateways: list[Gateway] = Field(default_factory=list)
    messages: list[Message] = Field(default_factory=list)
    routes: list[Route] = Field(default_factory=list)
    live: list[Key] = Field(default_factory=list)

    def problems(self, around: Bundle | None = None) -> list[Problem]:
        """What does not hang together: names used twice, references to what is not there. `around` is the set-up that
        it is applied to, where it is a part of one.
        """
        there = around or self
        found: list[Problem] = []
        for field in ("sources", "gateways", "messages", "routes"):
            found += _twice(field, (item.key for item in getattr(self, field)))
        found += _twice("variables", (v.name for v in self.variables))
        sources, messages, gateways = (
            {one.key for one in (*getattr(self, part), *getattr(there, part))}
            for part in ("sources", "messages", "gateways")
        )
        for index, source in enumerate(self.sources):
            other = source.same_orders.source if source.same_orders else ""
            if other and (other not in sources or other == source.key):
                why = "itself" if other == source.key else "a source that is not there"
                found.append(
                    Problem(
                        f"sources.{index}.same_orders.source",
                        f"Source “{source.name}” is set to report the same orders as “{other}”, {why}.",
                        "Name another source of the store.",
                    )
                )
        for index, route in enumerate(self.routes):
            where = f"routes.{index}"
            found += [
                Problem(f"{where}.sources", f"Route “{route.name}” listens to “{key}”, and no source has that key.")
                for key in route.sources
                if key not in sources
            ]
            if route.send and route.send not in messages:
                found.append(
                    Problem(f"{where}.send", f"Route “{route.name}” sends “{route.send}”, and no message has that key.")
                )
            if route.gateway and route.gateway not in gateways:
                found.append(
                    Problem(
                        f"{where}.gateway",
                        f"Route “{route.name}” goes by “{route.gateway}”, and no gateway has that key.",
                    )
                )
            for number, option in enumerate(route.fallback.options):
                if option.gateway not in gateways:
                    found.append(
                        Problem(
                            f"{where}.fallback.options.{number}.gateway",
                            f"Route “{route.name}” goes on by “{option.gateway}”, and no gateway has that key.",
                        )
                    )
                if option.send and option.send not in messages:
                    found.append(
                        Problem(
                            f"{where}.fallback.options.{number}.send",
                            f"Route “{route.name}” goes on with “{option.send}”, and no message has that key.",
                        )
                    )
        routes = {r.key for r in (*self.routes, *there.routes)}
        found += [
            Problem(
                f"routes.{index}.guards.after_route",
                f"Route “{route.name}” is sent only after “{route.guards.after_route}”, and no route has that key.",
            )
            for index, route in enumerate(self.routes)
            if route.guards.after_route and route.guards.after_route not in routes
        ]
        found += [
            Problem("live", f"“{key}” is to be live, and no route has that key.")
            for key in self.live
            if key not in routes
        ]
        variables = {v.name for v in (*self.variables, *there.variables)}
        for index, source in enumerate(self.sources):
            found += [
                Problem(
                    f"sources.{index}.recipes.{name}",
                    f"Source “{source.name}” maps “{name}”, and no variable has that name.",
                )
                for name in source.recipes
                if name not in variables
            ]
        return found


def _twice(field: str, keys: Iterable[str]) -> list[Problem]:
    seen: set[str] = set()
    found = []
    for key in keys:
        if key in seen:
            found.append(Problem(field, f"“{key}” is used twice.", "Give each its own key."))
        seen.add(key)
    return found


def read_bundle(text: str, around: Bundle | None = None) -> Bundle:
    """A bundle from YAML, as `bundle_of` takes it. Raises Invalid with every problem: of the YAML, of a spec, or
    between specs.
    """
    return bundle_of(plain_bundle(text), around)


def plain_bundle(text: str) -> dict[str, Any]:
    """A bundle's YAML as plain data. Raises Invalid."""
    if len(text) > 5_000_000:
        raise Invalid([Problem("", "The bundle is larger than 5 MB.")])
    try:
        data = _json(text)
        data = data if data is not None else yaml.load(text, Loader=Loader)  # noqa: S506 - Loader is a SafeLoader
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        at = f" at line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        raise Invalid(
            [Problem("", f"The bundle is not YAML: {getattr(error, 'problem', None) or 'it can not be read'}{at}.")]
        ) from None
    except RecursionError:
        raise Invalid([Problem("", "The bundle is nested too deeply.", "Write it flatter.")]) from None
    except (ValueError, OverflowError) as error:  # a number of thousands of digits
        raise Invalid([Problem("", f"The bundle holds a value that can't be read: {str(error)[:120]}.")]) from None
    if not isinstance(data, dict):
        raise Invalid(
            [Problem("", "The bundle is empty or not a mapping.", "It starts with `angelon: 2` and `store:`.")]
        )
    _refuse_multiplied(data)
    return data


def _json(text: str) -> Any:
    """What is JSON needs no reader of YAML, which takes a hundred times as long; None for what is none."""
    if text.lstrip()[:1] not in ("{", "["):
        return None
    try:
        return json.loads(text)
    except ValueError:
        return None


MOST_VALUES = 500_000
"""Values of a bundle, each counted as often as aliases repeat it."""


def _refuse_multiplied(data: Any) -> None:
    """Raises Invalid where aliases (YAML 1.2, section 7.1) make more of a bundle than anybody has written."""
    stack, seen = [data], 0
    while stack:
        one = stack.pop()
        inner = list(one.values()) if isinstance(one, dict) else one if isinstance(one, list) else ()
        seen += len(inner)
        if seen > MOST_VALUES:
            what = f"The bundle’s aliases (*) repeat more than {MOST_VALUES:,} values."
            raise Invalid([Problem("", what, "Write their values out.")])
        stack += inner


def bundle_of(data: dict[str, Any], around: Bundle | None = None) -> Bundle:
    """A bundle from plain data, whatever format it was written in. Raises Invalid with every problem: of a spec, or
    between specs.

    With the set-up that it is applied to, `around`, it may be a part of one: the store may be left out, or some of it;
    what is referred to may be there already; and without `live`, routes stay on or off. A route without a channel has
    its gateway's.
    """
    data = _upgraded(data)
    if around is not None and isinstance(data.get("store", {}), dict):
        data = {**data, "store": {**around.store.plain(), **data.get("store", {})}}
    bundle = read_spec(Bundle, data)
    gateways = {one.key: one for one in (*(around.gateways if around else ()), *bundle.gateways)}
    for route in bundle.routes:
        if "channel" not in route.model_fields_set and route.gateway in gateways:
            route.channel = gateways[route.gateway].channel
    if around is not None and "live" not in data:
        bundle.live = [route.key for route in bundle.routes if route.key in around.live]
    problems = bundle.problems(around)
    if problems:
        raise Invalid(problems)
    return bundle


def _upgraded(data: dict[str, Any]) -> dict[str, Any]:
    """A bundle's data in today's format."""
    written_in = data.get("angelon", 1)
    if not isinstance(written_in, int) or not 1 <= written_in < FORMAT:
        return data
    found = {**data, "angelon": FORMAT}
    for field in ("sources", "variables", "gateways", "messages", "routes"):
        if isinstance(found.get(field), list):
            found[field] = [
                upgraded(field[:-1], {**item, FORMAT_KEY: written_in}) if isinstance(item, dict) else item
                for item in found[field]
            ]
    return found


def write_bundle(bundle: Bundle) -> str:
    """The bundle as YAML: the same bundle gives the same bytes."""
    data: dict[str, Any] = {"angelon": bundle.angelon, "store": bundle.store.plain()}
    for field, order in (
        ("sources", "key"),
        ("variables", "name"),
        ("gateways", "key"),
        ("messages", "key"),
        ("routes", "key"),
    ):
        items = sorted(getattr(bundle, field), key=lambda item: str(getattr(item, order)))
        data[field] = [item.plain() for item in items]
    data["live"] = sorted(bundle.live)
    return yaml.dump(data, Dumper=_Dumper, allow_unicode=True, sort_keys=False, width=120)


_Quickest: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class Loader(_Quickest):  # type: ignore[misc]
    """YAML without dates, since a day stays the text that was written, and with the truth values of YAML 1.2 (section
    10.3.2) alone: `on` is a key, and NO a country.
    """


Loader.yaml_implicit_resolvers = {
    letter: [(tag, regexp) for tag, regexp in resolvers if tag.rpartition(":")[2] not in ("timestamp", "bool")]
    for letter, resolvers in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
Loader.add_implicit_resolver("tag:yaml.org,2002:bool", re.compile(r"(?:true|True|TRUE|false|False|FALSE)\Z"), "tTfF")


class _Dumper(yaml.SafeDumper):
    def ignore_aliases(self, data: Any) -> bool:
        return True


def _text(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    style = "|" if "\n" in text and not text.endswith(" ") else None
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style=style)


_Dumper.add_representer(str, _text)
