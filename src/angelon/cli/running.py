"""Commands that run Angelon: all of it, or one process."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING, Any

import click

from angelon.cli.holding import count_together, hold
from angelon.cli.opening import open_database, open_in_use

if TYPE_CHECKING:
    from angelon.settings import Settings


def _ready(family: Any, url: str) -> bool:
    """Whether all of it runs; ends it where somebody else answers."""
    try:
        return bool(family.wait_ready(url))
    except BaseException:
        family.end()
        raise


@click.command()
@click.option("--port", default=8080, show_default=True, type=click.IntRange(0, 65535), help="0 has a free one chosen.")
@click.option("--fresh", is_flag=True, help="Start from empty.")
@click.option(
    "--size",
    default=0,
    type=click.IntRange(0, 5_000_000),
    help="Copy the demo, when it is loaded, until it has so many sends: a million take some minutes and 8 GB.",
)
def demo(port: int, fresh: bool, size: int) -> None:
    """Load the demo, and run web, workers and stand-ins."""
    from angelon import settings
    from angelon.cli.serving import THREADS, ProcessGroup, free_port, import_all, listen

    chosen = settings.load()
    port = port or free_port()
    door = listen("127.0.0.1", port)
    if fresh:
        from angelon.demo.folder import start_from_empty

        start_from_empty(chosen.home)
    settings.private_folder(chosen.home)
    count_together(chosen.home)
    import_all()
    os.environ["ANGELON_DEMO"] = "1"
    if chosen.handlers is None:
        from angelon.demo.folder import HANDLERS

        os.environ["ANGELON_HANDLERS"] = str(HANDLERS)
    if chosen.zone is None:
        from angelon.standins import ZONE

        os.environ["ANGELON_ZONE"] = str(ZONE)
    if not chosen.returns:
        os.environ["ANGELON_RETURNS"] = f"127.0.0.1:{free_port()}"
    open_database(chosen, migrate=True).close()
    family = ProcessGroup(door)
    family.listen()
    url = f"http://127.0.0.1:{port}"
    family.start_web("127.0.0.1", port)  # it starts beside what follows
    try:
        from angelon.demo import load

        click.echo(f"Loading the demo into {chosen.home}, where it is not loaded yet: about half a minute.")
        database = open_database(chosen)
        ports = load.prepare(database, chosen, port, free_port, size)
        database.close()
    except BaseException:
        family.end()
        raise
    _tell_start(chosen, f"web at {url}, stand-ins")
    family.start("stand-ins", "standins", "--mail-port", str(ports.mail), "--provider-port", str(ports.providers))
    family.start_workers(chosen.senders, THREADS, ANGELON_BASE_URL=chosen.base_url or url)
    if _ready(family, url):
        click.echo(f"Angelon is ready: {url}")
        sys.stdout.flush()
        sys.exit(family.run())
    family.end()
    raise click.ClickException(f"It did not start. Is port {port} taken? Choose another: make demo PORT=8081")


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
def serve(host: str, port: int) -> None:
    """Run the web process and the workers.

    At SIGHUP every process is followed by a new one, with the code as it is by then, and no delivery is refused.
    """
    from angelon import settings
    from angelon.cli.serving import THREADS, ProcessGroup, import_all, listen

    chosen = settings.load()
    door = listen(host, port)
    settings.private_folder(chosen.home)
    count_together(chosen.home)
    import_all()
    open_in_use(chosen).close()
    _tell_start(chosen, f"web at http://{host}:{port}")
    family = ProcessGroup(door)
    family.listen()
    family.start_web(host, port)  # first: it takes deliveries, whoever works on them
    family.start_workers(chosen.senders, THREADS)
    if _ready(family, f"http://{host}:{port}"):
        click.echo(f"Angelon is ready: http://{host}:{port}")
        _tell_code(host, port)
        sys.exit(family.run())
    family.end()
    raise click.ClickException("It did not start; the lines above say why.")


def _tell_start(chosen: Settings, web: str) -> None:
    """Which processes are started, over which data."""
    where = "PostgreSQL" if chosen.url.startswith("postgresql") else f"the data folder {chosen.home}"
    senders = "one process that sends" if chosen.senders == 1 else f"{chosen.senders} processes that send"
    click.echo(f"Starting over {where}: {web}, one process that plans, {senders}.")


def _tell_code(host: str, port: int) -> None:
    """Where others than this machine can come to the door, and there is no owner: by which code there is made one."""
    from angelon import settings
    from angelon.cli.opening import open_installation
    from angelon.db.access import accounts
    from angelon.engine.operations.accounts import first_code

    if host in ("127.0.0.1", "localhost", "::1"):
        return
    here = open_installation()
    with here.database.reading() as session:
        owned = accounts.there_are_any(session)
    if not owned:
        code = first_code(here, settings.load().home)
        click.echo(f"There is no owner yet. Make one at http://{host}:{port}/sign-in/first with the code {code}.")
    here.database.close()


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
@click.option("--handle", type=int, hidden=True, help="An open listening socket, passed in by the starting process.")
def web(host: str, port: int, handle: int | None) -> None:
    """Run the web process alone."""
    from angelon import settings
    from angelon.cli.serving import listen, run_web

    chosen = settings.load()
    if handle is None:
        handle = listen(host, port).detach()
    settings.private_folder(chosen.home)
    count_together(chosen.home)
    open_in_use(chosen).close()
    hold(chosen.home)
    _tell_code(host, port)
    run_web(host, port, chosen.home, handle)


@click.command()
@click.option(
    "--threads",
    default=4,
    show_default=True,
    type=click.IntRange(1, 64),
    help="How many sends at once for each gateway.",
)
@click.option(
    "--role",
    type=click.Choice(["plan", "send", "all"]),
    help="Run one process here: it plans events, delivers sends, or does both. Without it: one process that plans, and "
    "as many as ANGELON_SENDERS says that send.",
)
def worker(threads: int, role: str | None) -> None:
    """Run the workers: they plan events and deliver sends."""
    from angelon import settings
    from angelon.db.access.secrets import Vault
    from angelon.engine.archive import Archive
    from angelon.engine.followers.nightly import Wanted
    from angelon.engine.worker import BOTH, Worker

    chosen = settings.load()
    settings.private_folder(chosen.home)
    count_together(chosen.home)
    database = open_in_use(chosen)
    hold(chosen.home)
    if role is None:
        from angelon.cli.serving import ProcessGroup, import_all

        database.close()
        import_all()
        family = ProcessGroup()
        family.listen()
        family.start_workers(chosen.senders, threads)
        sys.exit(family.run())
    roles = BOTH if role == "all" else frozenset({role})
    vault = Vault(chosen.key(), database)
    nightly = (
        Wanted(chosen.exports, chosen.exports_as, chosen.exports_at, chosen.exports_keep) if chosen.exports else None
    )
    made = Worker(
        database,
        chosen.home,
        vault,
        threads=threads,
        base_url=chosen.base_url,
        roles=roles,
        handlers=chosen.handlers,
        returns=chosen.returns_at(),
        inbox=chosen.inbox_at,
        nightly=nightly,
        archive=Archive(chosen.archive) if chosen.archive else None,
    )
    sys.exit(made.run())


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--mail-port", default=2525, show_default=True)
@click.option("--provider-port", default=2580, show_default=True)
def standins(host: str, mail_port: int, provider_port: int) -> None:
    """Run the stand-in mailbox, SMS provider and chat provider alone."""
    from angelon import settings
    from angelon.standins.box import Box
    from angelon.standins.serving import serve as serve_standins

    chosen = settings.load()
    back = chosen.returns_at()
    serve_standins(Box(chosen.home), host, mail_port, provider_port, back if isinstance(back, tuple) else None)
