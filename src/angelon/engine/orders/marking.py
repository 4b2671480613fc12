"""Notes tags and values about customers: for a route, an answer, or a person."""

from __future__ import annotations

import datetime as dt
from typing import Any

import structlog
from sqlalchemy import Connection

from angelon.core.planning.inputs import Setup
from angelon.core.planning.prompts import read_answer
from angelon.core.problems import Problem
from angelon.core.recipes.context import StepFailed
from angelon.core.specs.marks import Marks
from angelon.core.values import Value
from angelon.db.people import contact_tags, contact_values
from angelon.db.setup.live_setup import LiveSetup

log = structlog.get_logger()


def values_of(marks: Marks, setup: Setup) -> dict[str, Value]:
    """The values that are noted, of their variables' types; one that is none any more is left out, and logged."""
    found: dict[str, Value] = {}
    for name, text in marks.values.items():
        variable = setup.variables.get(name)
        try:
            if variable is not None and variable.keep:
                found[name] = read_answer(name, text, setup)
        except StepFailed as error:
            log.warning("a value could not be noted", variable=name, why=error.what)
    return found


def problems_of(marks: Marks, setup: Setup, where: str) -> list[Problem]:
    """What can't be noted."""
    found = []
    for name, text in marks.values.items():
        variable = setup.variables.get(name)
        if variable is None or not variable.keep:
            what = f"“{name}” is no variable that is kept with customers."
            found.append(Problem(where, what, "Tick “keep” at the variable, in a source's mapping."))
            continue
        try:
            read_answer(name, text, setup)
        except StepFailed as error:
            found.append(Problem(where, f"{name}: {error.what}", error.hint))
    return found


def mark(connection: Connection, live: LiveSetup, contact_id: int, marks: Marks, by: str, now: dt.datetime) -> None:
    """Notes all of it, at once."""
    if marks.tags:
        known = contact_tags.of(connection, [contact_id]).get(contact_id, ())
        contact_tags.change(connection, contact_id, marks.tags, known, by, now)
    newest = contact_values.newest(connection, [contact_id]).get(contact_id, {}) if marks.values else {}
    rows: list[Any] = [
        contact_values.row(contact_id, name, value, now)
        for name, value in values_of(marks, live.setup).items()
        if name not in newest or newest[name].value != value
    ]
    contact_values.add(connection, rows)
