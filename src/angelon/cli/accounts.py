"""Commands for tokens of the API and accounts of people: on the machine itself, without signing in."""

from __future__ import annotations

import click

from angelon.cli.opening import first_store, open_installation
from angelon.cli.output import json_too, say


@click.group()
def token() -> None:
    """Tokens by which other systems use the API."""


@token.command("create")
@click.argument("name")
@json_too
@click.option("--scope", "scopes", multiple=True, required=True, help="What it may do; several times for several.")
@click.option("--days", default=0, show_default=True, help="For how many days it is valid; 0: until it is revoked.")
def create_token(name: str, scopes: tuple[str, ...], days: int) -> None:
    """Make a token and print it: it is shown this once."""
    from angelon.engine.operations import tokens
    from angelon.engine.unit import unit

    installation = open_installation()
    with installation.database.reading() as session:
        store_id = first_store(session)
    with unit(installation, store_id) as work:
        made = tokens.create(work, name, scopes, days)
    say(made, token=made, scopes=list(scopes), days=days)


@click.group()
def user() -> None:
    """Accounts of people."""


@user.command("create")
@click.argument("email")
@json_too
@click.option("--name", help="What they are called; needed with --password.")
@click.option("--role", default="developer", show_default=True, help="owner, developer, writer or viewer.")
@click.option("--password", is_flag=True, help="Ask for a password now, in place of making an invitation.")
def create_user(email: str, name: str | None, role: str, password: bool) -> None:
    """Invite somebody: print the link by which they choose a password. The first account has to be an owner's."""
    from angelon import settings
    from angelon.cli.serving import running_at
    from angelon.core.problems import Invalid, Problem
    from angelon.db.access import accounts as stored
    from angelon.engine.operations import accounts

    installation, chosen = open_installation(), settings.load()
    with installation.database.reading() as session:
        first = not stored.there_are_any(session)
    if first and role != "owner":
        raise Invalid([Problem("role", "There is no account yet.", "Make an owner first: --role owner.")])
    if password:
        typed = click.prompt("Password, ten characters at least", hide_input=True, confirmation_prompt=True)
        kept = accounts.hashed(typed, email)
        with installation.database.writing() as session:
            accounts.create(session, email, name or email.partition("@")[0], kept, role, installation.clock.now())
        say(f"{email} may sign in as {role}.", email=email, role=role)
        return
    secret = accounts.make_invitation(installation, email, role, "this machine")
    base = chosen.base_url or running_at(chosen.home) or "http://127.0.0.1:8080"
    link = f"{base}/sign-in/join/{secret}"
    say(link, email=email, role=role, link=link)
