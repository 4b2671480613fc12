"""The commands."""

from __future__ import annotations

import logging
import os
import sys
from typing import Any

import click

from angelon.cli import (
    accounts,
    backups,
    counts,
    doctor,
    exporting,
    handlers,
    migrating,
    moving,
    running,
    secrets,
    set_up,
    trying,
)
from angelon.cli.parents import end_with_starter


class Angelon(click.Group):
    """Turns expected errors into one line that says what to do."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except click.exceptions.Exit:
            raise
        except Exception as error:
            told = _sentence(error)
            if told is None:
                raise
            raise click.ClickException(told) from None


def _sentence(error: Exception) -> str | None:
    """What a person is told of an expected error; None for one that is not. Imported here, where something went wrong:
    most of it is more than a small command needs.
    """
    from angelon.cli.serving import PortTaken
    from angelon.core.problems import Invalid
    from angelon.db.access.secrets import WrongKey
    from angelon.db.database import OtherDatabase
    from angelon.settings import BadSettings

    if isinstance(error, Invalid):
        lines = "\n".join(f"  {problem}" for problem in error.problems[:40])
        return f"Nothing was changed.\n{lines}"
    if isinstance(error, PortTaken | BadSettings | OtherDatabase | WrongKey):
        return str(error)
    if isinstance(error, OSError):
        return f"{error.filename or 'A file'} can't be used: {error.strerror or error}."
    return None


@click.group(cls=Angelon, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="angelon")
@click.option("--url", envvar="ANGELON_URL", help="An Angelon that runs elsewhere: apply, export and check work on it.")
@click.option("--token", envvar="ANGELON_TOKEN", help="The token for it, made under Settings, Tokens.")
@click.option("--store", envvar="ANGELON_STORE", help="The store, by its key, where there are several.")
@click.pass_context
def main(context: click.Context, url: str | None, token: str | None, store: str | None) -> None:
    """Store events to email, SMS and chat: mapped, rehearsed, logged and retried."""
    context.obj = {"url": url, "token": token, "store": store}
    os.umask(0o077)  # what Angelon keeps is its owner's alone
    end_with_starter()
    if context.invoked_subcommand not in LOGS_NOTHING:
        _log_to_stderr()


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print what completes commands and options in SHELL.

    For bash put `eval "$(angelon completion bash)"` into ~/.bashrc; zsh is alike, and for fish: `angelon completion
    fish > ~/.config/fish/completions/angelon.fish`.
    """
    from click.shell_completion import get_completion_class

    found = get_completion_class(shell)
    assert found is not None
    click.echo(found(main, {}, "angelon", "_ANGELON_COMPLETE").source())


LOGS_NOTHING = frozenset({"segments", "completion"})
"""Commands that start without a log: to import it takes longer than they do."""


def _log_to_stderr() -> None:
    import structlog

    from angelon.core.masking import mask_line

    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            mask_line,
            structlog.processors.JSONRenderer(ensure_ascii=False),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


for command in (
    running.demo,
    running.serve,
    running.web,
    running.worker,
    handlers.handlers,
    accounts.token,
    counts.recount,
    migrating.migrate,
    moving.move,
    backups.backup,
    backups.restore,
    exporting.data,
    accounts.user,
    secrets.secrets,
    running.standins,
    doctor.doctor,
    set_up.apply,
    set_up.export,
    set_up.schema,
    set_up.check,
    trying.emit,
    trying.rehearse,
    trying.suggest,
    trying.render,
    trying.segments,
    completion,
):
    main.add_command(command)
