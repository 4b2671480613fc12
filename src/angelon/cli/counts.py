"""The command that looks at what Angelon keeps beside the rows themselves: counts and the search's index."""

from __future__ import annotations

import sys

import click

from angelon.cli.opening import open_database
from angelon.cli.output import json_too, say


@click.command()
@json_too
@click.option("--check", is_flag=True, help="Say what is wrong, and change nothing; ends with 1 where anything is.")
def recount(check: bool) -> None:
    """Count sends, orders and events anew, and make the search's index anew. Others wait while it counts."""
    from angelon import settings
    from angelon.db.derived import counting, searching
    from angelon.engine.followers import indexing

    database = open_database(settings.load())
    with database.reading() as session:
        wrong = counting.differences(session.connection())
    for table, number in wrong.items():
        say(f"{table.replace('_', ' ')}s: {f'{number:,} are not what the rows say' if number else 'right'}.")
    say("", wrong=wrong)
    if check:
        sys.exit(1 if any(wrong.values()) else 0)
    with database.connection() as connection:
        counting.watch(connection)
        counting.rebuild(connection)
        searching.watch(connection)
        searching.note_all(connection)
    say("Counted anew.", counted_anew=True)
    taken = indexing.follow(database, longest=86_400)
    say(f"The search’s index: {taken:,} things taken in.", indexed=taken)
    database.close()
