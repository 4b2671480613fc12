"""Commands about what a store has set up: bundles and checks."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from angelon.cli.opening import first_store, open_database, open_installation
from angelon.cli.remote import client, is_remote

if TYPE_CHECKING:
    from angelon.client.models import Checked


@click.command()
@click.argument("bundle", type=click.Path(exists=True, path_type=Path))
@click.option("--ask/--no-ask", default=None, help="Ask for secrets that are missing; without it, in a terminal only.")
@click.option("--dry-run", is_flag=True, help="Say what would change, field by field, and change nothing.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def apply(bundle: Path, ask: bool | None, dry_run: bool, as_json: bool) -> None:
    """Create or update everything in BUNDLE, a file or a folder; nothing changes if any part is invalid. It may hold a
    part of a set-up: what it does not name stays as it is.

    Secrets that are missing are taken from the environment (ANGELON_SECRET_GATEWAY_KEY, ANGELON_SECRET_SOURCE_KEY), or
    asked for. What is lacking is listed, and routes that can't work yet are left off. With --url the set-up of an
    Angelon that runs elsewhere; files, checks and suppressions of a folder stay here.
    """
    from angelon.db.setup import specs
    from angelon.engine.operations import bundles, folders
    from angelon.engine.unit import unit

    if is_remote():
        with client() as elsewhere:
            done = elsewhere.apply(folders.plain_in(bundle), dry_run=dry_run)
        _told(as_json, done.differences if dry_run else done.changes, done.lacking, done.left_off, dry_run)
        return
    installation = open_installation()
    with installation.database.reading() as session:
        around = _around(session, folders.plain_in(bundle))
    folder = folders.read(bundle, around) if bundle.is_dir() else None
    made = folder.bundle if folder is not None else folders.bundle_in(bundle, around)
    if dry_run:
        tried = bundles.apply(installation, made, dry_run=True)
        _told(as_json, tried.differences, tried.lacking, tried.left_off, True)
        return
    asking = sys.stdin.isatty() and not as_json if ask is None else ask

    missing = bundles.missing_secrets(installation, made)
    secrets = bundles.from_environment(missing)
    for secret in missing if asking else []:
        if (secret.kind, secret.key) not in secrets:
            click.echo(f"{secret.name} has {secret.what}.")
            text = click.prompt("Its secret (Enter for none)", default="", hide_input=True, show_default=False)
            secrets |= {(secret.kind, secret.key): text} if text else {}
    first = []
    if folder is not None:  # files first: a route that needs one is not left off for want of it
        with installation.database.reading() as session:
            there = next((row.id for row in specs.stores(session) if row.key == made.store.key), None)
        if there is None:
            bundles.apply(installation, made.model_copy(update={"live": []}))
            with installation.database.reading() as session:
                there = next(row.id for row in specs.stores(session) if row.key == made.store.key)
            first = [f"store {made.store.key}: new"]
        with unit(installation, there or 0) as work:
            first += folders.add_beside(work, folder)
    applied = bundles.apply(installation, made, secrets=secrets)
    if folder is not None:
        with unit(installation, there or 0) as work:
            first += folders.add_drafts(work, folder)
    _told(as_json, first + applied.changes, applied.lacking, applied.left_off)


def _around(session: Any, data: dict[str, Any]) -> Any:
    """The set-up that a bundle is applied to: its store's, or where it names none the one that commands are about; None
    where that is new.
    """
    from angelon.db.setup import bundles, specs

    store = data.get("store")
    key = store.get("key") if isinstance(store, dict) else None
    if key is None and specs.stores(session):
        return bundles.export(session, first_store(session))
    there = next((row.id for row in specs.stores(session) if row.key == key), None)
    return bundles.export(session, there) if there is not None else None


def _told(as_json: bool, changes: list[str], lacking: list[str], left_off: list[str], dry_run: bool = False) -> None:
    if as_json:
        told = {"changes": changes, "lacking": lacking, "left_off": left_off, "dry_run": dry_run}
        click.echo(json.dumps(told, ensure_ascii=False, indent=1))
        return
    for line in changes or ["nothing would change" if dry_run else "nothing changed"]:
        click.echo(line)
    for line in lacking:
        click.echo(f"lacking: {line}")
    for line in left_off:
        click.echo(f"route {line}")
    if dry_run:
        click.echo("Nothing was changed: this was a dry run.")


@click.command()
@click.option(
    "--to",
    type=click.Path(file_okay=False, path_type=Path),
    help="Write a folder with files, checks, suppressions and drafts, too.",
)
@click.option("--split", is_flag=True, help="With --to: a file for each source, message and route.")
def export(to: Path | None, split: bool) -> None:
    """Print the store's set-up as a bundle, or write all of it into a folder."""
    from angelon.core.specs.bundle import bundle_of, write_bundle
    from angelon.db.setup import bundles

    if split and to is None:
        raise click.ClickException("Name the folder, too: angelon export --to FOLDER --split.")
    if is_remote():
        if to is not None:
            raise click.ClickException("From elsewhere only the bundle itself is exported: leave --to out.")
        with client() as elsewhere:
            click.echo(write_bundle(bundle_of(elsewhere.setup().bundle)), nl=False)
        return
    with open_database().reading() as session:
        if to is None:
            click.echo(write_bundle(bundles.export(session, first_store(session))), nl=False)
            return
        from angelon.engine.operations import folders

        for line in folders.write(session, first_store(session), to, split):
            click.echo(line)


@click.command()
def schema() -> None:
    """Print the JSON Schema of a bundle (draft 2020-12), for an editor or a check of one's own."""
    from angelon.core.specs.bundle import Bundle

    click.echo(json.dumps(Bundle.model_json_schema(), indent=1, ensure_ascii=False))


@click.command()
@click.argument("files", nargs=-1, type=click.Path(exists=True, path_type=Path))
@click.option(
    "--bundle",
    type=click.Path(exists=True, path_type=Path),
    help="Check this bundle instead of what the store has set up.",
)
@click.option(
    "--save",
    type=click.Path(file_okay=False, path_type=Path),
    help="Write the store's checks into this folder, a file each, and end.",
)
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def check(files: tuple[Path, ...], bundle: Path | None, save: Path | None, as_json: bool) -> None:
    """Run the checks; exit 1 where one fails.

    FILES are checks beside a bundle, or folders of them (.yaml); without any, those that the store keeps are run.
    """
    from angelon.cli.checking import read_checks, routes_of, setup_of, with_handlers
    from angelon.client.models import Checked
    from angelon.core.planning.checking import run
    from angelon.core.specs.check import Check
    from angelon.core.specs.stored import from_stored
    from angelon.db.setup import checks

    if is_remote():
        if files or bundle or save:
            raise click.ClickException("Elsewhere the checks that are kept there are run: leave files and options out.")
        with client() as elsewhere:
            _told_checks(elsewhere.check(), as_json)
    with open_database().reading() as session:
        kept = (
            []
            if bundle and files
            else [from_stored(Check, row.spec) for row in checks.all_of(session, first_store(session))]
        )
        found = read_checks(files) if files else kept
        made = setup_of(bundle) if bundle else setup_of(None, session, first_store(session))
        routes = routes_of(bundle, None if bundle else session, 0 if bundle else first_store(session))
    if save:
        from angelon.cli.checking import write_checks

        write_checks(save, kept)
        click.echo(f"{len(kept)} checks written to {save}")
        return
    made, routes = with_handlers(made, routes)
    _told_checks(Checked.of(run(one, routes, made) for one in found), as_json)


def _told_checks(done: Checked, as_json: bool) -> None:
    """Prints what the checks gave, and ends: with 1 where one fails."""
    failed = sum(not one.passed for one in done.checks)
    if as_json:
        click.echo(done.model_dump_json(indent=1))
        sys.exit(1 if failed else 0)
    for one in done.checks:
        click.echo(f"{'passed' if one.passed else 'FAILED'} {one.name}")
        for line in one.differences:
            click.echo(f"      {line}")
    none = "There is no check yet. Keep one on a route's page."
    click.echo(f"{len(done.checks) - failed} passed, {failed} failed" if done.checks else none)
    sys.exit(1 if failed else 0)
