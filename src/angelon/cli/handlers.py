"""Commands for handlers: a start with its test, what is registered, a call on a captured delivery."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import sys
from pathlib import Path
from typing import Any

import click

from angelon.cli.opening import first_store, open_database
from angelon.cli.output import json_too, say

START = '''"""What {name} does, in a line."""

from angelon.handlers import Event, Outbox, on


@on("order.created")  # event types; source="webshop" limits it to one source, rank= and timeout= are optional
def {name}(event: Event, outbox: Outbox) -> None:
    """What stands on the page of handlers."""
    total = event.order.total
    if total is None or total.amount < 100:
        return outbox.skip("less than 100")  # the reason stands in the event's trace
    outbox.send("order-received", by="email")  # the key of a published message
'''
TEST = '''"""Run by `pytest`: no server, no database, only a bundle (`angelon export > angelon.yaml`) here or above."""

from angelon.handlers.testing import event, run
from {name} import {name}


def test_{name}():
    # a delivery that was captured: download one from the page of a source
    asked = run({name}, event("delivery.http", source="webshop"))
    assert [send.message for send in asked.sends] == ["order-received"]
'''


@click.group()
def handlers() -> None:
    """Functions of your own that say what is sent."""


def _folder(given: Path | None) -> Path:
    from angelon import settings

    folder = given or settings.load().handlers
    if folder is None:
        raise click.ClickException(
            "No folder is set. Name it with --folder, or set ANGELON_HANDLERS, such as ANGELON_HANDLERS=./handlers."
        )
    return folder


FOLDER = click.option(
    "--folder", type=click.Path(file_okay=False, path_type=Path), help="The folder, in place of ANGELON_HANDLERS."
)


@handlers.command()
@click.argument("name")
@FOLDER
def new(name: str, folder: Path | None) -> None:
    """Write a commented start and its test."""
    if not name.isidentifier() or name.startswith("_") or not name.isascii():
        raise click.ClickException(f"“{name}” is no name for a function: write it like ready_at_the_workshop.")
    here = _folder(folder)
    here.mkdir(parents=True, exist_ok=True)
    for file, text in ((here / f"{name}.py", START), (here / f"test_{name}.py", TEST)):
        if file.exists():
            raise click.ClickException(f"{file} is there already. Choose another name.")
        file.write_text(text.format(name=name))
        click.echo(f"wrote {file}")
    click.echo("Change them, then switch the handler on, on the page of handlers.")


@handlers.command("list")
@json_too
@FOLDER
def list_(folder: Path | None) -> None:
    """Load the folder; print what is registered and what is wrong."""
    from angelon.engine.handlers.pool import Pool

    pool = Pool(_folder(folder).resolve(), 1)
    try:
        loaded = pool.loaded()
    finally:
        pool.end()
    for one in loaded.handlers:
        source = f" from {', '.join(one['sources'])}" if one["sources"] else ""
        say(f"{one['name']}  {one['file']}:{one['line']}  {', '.join(one['types'])}{source}")
    for one in loaded.problems:
        click.echo(f"{one['file']} could not be loaded:\n{one['problem']}", err=True)
    say("", handlers=list(loaded.handlers), problems=list(loaded.problems))
    sys.exit(1 if loaded.problems else 0)


@handlers.command("try")
@click.argument("name")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--source", help="The source's key, where the handler listens to several.")
@click.option("--type", "type_", help="The event type; what the source names it, else the handler's first.")
@click.option("--was", default="", help="For a change of status: what it was.")
@click.option("--now", default="", help="For a change of status: what it is.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
@FOLDER
def try_(
    name: str,
    file: Path,
    source: str | None,
    type_: str | None,
    was: str,
    now: str,
    as_json: bool,
    folder: Path | None,
) -> None:
    """Call NAME on the delivery in FILE; print what it asks for and what would come of it. Nothing is sent."""
    from angelon.cli.files import read_request
    from angelon.cli.trying import _decision_json, _decision_text
    from angelon.core.deliveries import read_delivery
    from angelon.core.payload.body import NotReadable
    from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Event, Facts
    from angelon.core.planning.plan import decide, work_out
    from angelon.db.setup import live_setup
    from angelon.engine.handlers.about import as_plain
    from angelon.engine.handlers.registry import route_of
    from angelon.engine.handlers.runner import Handlers

    own = Handlers(_folder(folder))
    try:
        own.look()
        told = own.seen or {"handlers": [], "problems": []}
        known = next((one for one in told["handlers"] if one["name"] == name), None)
        if known is None:
            for one in told["problems"]:
                click.echo(f"{one['file']} could not be loaded:\n{one['problem']}", err=True)
            names = ", ".join(one["name"] for one in told["handlers"]) or "none"
            raise click.ClickException(f"There is no handler “{name}”. The folder has {names}.")
        with open_database().reading() as session:
            live = live_setup.load(session, first_store(session))
        route = route_of(known, list(live.sources))
        key = source or next(iter(route.sources), "")
        if key not in live.sources:
            raise click.ClickException(f"There is no source “{key}”. The sources are {', '.join(live.sources)}.")
        request = read_request(file)
        try:
            received = read_delivery(live.sources[key], request.headers, request.body)[0]
        except NotReadable as error:
            raise click.ClickException(str(error.problem)) from None
        at = dt.datetime.now(dt.UTC)
        happened = type_ or (received.type if received.type in route.when else route.when[0])
        reading, variables = work_out(live.sources[key], live.setup, received.payload)
        now = now or (reading.text("status") if "status_changed" in happened else "")
        event = Event("file", happened, received.name, key, received.payload, at, was, now)
        asked, result = own.call(name, as_plain(event, reading, variables, 1))
        event = dataclasses.replace(event, asked={name: asked})
        decision = decide(event, reading, variables, ActiveRoute(route, ALWAYS), live.setup, Facts(), at)
    finally:
        own.end()
    if as_json:
        made: dict[str, Any] = {"asked": asked.plain(), "output": result.output, "decision": _decision_json(decision)}
        click.echo(json.dumps(made, ensure_ascii=False, indent=2, default=str))
    else:
        if result.output:
            click.echo(f"It printed:\n{result.output.rstrip()}\n")
        if asked.problem:
            click.echo(asked.problem.rstrip(), err=True)
        click.echo(_decision_text(decision))
    sys.exit(1 if asked.problem else 0)
