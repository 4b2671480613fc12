"""Commands that try things out: deliver, rehearse, render, suggest, count."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import sys
from pathlib import Path
from typing import Any

import click

from angelon.cli.opening import first_store, open_database
from angelon.cli.output import json_too, say
from angelon.core.messages.channels import CHANNELS
from angelon.core.messages.known_fields import GIVEN


def _json_of(answer: Any) -> Any:
    """An answer's body: as JSON, where it is that."""
    try:
        return answer.json()
    except ValueError:
        return answer.text


@click.command()
@click.argument("source")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@json_too
@click.option("--url", help="Where Angelon runs; found automatically where it runs from the same data folder.")
def emit(source: str, file: Path, url: str | None) -> None:
    """Deliver FILE to SOURCE of the running app over HTTP, signed as the source asks.

    FILE is a body, or an .http file: headers, blank line, body.
    """
    import uuid

    import httpx

    from angelon import settings
    from angelon.cli.files import read_request
    from angelon.cli.serving import running_at
    from angelon.core.signatures import sign
    from angelon.db.access.secrets import Vault

    chosen = settings.load()
    url = url or chosen.base_url or running_at(chosen.home)
    if not url:
        raise click.ClickException(
            "Angelon does not run from this data folder. Start it (make demo), or say where it runs with --url."
        )
    request = read_request(file)
    now = dt.datetime.now(dt.UTC)
    with open_database(chosen).reading() as session:
        from angelon.db.setup import live_setup

        live = live_setup.load(session, first_store(session))
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
    say(f"{answer.status_code} {answer.text}", status=answer.status_code, answer=_json_of(answer))
    sys.exit(0 if answer.status_code in (200, 202) else 1)


def _rendered_json(locale: str, mail: Any) -> dict[str, Any]:
    """A made message as JSON: what its channel has."""
    made = {name: value for name, value in dataclasses.asdict(mail).items() if name not in ("locale", "wanted")}
    return {"locale": locale, **{name: value for name, value in made.items() if value not in ("", ())}}


def _rendered_text(rendered: Any) -> str:
    """A made message as text."""
    from angelon.core.messages.sms import RenderedSms

    if isinstance(rendered, RenderedSms):
        count = rendered.count
        pieces = f"{count.segments} segment{'s' if count.segments > 1 else ''}"
        return f"{rendered.text}\n\n{count.encoding}, {pieces}, {count.left} left in the last"
    subject = getattr(rendered, "subject", "")
    return f"Subject: {subject}\n\n{rendered.text}" if subject else str(rendered.as_text())


def _event_of(source: Any, file: Path, at: dt.datetime) -> tuple[Any, Any]:
    """The first event in a file, as a source reads it."""
    from angelon.cli.files import read_request
    from angelon.core.deliveries import read_delivery
    from angelon.core.payload.body import NotReadable
    from angelon.core.planning.inputs import Event

    request = read_request(file)
    try:
        received = read_delivery(source, request.headers, request.body)[0]
    except NotReadable as error:
        raise click.ClickException(str(error.problem)) from None
    return Event("file", received.type, received.name, source.key, received.payload, at), received


@click.command()
@click.argument("route")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--at", help="When it is: an ISO 8601 time; now where left out.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def rehearse(route: str, file: Path, at: str | None, as_json: bool) -> None:
    """What ROUTE would make of the event in FILE. Nothing is stored and nothing sent."""
    from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Facts
    from angelon.core.planning.plan import decide, work_out
    from angelon.db.setup import live_setup, specs

    try:
        now = dt.datetime.fromisoformat(at) if at else dt.datetime.now(dt.UTC)
    except ValueError:
        raise click.ClickException(
            f"--at takes an ISO 8601 time such as 2026-11-03T09:41:00+00:00, not “{at}”."
        ) from None
    now = now.replace(tzinfo=dt.UTC) if now.tzinfo is None else now
    with open_database().reading() as session:
        live = live_setup.load(session, first_store(session))
        row = specs.route(session, live.store_id, route)
        if row is None:
            raise click.ClickException(
                f"There is no route “{route}”. The routes are {', '.join(live.route_ids) or 'none yet'}."
            )
        spec = row.spec
    best: Any = None
    for key in spec.sources or live.setup.sources:
        source = live.setup.sources[key]
        event, _ = _event_of(source, file, now)
        reading, variables = work_out(source, live.setup, event.payload)
        decision = decide(event, reading, variables, ActiveRoute(spec, ALWAYS), live.setup, Facts(), now)
        if best is None or sum(x.verdict == "yes" for x in decision.trace) > sum(
            x.verdict == "yes" for x in best.trace
        ):
            best = decision
    if best is None:
        raise click.ClickException(f"{spec.name} listens to no source yet.")
    click.echo(json.dumps(_decision_json(best), ensure_ascii=False, indent=2) if as_json else _decision_text(best))


def _decision_json(decision: Any) -> dict[str, Any]:
    """A decision as JSON: its trace, and a send for each recipient."""
    sends = [_send_json(send) for send in decision.sends]
    return {
        "route": decision.route,
        "outcome": decision.outcome,
        "reason": decision.reason,
        "trace": [line._asdict() for line in decision.trace],
        "sends": sends,
        "send": sends[0] if sends else None,
    }


def _send_json(send: Any) -> dict[str, Any]:
    from angelon.core.values import show

    order = send.values.get("order", {})
    return {
        "channel": send.channel,
        "recipient": send.recipient,
        "locale": send.locale,
        "message": send.message,
        "gateway": send.gateway,
        "state": send.state,
        "reason": send.reason,
        "due_at": send.due_at.isoformat(),
        "values": {name: show(value, send.locale) for name, value in send.values.items() if name not in GIVEN},
        "order": {name: show(value, send.locale) for name, value in order.items() if value not in (None, [])},
    }


def _decision_text(decision: Any) -> str:
    lines = [
        f"{line.part:8} {line.verdict:8} {line.saw}{'  ' + line.why if line.why else ''}" for line in decision.trace
    ]
    for send in decision.sends:
        when = send.reason or f"due {send.due_at.isoformat()}"
        lines.append(f"{send.state}: {send.recipient or 'nobody'} by {send.channel}, {when}")
    return "\n".join(lines if decision.sends else [*lines, f"{decision.outcome}: {decision.reason}"])


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def suggest(file: Path, as_json: bool) -> None:
    """Which field of the payload in FILE is which part of an order: ranked guesses with reasons. Needs no set-up."""
    from angelon.cli.files import read_request
    from angelon.core.deliveries import cloud_event
    from angelon.core.payload.body import NotReadable, parse_body
    from angelon.core.suggestions import orders_in, sure
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
                    "sure": s is sure(ranked),
                }
                for s in ranked
            ]
            for part, ranked in found.items()
        }
        click.echo(json.dumps(told, ensure_ascii=False, indent=2))
        return
    several = orders_in([payload])
    if several is not None:
        click.echo(f"It holds a list of orders, at {several}. Set that on the source's page, under Connect, More.")
    for part, ranked in found.items():
        first = ranked[0] if ranked else None
        known = "sure" if sure(ranked) else "    "
        click.echo(
            f"{part:12} {known} {first.path:40} {first.score:.2f}  {first.reason}"
            if first
            else f"{part:12} nothing found"
        )


@click.command()
@click.argument("message")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--channel", type=click.Choice(list(CHANNELS)), default="email", show_default=True)
@click.option("--locale", help="The order's own where left out.")
@click.option("--source", help="Which source reads the file; tried one after the other where left out.")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def render(message: str, file: Path, channel: str, locale: str | None, source: str | None, as_json: bool) -> None:
    """MESSAGE as the customer of the event in FILE would get it."""
    from angelon.core.messages.channels import CHANNEL_LABELS, part_for_reader
    from angelon.core.planning.inputs import Facts
    from angelon.core.planning.people import written_for
    from angelon.core.planning.plan import values_for, work_out
    from angelon.core.templates import CantRender
    from angelon.db.setup import live_setup

    with open_database().reading() as session:
        live = live_setup.load(session, first_store(session))
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
            raise click.ClickException(f"{spec.name} has no {CHANNEL_LABELS[channel]} part.")
        written = written_for(variant, reading, Facts(), live.setup)
        compiled = part_for_reader(spec, channel, variant, written, live.setup.store)
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


@click.command()
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
