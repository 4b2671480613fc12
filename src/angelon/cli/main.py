"""The commands."""

from __future__ import annotations

import logging
import os
import sys
from typing import Any

import click
import structlog

from angelon.cli import running, set_up, trying
from angelon.cli.parents import end_with_starter
from angelon.settings import BadSettings


class Angelon(click.Group):
    """Turns expected errors into one line that says what to do."""

    def invoke(self, ctx: click.Context) -> Any:
        from angelon.cli.serving import PortTaken
        from angelon.core.problems import Invalid
        from angelon.db.database import NewerDatabase
        from angelon.db.secrets import WrongKey

        try:
            return super().invoke(ctx)
        except PortTaken as error:
            raise click.ClickException(str(error)) from None
        except BadSettings as error:
            raise click.ClickException(str(error)) from None
        except Invalid as error:
            lines = "\n".join(f"  {problem}" for problem in error.problems[:40])
            raise click.ClickException(f"Nothing was changed.\n{lines}") from None
        except OSError as error:
            raise click.ClickException(
                f"{error.filename or 'A file'} can't be used: {error.strerror or error}."
            ) from None
        except (NewerDatabase, WrongKey) as error:
            raise click.ClickException(str(error)) from None


@click.group(cls=Angelon, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="angelon")
def main() -> None:
    """Store events to email, SMS and chat: mapped, rehearsed, logged and retried."""
    os.umask(0o077)  # what Angelon keeps is its owner's alone
    end_with_starter()
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
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
    running.standins,
    set_up.apply,
    set_up.export,
    set_up.check,
    trying.emit,
    trying.rehearse,
    trying.suggest,
    trying.render,
    trying.segments,
):
    main.add_command(command)
