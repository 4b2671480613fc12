"""The database and store that a command works on. What they need is imported when they are opened: a command that needs
neither starts at once.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from angelon.db.database import Database
    from angelon.engine.installation import Installation
    from angelon.settings import Settings


def open_database(chosen: Settings | None = None) -> Database:
    """The database of the settings, up to date."""
    from sqlalchemy.exc import DBAPIError

    from angelon import settings
    from angelon.db.database import Database

    chosen = chosen or settings.load()
    settings.private_folder(chosen.home)
    database = Database(chosen.url)
    try:
        database.migrate()
    except DBAPIError as error:
        raise click.ClickException(
            f"The database {database.shown_url} can't be used: {error.orig}. If its file is damaged, put a copy of "
            "it back, or use another ANGELON_HOME."
        ) from None
    return database


def open_installation() -> Installation:
    """What operations work with, over the database of the settings."""
    from angelon import settings
    from angelon.db.secrets import Vault
    from angelon.engine.clock import Clock
    from angelon.engine.installation import Installation
    from angelon.engine.notifications import Notifier
    from angelon.engine.setups import Setups

    chosen = settings.load()
    database = open_database(chosen)
    return Installation(database, Setups(database), Vault(chosen.key()), Clock(), Notifier(chosen.home))


def first_store(session: Any) -> int:
    """The store that a command is about where none is named: the only one, or the oldest."""
    context = click.get_current_context(silent=True)
    named = (context.find_root().obj or {}).get("store") if context is not None else None
    return chosen_store(session, named)


def chosen_store(session: Any, key: str | None) -> int:
    """A store by its key; the oldest where none is named."""
    from angelon.db import specs

    rows = specs.stores(session)
    if not rows:
        raise click.ClickException("There is no store yet. Apply a bundle first: angelon apply BUNDLE.")
    found = next((row for row in rows if key in (None, row.key)), None)
    if found is None:
        raise click.ClickException(f"There is no store “{key}”. The stores are {', '.join(r.key for r in rows)}.")
    return int(found.id or 0)
