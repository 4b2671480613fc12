"""The command that looks at what Angelon keeps beside the rows themselves: counts and the search's index."""

from __future__ import annotations

import sys

import click

from angelon.cli.opening import open_database


@click.command()
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
        click.echo(f"{table.replace('_', ' ')}s: {f'{number:,} are not what the rows say' if number else 'right'}.")
    if check:
        sys.exit(1 if any(wrong.values()) else 0)
    with database.connection() as connection:
        counting.watch(connection)
        counting.rebuild(connection)
        searching.watch(connection)
        searching.note_all(connection)
    click.echo("Counted anew.")
    click.echo(f"The search’s index: {indexing.follow(database, longest=86_400):,} things taken in.")
    database.close()
