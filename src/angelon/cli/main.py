"""The commands."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import logging
import os
import sys
from pathlib import Path
from typing import Any

import click
import structlog
from sqlalchemy.exc import DBAPIError

from angelon import settings
from angelon.cli.parents import end_with_starter
from angelon.settings import BadSettings, Settings


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


def _open(chosen: Settings | None = None) -> Any:
    """The database of the settings, up to date."""
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


def _store(session: Any) -> int:
    from angelon.db import setup

    rows = setup.stores(session)
    if not rows:
        raise click.ClickException("There is no store yet. Apply a bundle first: angelon apply BUNDLE.")
    return int(rows[0].id)


# ---- running ------------------------------------------------------------------------------------------------------


def _ready(family: Any, url: str) -> bool:
    """Whether all of it runs; ends it where somebody else answers."""
    try:
        return bool(family.wait_ready(url))
    except BaseException:
        family.end()
        raise


@main.command()
@click.option("--port", default=8080, show_default=True, type=click.IntRange(0, 65535), help="0 has a free one chosen.")
@click.option("--fresh", is_flag=True, help="Start from empty.")
def demo(port: int, fresh: bool) -> None:
    """Load the demo, and run web, worker and stand-ins."""
    from angelon.cli.serving import Family, check_port, free_port
    from angelon.demo import load

    chosen = settings.load()
    port = port or free_port()
    check_port("127.0.0.1", port)
    if fresh:
        load.start_from_empty(chosen.home)
    database = _open(chosen)
    ports = load.prepare(database, chosen, port, free_port)
    database.close()
    family = Family()
    family.listen()
    family.start("stand-ins", "standins", "--mail-port", str(ports.mail), "--provider-port", str(ports.providers))
    url = f"http://127.0.0.1:{port}"
    family.start("worker", "worker", ANGELON_BASE_URL=chosen.base_url or url)
    family.start("web", "web", "--port", str(port))
    if _ready(family, url):
        click.echo(f"Angelon is ready: {url}")
        sys.stdout.flush()
        sys.exit(family.run())
    family.end()
    raise click.ClickException(f"It did not start. Is port {port} taken? Choose another: make demo PORT=8081")


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
def serve(host: str, port: int) -> None:
    """Run the web process and a worker."""
    from angelon.cli.serving import Family, check_port

    check_port(host, port)
    _open().close()
    family = Family()
    family.listen()
    family.start("worker", "worker")
    family.start("web", "web", "--host", host, "--port", str(port))
    if _ready(family, f"http://{host}:{port}"):
        click.echo(f"Angelon is ready: http://{host}:{port}")
        sys.exit(family.run())
    family.end()
    raise click.ClickException("It did not start; the lines above say why.")


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
def web(host: str, port: int) -> None:
    """Run the web process alone."""
    from angelon.cli.serving import check_port, run_web

    chosen = settings.load()
    check_port(host, port)
    _open(chosen).close()
    run_web(host, port, chosen.home)


@main.command()
@click.option(
    "--threads",
    default=4,
    show_default=True,
    type=click.IntRange(1, 64),
    help="How many sends at once for each gateway.",
)
def worker(threads: int) -> None:
    """Run a worker alone."""
    from angelon.db.secrets import Vault
    from angelon.engine.worker import Worker

    chosen = settings.load()
    sys.exit(Worker(_open(chosen), chosen.home, Vault(chosen.key()), threads=threads, base_url=chosen.base_url).run())


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--mail-port", default=2525, show_default=True)
@click.option("--provider-port", default=2580, show_default=True)
def standins(host: str, mail_port: int, provider_port: int) -> None:
    """Run the stand-in mailbox, SMS provider and chat provider alone."""
    from angelon.standins.box import Box
    from angelon.standins.serving import serve as serve_standins

    serve_standins(Box(settings.load().home), host, mail_port, provider_port)


# ---- set-up -------------------------------------------------------------------------------------------------------


@main.command()
@click.argument("bundle", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def apply(bundle: Path) -> None:
    """Create or update everything in BUNDLE; nothing changes if any part is invalid."""
    from angelon.core.specs.bundle import read_bundle
    from angelon.db import setup

    made = read_bundle(bundle.read_text())
    with _open().writing() as session:
        changes = setup.apply(session, made, dt.datetime.now(dt.UTC))
    for line in changes or ["nothing changed"]:
        click.echo(line)


@main.command()
def export() -> None:
    """Print the store's set-up as a bundle."""
    from angelon.core.specs.bundle import write_bundle
    from angelon.db import setup

    with _open().reading() as session:
        click.echo(write_bundle(setup.export(session, _store(session))), nl=False)


# ---- trying out ---------------------------------------------------------------------------------------------------


@main.command()
@click.argument("source")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--url", help="Where Angelon runs; found by itself where it runs from the same data folder.")
def emit(source: str, file: Path, url: str | None) -> None:
    """Deliver FILE to SOURCE of the running app over HTTP, signed as the source asks.

    FILE is a body, or an .http file: headers, blank line, body.
    """
    import uuid

    import httpx

    from angelon.cli.files import read_request
    from angelon.cli.serving import running_at
    from angelon.core.signatures import sign
    from angelon.db.secrets import Vault

    chosen = settings.load()
    url = url or chosen.base_url or running_at(chosen.home)
    if not url:
        raise click.ClickException(
            "Angelon does not run from this data folder. Start it (make demo), or say where it runs with --url."
        )
    request = read_request(file)
    now = dt.datetime.now(dt.UTC)
    with _open(chosen).reading() as session:
        from angelon.db import setup

        live = setup.load(session, _store(session))
        if source not in live.setup.sources:
            raise click.ClickException(
                f"There is no source “{source}”. The sources are {', '.join(live.setup.sources) or 'none yet'}."
            )
        spec = live.setup.sources[source]
        secrets = Vault(chosen.key()).get(session, "source", live.source_ids[source], now)
    headers = dict(request.headers)
    if spec.signing.scheme != "none":
        if not secrets:
            raise click.ClickException(f"{spec.name} has no signing secret yet. Make one on its page.")
        for name in (spec.signing.header, spec.signing.timestamp_header):
            headers.pop(name.lower(), None)
        delivery_id = headers.get("webhook-id") or f"msg_{uuid.uuid4().hex}"
        headers |= sign(spec.signing, secrets[0].text, request.body, delivery_id, now)
    try:
        answer = httpx.post(f"{url.rstrip('/')}/in/{source}", content=request.body, headers=headers, timeout=30)
    except httpx.HTTPError as error:
        raise click.ClickException(f"Nobody answers at {url}: {error}") from None
    click.echo(f"{answer.status_code} {answer.text}")
    sys.exit(0 if answer.status_code in (200, 202) else 1)


def _rendered_json(locale: str, mail: Any) -> dict[str, Any]:
    """A made message as JSON: what its channel has."""
    made = {name: value for name, value in dataclasses.asdict(mail).items() if name not in ("locale", "wanted")}
    return {"locale": locale, **{name: value for name, value in made.items() if value not in ("", ())}}


def _rendered_text(mail: Any) -> str:
    from angelon.core.messages.chat import RenderedChat
    from angelon.core.messages.sms import RenderedSms

    if isinstance(mail, RenderedSms):
        return (
            f"{mail.text}\n\n{mail.count.encoding}, {mail.count.segments} "
            f"segment{'s' if mail.count.segments > 1 else ''}, {mail.count.left} left in the last"
        )
    if isinstance(mail, RenderedChat):
        return "\n".join(
            [
                *([mail.header["text"]] if mail.header.get("text") else []),
                mail.text,
                *([mail.footer] if mail.footer else []),
                *(f"[{b['text']}]" for b in mail.buttons),
            ]
        )
    return f"Subject: {mail.subject}\n\n{mail.text}"


def _event_of(source: Any, file: Path, at: dt.datetime) -> tuple[Any, Any]:
    """The first event in a file, as a source reads it."""
    from angelon.cli.files import read_request
    from angelon.core.deliveries import read_delivery
    from angelon.core.payload.body import NotReadable
    from angelon.core.planning.given import Event

    request = read_request(file)
    try:
        received = read_delivery(source, request.headers, request.body)[0]
    except NotReadable as error:
        raise click.ClickException(str(error.problem)) from None
    return Event("file", received.type, received.name, source.key, received.payload, at), received


@main.command()
@click.argument("route")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--at", help="When it is: an ISO 8601 time; now where left out.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def rehearse(route: str, file: Path, at: str | None, as_json: bool) -> None:
    """What ROUTE would make of the event in FILE. Nothing is stored and nothing sent."""
    from angelon.core.planning.given import ActiveRoute, Facts
    from angelon.core.planning.plan import decide, work_out
    from angelon.core.specs import Route
    from angelon.core.values import show
    from angelon.db import setup
    from angelon.db.tables import RouteRow

    try:
        now = dt.datetime.fromisoformat(at) if at else dt.datetime.now(dt.UTC)
    except ValueError:
        raise click.ClickException(
            f"--at takes an ISO 8601 time such as 2026-11-03T09:41:00+00:00, not “{at}”."
        ) from None
    now = now.replace(tzinfo=dt.UTC) if now.tzinfo is None else now
    with _open().reading() as session:
        live = setup.load(session, _store(session))
        row = setup.by_key(session, RouteRow, live.store_id, route)
        if row is None:
            raise click.ClickException(
                f"There is no route “{route}”. The routes are {', '.join(live.route_ids) or 'none yet'}."
            )
        spec = Route.model_validate(setup.current_spec(session, row))
    best: Any = None
    for key in spec.sources or live.setup.sources:
        source = live.setup.sources[key]
        event, _ = _event_of(source, file, now)
        reading, variables = work_out(source, live.setup, event.payload)
        decision = decide(event, reading, variables, ActiveRoute(spec, now), live.setup, Facts(), now)
        if best is None or sum(x.verdict == "yes" for x in decision.trace) > sum(
            x.verdict == "yes" for x in best.trace
        ):
            best = decision
    if best is None:
        raise click.ClickException(f"{spec.name} listens to no source yet.")
    if as_json:
        made: dict[str, Any] = {
            "route": best.route,
            "outcome": best.outcome,
            "reason": best.reason,
            "trace": [line.as_dict() for line in best.trace],
            "sends": [
                {
                    "channel": send.channel,
                    "recipient": send.recipient,
                    "locale": send.locale,
                    "message": send.message,
                    "gateway": send.gateway,
                    "state": send.state,
                    "reason": send.reason,
                    "due_at": send.due_at.isoformat(),
                    "values": {k: show(v, send.locale) for k, v in send.values.items() if k != "order"},
                    "order": {
                        k: show(v, send.locale) for k, v in send.values.get("order", {}).items() if v not in (None, [])
                    },
                }
                for send in best.sends
            ],
        }
        made["send"] = made["sends"][0] if made["sends"] else None
        click.echo(json.dumps(made, ensure_ascii=False, indent=2))
    else:
        for line in best.trace:
            click.echo(f"{line.part:8} {line.verdict:8} {line.saw}{'  ' + line.why if line.why else ''}")
        for send in best.sends:
            click.echo(
                f"{send.state}: {send.recipient or 'nobody'} by {send.channel}, "
                + (f"due {send.due_at.isoformat()}" if not send.reason else send.reason)
            )
        if not best.sends:
            click.echo(f"{best.outcome}: {best.reason}")


@main.command()
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
    from angelon.db import checks

    with _open().reading() as session:
        kept = (
            []
            if bundle and files
            else [Check.model_validate(row.spec) for row in checks.all_of(session, _store(session))]
        )
        found = read_checks(files) if files else kept
        made = setup_of(bundle) if bundle else setup_of(None, session, _store(session))
        routes = routes_of(bundle, None if bundle else session, 0 if bundle else _store(session))
    if save:
        from angelon.cli.checking import write_checks

        write_checks(save, kept)
        click.echo(f"{len(kept)} checks written to {save}")
        return
    red = 0
    for one in found:
        outcome = run(one, routes, made)
        red += not outcome.green
        click.echo(f"{'green' if outcome.green else 'RED  '} {one.name}")
        for line in outcome.differences:
            click.echo(f"      {line}")
    click.echo(
        f"{len(found) - red} green, {red} red" if found else "There is no check yet. Keep one on a route's page."
    )
    sys.exit(1 if red else 0)


@main.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def suggest(file: Path, as_json: bool) -> None:
    """Which field of the payload in FILE is which part of an order: ranked guesses with reasons. Needs no set-up."""
    from angelon.cli.files import read_request
    from angelon.core.deliveries import cloud_event
    from angelon.core.payload.body import NotReadable, parse_body
    from angelon.core.suggestions import suggest as guess

    request = read_request(file)
    try:
        payload = cloud_event(request.headers, parse_body(request.body, request.headers.get("content-type")))
    except NotReadable as error:
        raise click.ClickException(str(error.problem)) from None
    found = guess([payload])
    if as_json:
        told = {
            part: [
                {
                    "path": s.path,
                    "steps": [step.model_dump() for step in s.recipe.steps],
                    "value": s.value,
                    "score": s.score,
                    "reason": s.reason,
                }
                for s in ranked
            ]
            for part, ranked in found.items()
        }
        click.echo(json.dumps(told, ensure_ascii=False, indent=2))
        return
    for part, ranked in found.items():
        first = ranked[0] if ranked else None
        click.echo(
            f"{part:12} {first.path:40} {first.score:.2f}  {first.reason}" if first else f"{part:12} nothing found"
        )


@main.command()
@click.argument("message")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--channel", type=click.Choice(["email", "sms", "chat"]), default="email", show_default=True)
@click.option("--locale", help="The order's own where left out.")
@click.option("--source", help="Which source reads the file; tried one after the other where left out.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def render(message: str, file: Path, channel: str, locale: str | None, source: str | None, as_json: bool) -> None:
    """MESSAGE as the customer of the event in FILE would get it."""
    from angelon.core.messages.parts import compiled_part
    from angelon.core.messages.templates import CantRender
    from angelon.core.planning.plan import values_for, work_out
    from angelon.core.planning.sentence import CALLED
    from angelon.db import setup

    with _open().reading() as session:
        live = setup.load(session, _store(session))
    spec = live.setup.messages.get(message)
    if spec is None:
        raise click.ClickException(
            f"There is no published message “{message}”. There are {', '.join(live.setup.messages) or 'none yet'}."
        )
    chosen = (
        [live.setup.sources[source]] if source and source in live.setup.sources else list(live.setup.sources.values())
    )
    problems: list[Any] = []
    for candidate in chosen:
        try:
            event, _ = _event_of(candidate, file, dt.datetime.now(dt.UTC))
        except click.ClickException:
            if len(chosen) == 1:
                raise
            continue
        reading, variables = work_out(candidate, live.setup, event.payload)
        variant = spec.locale_for(channel, locale or reading.text("language"))
        if variant is None:
            raise click.ClickException(f"{spec.name} has no {CALLED[channel]} part.")
        compiled = compiled_part(spec, channel, variant, live.setup.store)
        values, missing = values_for(compiled.names, reading, variables)
        if missing:
            problems = problems if problems and len(problems) <= len(missing) else missing
            continue
        try:
            mail = compiled.render(values)
        except CantRender as error:
            raise click.ClickException(str(error.problem)) from None
        click.echo(
            json.dumps(_rendered_json(variant, mail), ensure_ascii=False, indent=2) if as_json else _rendered_text(mail)
        )
        return
    raise click.ClickException("It can't be filled with this event.\n" + "\n".join(f"  {p}" for p in problems))


@main.command()
@click.argument("text")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def segments(text: str, as_json: bool) -> None:
    """How many SMS segments TEXT takes, in which encoding, and how much room is left in the last."""
    from angelon.core.messages.segments import count

    made = count(text)
    if as_json:
        forced = [{"character": c, "instead": other} for c, other in made.forced_by]
        click.echo(
            json.dumps(
                {
                    "encoding": made.encoding,
                    "segments": made.segments,
                    "units": made.units,
                    "left": made.left,
                    "forced_by": forced,
                },
                ensure_ascii=False,
            )
        )
        return
    click.echo(
        f"{made.encoding}: {made.segments} segment{'' if made.segments == 1 else 's'}, {made.units} units, "
        f"{made.left} left"
    )
    for character, other in made.forced_by:
        click.echo(f"  “{character}” makes it UCS-2" + (f"; “{other}” would not" if other else ""))
