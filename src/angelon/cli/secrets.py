"""Commands for the secret key that credentials are sealed under."""

from __future__ import annotations

import datetime as dt
import os
import secrets as random

import click

from angelon.cli.opening import open_database
from angelon.cli.output import json_too, say
from angelon.settings import Settings

LINKS_FOR_DAYS = 400


@click.group()
def secrets() -> None:
    """The secret key that credentials are sealed under."""


@secrets.command()
@json_too
@click.option(
    "--new-key",
    envvar="ANGELON_NEW_SECRET_KEY",
    help="The new key, of 16 characters at least; one is created where the key is kept in the data folder.",
)
@click.option(
    "--links-for",
    default=LINKS_FOR_DAYS,
    show_default=True,
    type=click.IntRange(0, 3650),
    metavar="DAYS",
    help="How long links are good that are in mails already; 0 where the old key is known to others.",
)
def rotate(new_key: str | None, links_for: int) -> None:
    """Seal every credential under a new key, all or none. Stop Angelon first, and start it with the new key.

    Browsers are signed out by it. Addresses for receipts, and links by which a customer leaves, stay good for ever.
    """
    from angelon import settings
    from angelon.cli.holding import alone

    chosen = settings.load()
    with alone(chosen.home, "the key can’t be changed"):
        _rotate(chosen, new_key, dt.timedelta(days=links_for))


def _rotate(chosen: Settings, new_key: str | None, links_for: dt.timedelta) -> None:
    from angelon.db.access.secrets import Vault

    if chosen.secret_key and not new_key:
        raise click.ClickException("The key is set in ANGELON_SECRET_KEY: give the new one as ANGELON_NEW_SECRET_KEY.")
    made = new_key or random.token_urlsafe(32)
    if len(made) < 16:
        raise click.ClickException("The new key has to have at least 16 characters.")
    old = chosen.key()
    file, waiting = chosen.home / "secret.key", chosen.home / "secret.key.new"
    if not chosen.secret_key:
        waiting.write_text(made)  # written before anything is sealed under it
        waiting.chmod(0o600)
    with open_database(chosen).writing() as session:
        number = Vault(old).reseal(session, Vault(made), dt.datetime.now(dt.UTC), links_for)
    if not chosen.secret_key:
        os.replace(waiting, file)
    say(f"{number} credential{'s are' if number != 1 else ' is'} sealed under the new key.", sealed=number)
    if chosen.secret_key:
        say("Start Angelon with the new key as ANGELON_SECRET_KEY.")
