"""`angelon doctor`: looks at everything that an installation needs, and says what to do where something is missing."""

from __future__ import annotations

import json
import shutil
import stat
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import click

if TYPE_CHECKING:
    from angelon.db.setup.live_setup import LiveSetup
    from angelon.engine.installation import Installation
    from angelon.settings import Settings

OK, WARN, BAD = "ok", "warning", "problem"
Finding = tuple[str, str, str]
"""How it is; what was looked at and found; what to do."""


@click.command()
@click.option("--offline", is_flag=True, help="Ask no mail server, no provider and no DNS.")
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
def doctor(offline: bool, as_json: bool) -> None:
    """Check settings, data folder, database, processes, gateways and domains, and say what to do.

    Ends with 1 where there is a problem. Nothing is sent and nothing is changed.
    """
    counts = dict.fromkeys((OK, WARN, BAD), 0)
    if as_json:
        found = [
            {"part": title, "state": state, "found": said, "hint": hint}
            for title, findings in _all(offline)
            for state, said, hint in findings
        ]
        click.echo(json.dumps({"findings": found}, ensure_ascii=False, indent=1))
        raise click.exceptions.Exit(any(one["state"] == BAD for one in found))
    for title, findings in _all(offline):
        click.echo(click.style(title, bold=True))
        for state, said, hint in findings:
            counts[state] += 1
            mark = {OK: click.style("ok     ", fg="green"), WARN: click.style("warning", fg="yellow")}.get(state)
            click.echo(f"  {mark or click.style('problem', fg='red')}  {said}")
            if hint:
                click.echo(f"           {hint}")
    click.echo(f"{counts[OK]} ok, {counts[WARN]} warnings, {counts[BAD]} problems.")
    if counts[BAD]:
        raise click.exceptions.Exit(1)


def _all(offline: bool) -> Iterator[tuple[str, list[Finding]]]:
    from angelon import settings

    try:
        chosen = settings.load()
    except settings.BadSettings as error:
        yield "Settings", [(BAD, str(error), "Correct it in the environment or in .env.")]
        return
    yield "Settings", list(_settings(chosen))
    yield "Data folder", list(_folder(chosen))
    if chosen.exports and not (offline and chosen.exports.startswith("s3://")):
        yield "Nightly export", list(_exports(chosen))
    here, findings = _database(chosen)
    yield "Database", findings
    if here is None:
        return
    yield "Processes", list(_processes(here, chosen))
    for store_id in here.setups.ids():
        live = here.setups.get(store_id)
        yield live.setup.store.name, list(_store(here, chosen, live))
        if not offline:
            yield f"{live.setup.store.name}: gateways", list(_gateways(here, live))
            yield f"{live.setup.store.name}: domains", list(_domains(here, chosen, live))
    here.database.close()


def _settings(chosen: Settings) -> Iterator[Finding]:
    if not chosen.base_url:
        yield WARN, "ANGELON_BASE_URL is not set.", "Set it to the address that stores and browsers use."
    elif urlsplit(chosen.base_url).scheme != "https":
        what = f"ANGELON_BASE_URL is {chosen.base_url}, without TLS."
        yield WARN, what, "Put a proxy with a certificate in front, and write https://."
    else:
        yield OK, f"Public address {chosen.base_url}", ""
        if not chosen.trusted_proxies:
            what = "ANGELON_TRUSTED_PROXIES is not set: who asks is taken to be the proxy."
            yield WARN, what, "Set it to the proxy’s address, such as 127.0.0.1."
    if chosen.handlers is not None and not chosen.handlers.is_dir():
        yield BAD, f"There is no folder {chosen.handlers} (ANGELON_HANDLERS).", "Make it, or leave the setting out."
    if chosen.zone is not None:
        yield WARN, f"DNS is not asked: {chosen.zone} is looked into (ANGELON_ZONE).", "Leave it out in production."


def _exports(chosen: Settings) -> Iterator[Finding]:
    import datetime as dt

    from angelon.core.problems import Invalid
    from angelon.engine.exports import snapshot, targets

    shown = chosen.exports.partition("?")[0]
    try:
        target = targets.target_of(chosen.exports)
        written = {store: day for store in target.names("") if (day := snapshot.newest(target, store))}
    except Invalid as error:
        yield BAD, f"The nightly export: {error.problems[0].what}", error.problems[0].hint
        return
    except OSError as error:
        yield BAD, f"The nightly export can’t be read at {shown}: {error}", "Correct ANGELON_EXPORTS, or its rights."
        return
    before = str(dt.datetime.now(dt.UTC).date() - dt.timedelta(days=1))
    for store, day in written.items():
        if day < before:
            yield WARN, f"The nightly export of {store} was last written on {day}.", "The log says why it fails."
    if not written:
        yield (
            WARN,
            f"The nightly export to {shown} was not written yet.",
            f"It is from {chosen.exports_at:%H:%M} UTC on.",
        )
    elif max(written.values()) >= before:
        yield OK, f"The nightly export is in {shown}, the newest of {max(written.values())}", ""


def _folder(chosen: Settings) -> Iterator[Finding]:
    import os

    home = chosen.home
    if not home.is_dir():
        yield BAD, f"There is no folder {home}.", "Start Angelon once, or set ANGELON_HOME."
        return
    if not os.access(home, os.W_OK | os.X_OK):
        yield BAD, f"{home} can’t be written to.", "Run this as the user that Angelon runs as, or change its owner."
    open_ = [path for path in (home, *home.glob("*.db"), home / "secret.key") if path.exists() and _is_open(path)]
    for path in open_:
        yield BAD, f"{path} can be read by others.", f"chmod go-rwx {path}"
    if not open_:
        yield OK, f"{home} is its owner’s alone", ""
    disk = shutil.disk_usage(home)
    free = f"{disk.free / 1e9:.1f} GB of {disk.total / 1e9:.0f} GB are free"
    few = disk.free < 1e9 or disk.free * 20 < disk.total
    yield (WARN, free, "Make room: a full disk stops everything.") if few else (OK, free, "")


def _is_open(path: Any) -> bool:
    return bool(path.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO))


def _database(chosen: Settings) -> tuple[Installation | None, list[Finding]]:
    from angelon.cli.opening import open_installation, stored_database

    if not chosen.database_url and not (chosen.home / "angelon.db").exists():
        return None, [(BAD, "There is no database yet.", "Start Angelon once: angelon serve")]
    try:
        database = stored_database(chosen)
        behind = database.behind()
        database.close()
        if behind:
            hint = "Keep a copy (angelon backup FILE.tar.gz), and type: angelon migrate"
            return None, [(BAD, f"The database is of an older version ({behind}).", hint)]
        here = open_installation()
        with here.database.reading() as session:
            here.vault.check(session)
    except click.ClickException as error:
        return None, [(BAD, error.message, "")]
    except Exception as error:
        return None, [
            (BAD, f"The database can’t be used: {error}", "The guide’s page on production says what it needs.")
        ]
    return here, [(OK, f"{here.database.shown_url}, up to date; credentials can be opened", "")]


def _processes(here: Installation, chosen: Settings) -> Iterator[Finding]:
    from angelon.db.access import accounts
    from angelon.db.derived import metrics
    from angelon.db.log import archive, sends
    from angelon.db.upkeep import nights
    from angelon.engine.followers.alerts import ALIVE_FOR

    now = here.clock.now()
    with here.database.reading() as session:
        alive = {role for names, at in metrics.workers(session) if now - at <= ALIVE_FOR for role in names.split()}
        ahead = max((at for _, at in metrics.workers(session)), default=now)
        troubles, owned = sends.troubles(session, now), accounts.there_are_any(session)
        number, oldest = metrics.waiting_events(session)
        failing = nights.problems(session.connection(), now)
        packs = archive.names(session.connection(), 3)
    for role, what in ((sends.PLANS, "processes events"), (sends.SENDS, "delivers sends")):
        if role in alive:
            yield OK, f"A worker {what}", ""
        else:
            yield BAD, f"No worker {what}.", "Start `angelon serve`, or `angelon worker` beside `angelon web`."
    for name, what in (
        (nights.EXPORT, "The nightly export failed"),
        (nights.ARCHIVE, "The archive can’t be written to"),
    ):
        if why := failing.get(name):
            yield BAD, f"{what}: {why}", "It is tried again each hour."
    yield from _archive(chosen, packs)
    if (ahead - now).total_seconds() > 60:
        yield BAD, "A process was alive in the future: a clock is wrong.", "Set the clocks by NTP on every machine."
    for trouble in troubles:
        yield BAD, trouble, "Free the port, or set ANGELON_RETURNS to another one."
    if number and oldest is not None and (now - oldest).total_seconds() > 60:
        yield WARN, f"{number:,} events wait, the oldest since {oldest:%H:%M on %-d %B} (UTC).", ""
    if not owned:
        yield (
            WARN,
            "There are no accounts: this machine alone may do everything.",
            "Open /sign-in/first, make an owner.",
        )


SAID_ABOVE = ("worker_missing", "returns_silent", "disk", "export_failing", "archive_failing")


def _archive(chosen: Settings, packs: list[str]) -> Iterator[Finding]:
    """Whether the newest files of the archive are where they should be."""
    from angelon.core.problems import Invalid
    from angelon.engine.exports.targets import target_of

    if not chosen.archive:
        if packs:
            what = "What was sent is partly in an archive, and ANGELON_ARCHIVE does not say where that is."
            yield BAD, what, "Set it to the folder, or object store, that it was before."
        return
    shown = chosen.archive.partition("?")[0]
    try:
        target = target_of(chosen.archive)
        gone = [name for name in packs if not target.has(name)]
    except (Invalid, OSError) as error:
        why = str(error.problems[0]) if isinstance(error, Invalid) else str(error)
        yield BAD, f"The archive can’t be read at {shown}: {why}", "Correct ANGELON_ARCHIVE, or its rights."
        return
    if gone:
        yield (
            BAD,
            f"The archive in {shown} has no file {gone[0]}.",
            "Copy the archive there, or correct ANGELON_ARCHIVE.",
        )
    elif packs:
        yield OK, f"The archive is in {shown}", ""


def _store(here: Installation, chosen: Settings, live: LiveSetup) -> Iterator[Finding]:
    from angelon.engine.followers.alerts import Alarm

    store, live_routes = live.setup.store, [one for one in live.setup.routes if not one.route.handler]
    if not (store.base_url or chosen.base_url):
        what = "No public address: messages have no links to unsubscribe, parcels or questions."
        yield WARN, what, "Write it under Settings, Public address."
    if not live_routes:
        yield WARN, "No route is switched on: nothing is sent.", "Switch one on under Routes."
    if not store.alerts.on:
        yield WARN, "Alerts are off: no problem is reported.", "Switch them on under Settings, Alerts."
    with here.database.reading() as session:
        found = Alarm(here, chosen.home, chosen.base_url).troubles(session, live, here.clock.now())
    for one in found:
        if one.kind not in SAID_ABOVE:
            yield WARN, one.what, f"Open {one.href}"
    if not found:
        yield OK, "Nothing needs attention", ""


def _gateways(here: Installation, live: LiveSetup) -> Iterator[Finding]:
    from angelon.gateways.probing import probe

    for key, gateway in live.setup.gateways.items():
        if gateway.off:
            continue
        with here.database.reading() as session:
            kept = here.vault.get(session, "gateway", live.gateway_ids[key], here.clock.now())
        stages = probe(gateway, kept[0].text if kept else "")
        failed = next((stage for stage in stages if stage.ok is False), None)
        if failed is not None:
            yield BAD, f"{gateway.name}: {failed.name}: {failed.said}", f"Open /gateways/{key}, Try the connection."
            continue
        soon = next((stage.said for stage in stages if "runs out soon" in stage.said), "")
        yield (WARN, f"{gateway.name}: {soon}", "") if soon else (OK, f"{gateway.name} answers", "")


def _domains(here: Installation, chosen: Settings, live: LiveSetup) -> Iterator[Finding]:
    from angelon.core.sending.domain import check
    from angelon.engine.sending import signing_keys
    from angelon.gateways.dns import Resolver, records_of

    mail = [one for one in live.setup.gateways.values() if one.channel == "email" and one.sender is not None]
    seen = set()
    for gateway in mail:
        domain = gateway.sender.address.rpartition("@")[2] if gateway.sender is not None else ""
        if not domain or domain in seen:
            continue
        seen.add(domain)
        with here.database.reading() as session:
            key = signing_keys.active(here.vault, session, live.store_id, domain, here.clock.now())
        keys = {key.selector: key.record} if key is not None else {}
        back = gateway.return_path.rpartition("@")[2]
        for one in check(records_of(Resolver(chosen.zone), domain, gateway.host, list(keys)), gateway.host, keys, back):
            state = {"good": OK, "bad": BAD}.get(one.state, WARN)
            yield (
                state,
                f"{domain}, {one.name}: {one.said}",
                f"{one.at}: {one.should_be}" if one.should_be and state != OK else "",
            )
