"""The command that brings a database up to date."""

from __future__ import annotations

import sys
import time

import click

from angelon.cli.opening import open_database, stored_database
from angelon.cli.output import json_too, say


@click.command()
@json_too
@click.option("--check", is_flag=True, help="Only say whether there is something to do: exit code 1 where there is.")
def migrate(check: bool) -> None:
    """Bring the database up to this version of Angelon. Making a new one needs no migration.

    It is one transaction: where it fails, the database is as it was.
    """
    from angelon import settings

    chosen = settings.load()
    if check:
        database = stored_database(chosen)
        at = database.behind()
        database.close()
        text = f"The database is of version {at}; type: angelon migrate" if at else "The database is up to date."
        say(text, up_to_date=not at, version=at or None)
        sys.exit(1 if at else 0)
    began = time.monotonic()
    open_database(chosen, migrate=True).close()
    seconds = time.monotonic() - began
    say(f"The database is up to date, after {seconds:.1f} s.", up_to_date=True, seconds=round(seconds, 1))
