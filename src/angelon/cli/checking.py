"""Checks from files, and what they are run against: the store's set-up, or a bundle's."""

from __future__ import annotations

import atexit
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
import yaml

from angelon.core.planning.inputs import Setup
from angelon.core.problems import Invalid
from angelon.core.specs import Route
from angelon.core.specs.base import read_spec
from angelon.core.specs.check import Check
from angelon.engine.operations.folders import bundle_in


def read_checks(paths: Sequence[Path]) -> list[Check]:
    """The checks of files, and of the .yaml files in folders."""
    found = []
    for path in paths:
        for file in sorted(path.glob("*.yaml")) if path.is_dir() else [path]:
            try:
                data = yaml.safe_load(file.read_text())
            except yaml.YAMLError as error:
                raise click.ClickException(f"{file} is not YAML: {error}") from None
            if not isinstance(data, dict):
                raise click.ClickException(
                    f"{file} is no check: it has to be a mapping with key, name, route, source, at and payload."
                )
            try:
                found.append(read_spec(Check, data))
            except Invalid as error:
                raise click.ClickException(f"{file}: {error.problems[0]}") from None
    return found


def write_checks(folder: Path, checks: list[Check]) -> None:
    """A file for each check, named after its key: the same check gives the same bytes."""
    folder.mkdir(parents=True, exist_ok=True)
    for check in checks:
        (folder / f"{check.key}.yaml").write_text(
            yaml.safe_dump(check.plain(), allow_unicode=True, sort_keys=False, width=120)
        )


def setup_of(bundle: Path | None, session: Any = None, store_id: int = 0) -> Setup:
    """The set-up of a bundle, else of the store."""
    if bundle is not None:
        made = bundle_in(bundle)
        return Setup(
            made.store,
            {s.key: s for s in made.sources},
            {v.name: v for v in made.variables},
            {m.key: m for m in made.messages},
            {g.key: g.model_copy(update={"review": None}) for g in made.gateways},
        )
    from angelon.db.setup import live_setup

    return live_setup.load(session, store_id).setup


def routes_of(bundle: Path | None, session: Any, store_id: int) -> dict[str, Route]:
    """Every route by key: the bundle's; else as it is live, or as drafted where it never was."""
    if bundle is not None:
        return {route.key: route for route in bundle_in(bundle).routes}
    from angelon.engine.operations.checks import routes_by_key

    return routes_by_key(session, store_id)


def with_handlers(setup: Setup, routes: dict[str, Route]) -> tuple[Setup, dict[str, Route]]:
    """The set-up and routes with the handlers of ANGELON_HANDLERS as they are now, where a folder is set. Raises
    ClickException for a file that can't be loaded.
    """
    from angelon import settings

    folder = settings.load().handlers
    if folder is None:
        return setup, routes
    from angelon.engine.handlers.asking import AskNow
    from angelon.engine.handlers.registry import route_of
    from angelon.engine.handlers.runner import Handlers

    own = Handlers(folder)
    atexit.register(own.end)
    own.look()
    told = own.seen or {"handlers": [], "problems": []}
    for one in told["problems"]:
        raise click.ClickException(f"{one['file']} could not be loaded:\n{one['problem']}")
    made = [route_of(one, list(setup.sources)) for one in told["handlers"]]
    return replace(setup, asks=AskNow(own)), {route.key: route for route in made} | routes
