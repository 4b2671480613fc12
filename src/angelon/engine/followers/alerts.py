"""Calls for help: looks now and then at how the installation is, and tells whom the shop names of what is wrong.

It mails by the gateways themselves and not by the queue: who tells that nothing is sent any more must not need a
worker. Every process looks when nobody else has, so that a missing one is seen by another.
"""

from __future__ import annotations

import datetime as dt
import secrets
import shutil
import threading
import time
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from html import escape
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import orjson
import structlog
from sqlmodel import Session

from angelon.core import alerts
from angelon.core.alerts import Telling, Trouble
from angelon.core.masking import masked
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.messages.segments import count
from angelon.core.messages.sms import RenderedSms
from angelon.core.reading import drifting
from angelon.core.specs import Gateway
from angelon.core.specs.origins import origin
from angelon.db.access import accounts, allowances
from angelon.db.access.allowances import Allowance
from angelon.db.derived import metrics, shapes, status_words
from angelon.db.log import events as event_queries
from angelon.db.log import fetches, inquiries, sends
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.upkeep import alerts as stored
from angelon.db.upkeep import gateway_health, gateway_use, nights
from angelon.engine.installation import Installation
from angelon.gateways.certificates import days_left
from angelon.gateways.fetching import CantFetch, fetch
from angelon.gateways.interface import Mail, ProviderMessage
from angelon.gateways.transports import transport_for

log = structlog.get_logger()

EVERY = 10.0
"""Seconds between two looks, whichever process has them."""
TURN = "alerts"
ALIVE_FOR = dt.timedelta(seconds=20)
TRIES_OF, LEAST_TRIES, NEARLY_ALL = dt.timedelta(minutes=15), 10, 0.8
"""How far back tries are looked at, how many there have to be, and which share is refused when nearly all are."""
DAY = dt.timedelta(days=1)
CERTIFICATE_DAYS = 14
CERTIFICATES_EVERY = 6 * 3600.0
TELLING = Allowance(1, 600.0)
"""Who tells has it until that is done: a mail server that is slow has nobody else tell the same. Where the process ends
meanwhile, another tells after this.
"""
HEARTBEAT_EVERY = Allowance(1, 55.0)
MOST_CAUSES = 5


class Alarm:
    """Looks, tells, and gives a sign of life. For one thread of a process."""

    def __init__(self, installation: Installation, home: Path, base_url: str = "") -> None:
        self._here, self._home, self._base_url = installation, home, base_url
        self._certificates: dict[str, int] = {}
        self._next_certificates = 0.0

    def run(self, stop: threading.Event) -> None:
        """Until told to stop. Nothing that goes wrong here harms the process."""
        while not stop.wait(EVERY / 3):
            try:
                self.look()
            except Exception as error:
                log.warning("how the installation is could not be looked at", why=type(error).__name__)

    def look(self) -> int:
        """Has a look where it is due and nobody else has it; says how many were told of something."""
        now = self._here.clock.now()
        spec_of = {id_: self._here.setups.get(id_) for id_ in self._here.setups.ids()}
        wanted = {id_: live for id_, live in spec_of.items() if live.setup.store.alerts.on}
        if not wanted or not self._turn(TURN, Allowance(1, EVERY), now):
            return 0
        told = 0
        for store_id, live in wanted.items():
            self._heartbeat(live, now)
            told += self._of_store(store_id, live, now)
        return told

    def _turn(self, what: str, allowance: Allowance, now: dt.datetime) -> bool:
        """Whether this process has the turn: looked at first, so that nothing is written for nothing."""
        with self._here.database.reading() as session:
            if allowances.wait(session, what, allowance, now):
                return False
        with self._here.database.writing() as session:
            if allowances.wait(session, what, allowance, now):
                return False
            allowances.spend(session, what, allowance, now)
        return True

    def _of_store(self, store_id: int, live: LiveSetup, now: dt.datetime) -> int:
        spec, zone = live.setup.store.alerts, ZoneInfo(live.setup.store.timezone)
        self._look_at_certificates(live)
        with self._here.database.reading() as session:
            seen = [one for one in self.troubles(session, live, now) if one.kind not in spec.leave_out]
            before = stored.known(session, store_id)
            after = alerts.looked(before, seen, now)
            last = stored.last_calm(session, store_id)
        if after != before:
            with self._here.database.writing() as session:
                stored.save(session, store_id, after)
        with self._here.database.reading() as session:
            telling = alerts.to_tell(stored.known(session, store_id), spec, now, zone, last)
        if not telling or not self._turn(f"alerts:{store_id}", TELLING, now):
            return 0
        try:
            return self._tell(live, telling, now)
        finally:
            with self._here.database.writing() as session:
                allowances.give_back(session, f"alerts:{store_id}")

    # ---- telling

    def _tell(self, live: LiveSetup, telling: Telling, now: dt.datetime) -> int:
        """Tells each recipient by the first gateway that takes it; what nobody took is told at the next look."""
        how = ", ".join(self.tell(live, telling, now))
        begun = [one.id for one in telling.begun if one.id is not None]
        over = [one.id for one in telling.over if one.id is not None]
        with self._here.database.writing() as session:
            if how:
                stored.told(session, begun, over, now, f"by {how}")
            else:
                stored.not_told(session, begun + over, "no gateway took it; it is tried again")
        return len(begun) + len(over) if how else 0

    def recipients(self, live: LiveSetup) -> list[str]:
        """Who is written to: people with an account of a role that is told, and addresses besides."""
        spec = live.setup.store.alerts
        with self._here.database.reading() as session:
            people = [
                row.email for row in accounts.listed(session) if row.disabled_at is None and row.role in spec.roles
            ]
        return list(dict.fromkeys([*people, *spec.emails]))

    def tell(self, live: LiveSetup, telling: Telling, now: dt.datetime) -> list[str]:
        """Tells everybody who is named: by email, what is urgent by SMS, and systems by events. Gives the names of the
        gateways that took the last of it, empty where none did.
        """
        store = live.setup.store
        base = (store.base_url or self._base_url) + live.root if store.base_url or self._base_url else ""
        text = alerts.text_of(telling, ZoneInfo(store.timezone), base)
        troubled = {one.trouble.subject for one in telling.begun if one.trouble.kind.startswith("gateway_")}
        subject = alerts.subject_of(telling, store.name)
        took = [
            self.write_to(live, self.recipients(live), subject, text, now, troubled),
            self._text_to(live, alerts.sms_of(telling, store.name), now, troubled),
        ]
        for key in store.alerts.calls:
            took.append(self._post(live, key, telling, base, now))
        return list(dict.fromkeys(filter(None, took)))

    def _text_to(self, live: LiveSetup, text: str, now: dt.datetime, troubled: Collection[str]) -> str:
        """As `write_to`, by SMS."""
        took, waiting = "", list(live.setup.store.alerts.phones) if text else []
        for gateway in self._gateways(live, troubled, "sms") if waiting else ():
            said = RenderedSms(text, count(text), live.setup.store.locale)
            made = [ProviderMessage.of(said, to, gateway, said.locale, "") for to in waiting]
            left = self._hand_over(live, gateway, [(one.to_address, one, secrets.token_hex(8)) for one in made], now)
            took = gateway.name if len(left) < len(waiting) else took
            waiting = left
            if not waiting:
                break
        return took

    def _post(self, live: LiveSetup, key: str, telling: Telling, base: str, now: dt.datetime) -> str:
        """Posts each problem to a system as an event; gives the gateway's name where it took one."""
        gateway = live.setup.gateways.get(key)
        if gateway is None or gateway.kind != "call" or gateway.off:
            return ""
        sent = []
        for over, part in ((False, telling.begun), (True, telling.over)):
            for one in part:
                event = alerts.event_of(one, over, live.setup.store.name, base, now)
                call = {"method": "POST", "path": "", "headers": {}, "content_type": "application/cloudevents+json"}
                sent.append((key, ProviderMessage({**call, "body": orjson.dumps(event).decode()}), str(event["id"])))
        return gateway.name if len(self._hand_over(live, gateway, sent, now)) < len(sent) else ""

    def _hand_over(
        self, live: LiveSetup, gateway: Gateway, sent: Sequence[tuple[str, Any, str]], now: dt.datetime
    ) -> list[str]:
        """Hands over messages (to whom, what, under which id); gives to whom it could not."""
        with self._here.database.reading() as session:
            kept = self._here.vault.get(session, "gateway", live.gateway_ids[gateway.key], now)
        transport = transport_for(gateway, kept[0].text if kept else "")
        try:
            return [to for to, what, id_ in sent if transport.deliver(what, id_).kind != "accepted"]
        finally:
            transport.close()

    def write_to(
        self,
        live: LiveSetup,
        to: Sequence[str],
        subject: str,
        text: str,
        now: dt.datetime,
        troubled: Collection[str] = (),
    ) -> str:
        """Mails a text to people by the first gateway that takes it, those in trouble last; gives the name of the one
        that took the last of it, empty where none did.
        """
        took, waiting = "", list(to)
        for gateway in self._gateways(live, troubled, "smtp") if waiting else ():
            sender = gateway.sender.address if gateway.sender is not None else ""
            sent = []
            for address in waiting:
                id_ = f"{secrets.token_hex(8)}@{sender.rpartition('@')[2]}"
                mail = RenderedEmail(subject, f"<pre>{escape(text)}</pre>", text)
                data = build(mail, Envelope(sender, live.setup.store.name, address, "", id_, now))
                sent.append((address, Mail(sender, address, data), id_))
            left = self._hand_over(live, gateway, sent, now)
            took = gateway.name if len(left) < len(waiting) else took
            waiting = left
            if not waiting:
                break
        return took

    def _gateways(self, live: LiveSetup, troubled: Collection[str], kind: str) -> list[Gateway]:
        """By which of a kind it is tried: those that are named, in their order, else all; those in trouble last."""
        every = [one for one in live.setup.gateways.values() if one.kind == kind]
        keys = live.setup.store.alerts.gateways
        named = [one for key in keys for one in every if one.key == key]
        usable = [one for one in named or every if not one.off]
        if kind == "smtp":
            usable = [one for one in usable if one.sender is not None and one.sender.verified]
        return sorted(usable, key=lambda one: one.key in troubled)

    def _heartbeat(self, live: LiveSetup, now: dt.datetime) -> None:
        url = live.setup.store.alerts.heartbeat
        if not url or not self._turn(f"heartbeat:{live.store_id}", HEARTBEAT_EVERY, now):
            return
        try:
            fetch(url, live.setup.store.private_hosts, 100_000, 10)
        except CantFetch as error:
            log.warning("the heartbeat's address did not answer", why=str(error))

    # ---- what is wrong

    def troubles(self, session: Session, live: LiveSetup, now: dt.datetime) -> list[Trouble]:
        """Everything that is wrong now, without contact details: it is mailed, and kept for a while."""
        parts: tuple[Any, ...] = (self._of_gateways, self._of_work, self._of_machine, self._of_asking, self._of_store_s)
        found = (one for part in parts for one in part(session, live, now))
        return [replace(one, what=masked(one.what)) for one in found]

    def _of_gateways(self, session: Session, live: LiveSetup, now: dt.datetime) -> Iterator[Trouble]:
        connection = session.connection()
        unwell, used = gateway_health.load(connection), gateway_use.load(connection)
        tries = Counter[tuple[str, bool]]()
        for (store, of), outcome, _ in metrics.tries(session, now - TRIES_OF):
            if store == live.setup.store.key:
                tries[of, outcome == "permanent"] += 1
        for key, gateway in live.setup.gateways.items():
            id_, href = live.gateway_ids[key], f"/gateways/{key}"
            health, use = unwell.get(id_), used.get(id_)
            if gateway.off:
                continue
            if health is not None and health.opened_at is not None:
                why = health.reason.rstrip(".")
                yield Trouble("gateway_unreachable", key, f"{gateway.name}: {why}.", href)
            refused, all_ = tries[key, True], tries[key, True] + tries[key, False]
            if all_ >= LEAST_TRIES and refused / all_ >= NEARLY_ALL:
                what = f"{gateway.name} has refused {refused} of the last {all_} messages for good."
                yield Trouble("gateway_refuses", key, what, href)
            if use is not None and use.balance is not None and use.balance <= gateway.quota.warn_below * 1_000_000:
                left = f"{use.balance / 1_000_000:.2f} {live.setup.store.currency}"
                yield Trouble("credit", key, f"{gateway.name} has {left} of credit left.", href)
        for where, days in self._certificates.items():
            if days <= CERTIFICATE_DAYS:
                left = "has run out" if days < 0 else f"runs out in {days} day{'' if days == 1 else 's'}"
                yield Trouble("certificate", where, f"The certificate of {where} {left}.")

    def _of_work(self, session: Session, live: LiveSetup, now: dt.datetime) -> Iterator[Trouble]:
        roles = {role for names, at in metrics.workers(session) if now - at <= ALIVE_FOR for role in names.split()}
        missing = [
            word
            for role, word in ((sends.PLANS, "processes events"), (sends.SENDS, "delivers sends"))
            if role not in roles
        ]
        if missing:
            what = f"No running worker {' or '.join(missing)}. Start “angelon serve” or “angelon worker”."
            yield Trouble("worker_missing", "", what, "/readyz/work")
        number, oldest = metrics.waiting_events(session)
        due, most = metrics.oldest_due(session, now), dt.timedelta(minutes=live.setup.store.alerts.backlog_minutes)
        if oldest is not None and now - oldest > most:
            waits = "1 event waits" if number == 1 else f"{number:,} events wait"
            what = f"{waits} to be processed, the oldest for {_minutes(now - oldest)}."
            yield Trouble("backlog", "events", what, "/events")
        if due is not None and now - due > most:
            yield Trouble("backlog", "sends", f"A send is {_minutes(now - due)} late.", "/sends?state=scheduled")

    def _of_machine(self, session: Session, live: LiveSetup, now: dt.datetime) -> Iterator[Trouble]:
        disk = shutil.disk_usage(self._home)
        if disk.free * 100 < disk.total * live.setup.store.alerts.disk_percent:
            what = f"{disk.free / 1e9:.1f} GB of {disk.total / 1e9:.0f} GB are free where the data folder is."
            yield Trouble("disk", "", what)
        for trouble in sends.troubles(session, now):
            yield Trouble("returns_silent", trouble[:100], f"{trouble.rstrip('.')}.", "/guide/deliver")
        failing = nights.problems(session.connection(), now)
        if why := failing.get(nights.EXPORT, "").rstrip("."):
            yield Trouble("export_failing", "", f"The nightly export failed: {why}.", "/guide/commands")
        if why := failing.get(nights.ARCHIVE, "").rstrip("."):
            yield Trouble("archive_failing", "", f"The archive can’t be written to: {why}.", "/guide/production")

    def _of_asking(self, session: Session, live: LiveSetup, now: dt.datetime) -> Iterator[Trouble]:
        for target, health in inquiries.unhealthy(session.connection()).items():
            name, href = name_of(live, target)
            if name:
                what = f"{name} does not answer: {health.reason.rstrip('.')}."
                yield Trouble("handler_failing", target[:200], what, href)
        fetched = {live.source_ids[key]: one for key, one in live.setup.sources.items() if one.is_fetched}
        for row in fetches.of_sources(session.connection(), fetched).values() if fetched else ():
            if row.problem:
                source = fetched[row.source_id]
                what = f"{source.name}: {row.problem.rstrip('.')}."
                yield Trouble("orders_missing", source.key, what, f"/sources/{source.key}/fetch")

    def _of_store_s(self, session: Session, live: LiveSetup, now: dt.datetime) -> Iterator[Trouble]:
        for cause in sends.causes(session, live.store_id, now - DAY)[:MOST_CAUSES]:
            number = f"{cause.number:,} send{' is' if cause.number == 1 else 's are'}"
            word = "held" if cause.state == "held" else "failed"
            number = number if word == "held" else f"{cause.number:,} send{'' if cause.number == 1 else 's'} have"
            what = f"{number} {word}: {cause.reason.rstrip('.')}."
            yield Trouble("held", f"{cause.state}:{cause.reason}"[:200], what, f"/sends?state={cause.state}&span=all")
        ids = list(live.source_ids.values())
        failed = event_queries.problems_count(session, ids, now - DAY)
        if failed:
            what = f"{failed:,} event{' was' if failed == 1 else 's were'} not processed in the last day."
            yield Trouble("not_processed", "", what, "/events")
        known = shapes.of_sources(session, ids)
        for key, source in live.sources.items():
            drifts = drifting(source, known.get(live.source_ids[key], {}))
            if drifts:
                paths = ", ".join(sorted({drift.path for drift in drifts.values()})[:3])
                what = f"{source.name} no longer has {paths}."
                yield Trouble("drift", key, what, f"/sources/{key}/read?open={next(iter(drifts))}")

        for source_id, part, word in status_words.new(session, ids, now):
            one = live.sources.get(live.source_key(source_id))
            if one is not None and word not in one.meanings(part):
                what = f"{one.name} has orders with the {part.replace('_', ' ')} “{word}”, "
                what += "which is not mapped to an event: no route waits for it."
                where = f"/sources/{one.key}/connect#{part}"
                yield Trouble("new_status", f"{one.key}:{part}:{word}"[:200], what, where)

    def _look_at_certificates(self, live: LiveSetup) -> None:
        """Now and then, in a thread: a server that is mute holds up no look."""
        if time.monotonic() < self._next_certificates:
            return
        self._next_certificates = time.monotonic() + CERTIFICATES_EVERY
        asked = [(one.host, one.port, one.tls) for one in live.setup.gateways.values() if one.kind == "smtp"]
        asked = [one for one in asked if one[2] != "none"]
        urls = [live.setup.store.base_url or self._base_url]
        urls += [one.call.url for one in live.setup.gateways.values() if one.kind != "smtp" and one.call is not None]
        for url in {origin(url) for url in urls if url.startswith("https://")}:
            host, _, port = url.removeprefix("https://").partition(":")
            asked.append((host, int(port or 443), "implicit"))

        def look() -> None:
            found = {host: days_left(host, port, tls == "starttls") for host, port, tls in asked}
            self._certificates = {host: days for host, days in found.items() if days is not None}

        threading.Thread(target=look, name="certificates", daemon=True).start()


def tell_person(installation: Installation, home: Path, email: str, what: str) -> None:
    """Mails somebody that something about their account was changed, by the first store that can; in a thread, so that
    no page waits for a mail server.
    """
    text = f"{what}\n\nIf that was not you, tell an owner at once: they can disable your account under Accounts.\n"

    def write() -> None:
        try:
            for store_id in installation.setups.ids():
                live, now = installation.setups.get(store_id), installation.clock.now()
                if Alarm(installation, home).write_to(live, [email], what, text, now):
                    return
        except Exception as error:
            log.warning("a person could not be told of a change to their account", why=type(error).__name__)

    threading.Thread(target=write, name="tell a person", daemon=True).start()


def _minutes(span: dt.timedelta) -> str:
    minutes = int(span.total_seconds() // 60)
    return f"{minutes} minutes" if minutes < 120 else f"{minutes // 60} hours"


def name_of(live: LiveSetup, target: str) -> tuple[str, str]:
    """What a store calls a target that is asked, and where it is set up; nothing where it does not ask it."""
    if target.startswith(inquiries.MINE):
        handler = target.removeprefix(inquiries.MINE)
        known = any(active.route.handler == handler for active in live.setup.routes)
        return (f"The handler “{handler}”", f"/handlers/{handler}") if known else ("", "")
    for key, source in live.sources.items():
        one = next((one for one in source.enrichments if origin(one.url) == target), None)
        if one is not None:
            return (
                f"The look-up “{one.name}” ({target.partition('://')[2].removesuffix(':443')})",
                f"/sources/{key}/ask?open={one.name}",
            )
    return "", ""
