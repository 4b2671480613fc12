"""Commands about what a store has set up: bundles and checks."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from angelon.cli.opening import first_store, open_database, open_installation


@click.command()
@click.argument("bundle", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def apply(bundle: Path) -> None:
    """Create or update everything in BUNDLE; nothing changes if any part is invalid."""
    from angelon.core.specs.bundle import read_bundle
    from angelon.engine.operations.bundles import apply as apply_bundle

    made = read_bundle(bundle.read_text())
    for line in apply_bundle(open_installation(), made) or ["nothing changed"]:
        click.echo(line)


@click.command()
def export() -> None:
    """Print the store's set-up as a bundle."""
    from angelon.core.specs.bundle import write_bundle
    from angelon.db import bundles

    with open_database().reading() as session:
        click.echo(write_bundle(bundles.export(session, first_store(session))), nl=False)


@click.command()
@click.argument("files", nargs=-1, type=click.Path(exists=True, path_type=Path))
@click.option(
    "--bundle",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Check this bundle instead of what the store has set up.",
)
@click.option(
    "--save",
    type=click.Path(file_okay=False, path_type=Path),
    help="Write the store's checks into this folder, a file each, and end.",
)
def check(files: tuple[Path, ...], bundle: Path | None, save: Path | None) -> None:
    """Run the checks; exit 1 where one fails.

    FILES are checks beside a bundle, or folders of them (.yaml); without any, those that the store keeps are run.
    """
    from angelon.cli.checking import read_checks, routes_of, setup_of
    from angelon.core.planning.checking import run
    from angelon.core.specs.check import Check
    from angelon.core.specs.stored import from_stored
    from angelon.db import checks

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
    failed = 0
    for one in found:
        outcome = run(one, routes, made)
        failed += not outcome.passed
        click.echo(f"{'passed' if outcome.passed else 'FAILED'} {one.name}")
        for line in outcome.differences:
            click.echo(f"      {line}")
    click.echo(
        f"{len(found) - failed} passed, {failed} failed"
        if found
        else "There is no check yet. Keep one on a route's page."
    )
    sys.exit(1 if failed else 0)
