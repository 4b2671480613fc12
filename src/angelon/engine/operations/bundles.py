"""A whole set-up applied at once: what it changes, what it lacks, and what was left off since it can't work yet."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

from sqlmodel import Session

from angelon.core.messages.blocks import LIBRARY
from angelon.core.planning.readiness import problems_of
from angelon.core.planning.senders import verified_addresses
from angelon.core.shape import compare
from angelon.core.specs import Bundle
from angelon.core.specs.gateway import Sender
from angelon.core.specs.message import FromLibrary, Image
from angelon.db.setup import bundles, changes, specs
from angelon.db.setup.live_setup import LiveSetup, load
from angelon.db.setup.specs import FETCH
from angelon.db.tables import RouteRow, StoreRow
from angelon.engine.asking.addresses import secret_kind
from angelon.engine.installation import Installation
from angelon.engine.unit import MACHINE, Actor


@dataclass(frozen=True, slots=True)
class MissingSecret:
    """A secret that a source or gateway needs and that is not kept here."""

    kind: str
    """source, gateway, look-up or fetch"""
    key: str
    name: str
    what: str
    """What it is, in words."""

    @property
    def variable(self) -> str:
        """The environment's name for it: `ANGELON_SECRET_GATEWAY_TEXT_LINE`."""
        return f"ANGELON_SECRET_{self.kind}_{self.key}".upper().replace("-", "_").replace("/", "_")


@dataclass
class Applied:
    """What came of a bundle."""

    changes: list[str] = field(default_factory=list)
    left_off: list[str] = field(default_factory=list)
    """Routes that the bundle has live and that can't work yet: which, and why."""
    differences: list[str] = field(default_factory=list)
    """Each field that is another than before, a line each: the thing, the field, what it was and what it is."""
    lacking: list[str] = field(default_factory=list)
    """What is named and not there: secrets, files, verified senders, approvals."""


LOOK_UP = "look-up"
Secrets = Mapping[tuple[str, str], str]
"""Secrets by kind (source, gateway, look-up or fetch) and key; a look-up's is `source/name`."""


def from_environment(secrets: Iterable[MissingSecret]) -> dict[tuple[str, str], str]:
    """Those of the secrets that stand in the environment."""
    found = {(one.kind, one.key): os.environ.get(one.variable, "") for one in secrets}
    return {key: text for key, text in found.items() if text}


def missing_secrets(installation: Installation, bundle: Bundle) -> list[MissingSecret]:
    """The secrets that a bundle's sources and gateways need and that are not kept here."""
    with installation.database.reading() as session:
        row = next((one for one in specs.stores(session) if one.key == bundle.store.key), None)
        live = load(session, row.id) if row is not None and row.id else None
        return _missing(session, installation, bundle, live)


class _Tried(Exception):
    """Everything was done and is taken back: it was only to be seen what would change."""


def apply(
    installation: Installation,
    bundle: Bundle,
    actor: Actor = MACHINE,
    secrets: Secrets | None = None,
    dry_run: bool = False,
    only_if: str = "",
) -> Applied:
    """Creates or updates everything in a bundle and publishes it, all or nothing; says what changed and what lacks.
    With `dry_run` it says so, and changes nothing.

    That a sender is verified is not believed: it is where this installation has verified the same address. A route that
    can't work yet is left off. Raises Invalid with what keeps the bundle from being applied at all, and Stale where the
    set-up is not the one any more that `only_if` names (`tag_of`): looked at in the transaction that applies.
    """
    made = Applied()
    with contextlib.suppress(_Tried):
        _applied(installation, bundle, actor, secrets or {}, made, dry_run, only_if)
    if not dry_run:
        installation.setups.forget()
        installation.notifier.notify()
    return made


class Stale(RuntimeError):
    """The set-up was changed by somebody else."""


def tag_of(bundle: Bundle) -> str:
    """What this state of a set-up is told apart by."""
    return hashlib.sha256(json.dumps(bundle.plain(), sort_keys=True, default=str).encode()).hexdigest()[:32]


def _applied(
    installation: Installation,
    bundle: Bundle,
    actor: Actor,
    secrets: Secrets,
    made: Applied,
    dry_run: bool,
    only_if: str,
) -> None:
    """In one transaction. Raises _Tried at its end where nothing is to be kept."""
    now = installation.clock.now()
    with installation.database.writing() as session:
        was = next((row for row in specs.stores(session) if row.key == bundle.store.key), None)
        before = bundles.export(session, was.id) if was is not None and was.id else None
        if only_if and (before is None or tag_of(before) != only_if):
            raise Stale
        made.changes = bundles.apply(session, _as_verified_here(session, bundle), now)
        row: StoreRow = next(one for one in specs.stores(session) if one.key == bundle.store.key)
        store_id = row.id or 0
        live = load(session, store_id)
        for (kind, key), text in secrets.items():
            of, _, name = key.partition("/")
            owner = (live.gateway_ids if kind == "gateway" else live.source_ids)[of]
            installation.vault.put(session, secret_kind(name) if kind == LOOK_UP else kind, owner, text, now)
            made.changes.append(f"{kind} {key}: secret set")
        missing = _missing(session, installation, bundle, live)
        made.lacking = [
            f"{one.kind} {one.key}: {one.what}. Set it on its page, or as {one.variable}." for one in missing
        ]
        made.lacking += _lacking(live)
        made.left_off = _leave_off(session, live, {one.key for one in missing if one.kind == "gateway"})
        off = {line.partition(":")[0] for line in made.left_off}
        made.changes = [line for line in made.changes if line not in {f"route {key}: switched on" for key in off}]
        made.differences = differences(before, bundles.export(session, store_id))
        for line in [*made.changes, *(f"route {line}" for line in made.left_off)]:
            thing, _, what = line.partition(": ")
            kind, _, key = thing.partition(" ")
            changes.add(session, store_id, now, actor.name, f"bundle applied: {what}"[:200], kind, key)
        if dry_run:
            raise _Tried


_KINDS = (("sources", "key"), ("variables", "name"), ("gateways", "key"), ("messages", "key"), ("routes", "key"))
MOST_DIFFERENCES = 500


def differences(was: Bundle | None, now: Bundle) -> list[str]:
    """What differs between two states of a set-up, a line for each field; a thing that is new or gone in one line."""
    found = _fields("store", was.store.plain() if was else {}, now.store.plain()) if was else ["store: new"]
    for part, by in _KINDS:
        kind = part.removesuffix("s")
        old = {getattr(one, by): one.plain() for one in (getattr(was, part) if was else ())}
        new = {getattr(one, by): one.plain() for one in getattr(now, part)}
        for key in dict.fromkeys([*old, *new]):
            if key not in old or key not in new:
                found.append(f"{kind} {key}: {'new' if key not in old else 'gone'}")
            else:
                found += _fields(f"{kind} {key}", old[key], new[key])
    on, off = set(now.live) - set(was.live if was else ()), set(was.live if was else ()) - set(now.live)
    found += [*(f"route {key}: switched on" for key in sorted(on)), *(f"route {key}: off" for key in sorted(off))]
    return found[:MOST_DIFFERENCES]


def _fields(thing: str, was: Any, now: Any) -> list[str]:
    return [
        f"{thing}  {one.path.removeprefix('$.')}: {_short(one.was)} → {_short(one.now)}" for one in compare(was, now)
    ]


def _short(value: Any) -> str:
    if value is None:
        return "nothing"
    text = f"“{value}”" if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
    text = text.replace("\n", "⏎")
    return text if len(text) <= 100 else f"{text[:99]}…"


def _missing(
    session: Session, installation: Installation, bundle: Bundle, live: LiveSetup | None
) -> list[MissingSecret]:
    def kept(kind: str, ids: Mapping[str, int], key: str) -> bool:
        return key in ids and bool(installation.vault.get(session, kind, ids[key], installation.clock.now()))

    source_ids, gateway_ids = (live.source_ids, live.gateway_ids) if live is not None else ({}, {})
    found = [
        MissingSecret("source", source.key, source.name, "no signing secret, so its deliveries are refused")
        for source in bundle.sources
        if source.signing.scheme != "none" and not kept("source", source_ids, source.key)
    ]
    found += [
        MissingSecret(LOOK_UP, f"{source.key}/{one.name}", one.name, "no password or token, so it is not answered")
        for source in bundle.sources
        for one in source.enrichments
        if one.auth.scheme != "none" and not kept(secret_kind(one.name), source_ids, source.key)
    ]
    found += [
        MissingSecret(FETCH, source.key, source.name, "no password or token, so its orders are not fetched")
        for source in bundle.sources
        if source.fetch and source.fetch.auth.scheme != "none" and not kept(FETCH, source_ids, source.key)
    ]
    for gateway in bundle.gateways:
        needs = gateway.auth.scheme != "none" if gateway.kind != "smtp" else bool(gateway.username)
        if needs and not kept("gateway", gateway_ids, gateway.key):
            word = "password" if gateway.kind == "smtp" or gateway.auth.scheme == "basic" else "token"
            found.append(
                MissingSecret("gateway", gateway.key, gateway.name, f"no {word}, so nothing goes out through it")
            )
    return found


def _as_verified_here(session: Session, bundle: Bundle) -> Bundle:
    """The bundle with its senders verified where the same address is here, and nowhere else."""
    row = next((one for one in specs.stores(session) if one.key == bundle.store.key), None)
    live = load(session, row.id) if row is not None and row.id else None
    here = verified_addresses(live.setup.store, live.setup.gateways) if live is not None else frozenset()
    gateways = [
        gateway if gateway.sender is None else gateway.model_copy(update={"sender": _believed(gateway.sender, here)})
        for gateway in bundle.gateways
    ]
    senders = [_believed(sender, here) for sender in bundle.store.senders]
    store = bundle.store.model_copy(update={"senders": senders})
    return bundle.model_copy(update={"gateways": gateways, "store": store})


SomeSender = TypeVar("SomeSender", bound=Sender)


def _believed(sender: SomeSender, here: frozenset[str]) -> SomeSender:
    """A sender, verified where its address is here."""
    return sender.model_copy(update={"verified": sender.address.casefold() in here})


def _lacking(live: LiveSetup) -> list[str]:
    """Files that are named and not in the library, senders that nobody has verified, texts that are not approved."""
    setup = live.setup
    shelves = {file.shelf for file in live.files}
    found = [f"file {name}: not in the library, and used by {user}" for name, user, _ in _missing_files(live)]
    found += [
        f"folder {one.shelf}: empty, and attached by {message.name}"
        for message in setup.messages.values()
        for one in message.attachments
        if isinstance(one, FromLibrary) and one.shelf not in shelves
    ]
    found += [
        f"gateway {gateway.key}: {gateway.sender.address} is not verified. Have a code sent to it on its page"
        for gateway in setup.gateways.values()
        if gateway.sender is not None and not gateway.sender.verified
    ]
    found += [
        f"sender {sender.key}: {sender.address} is not verified. Have a code sent to it on its page"
        for sender in setup.store.senders
        if not sender.verified
    ]
    approved = {(message, locale) for _, message, locale, _ in setup.approvals}
    reviewed = any(gateway.review is not None for gateway in setup.gateways.values() if gateway.kind == "chat")
    found += [
        f"message {message.key}: its chat text in {locale} is not approved by a provider yet"
        for message in setup.messages.values()
        for locale in message.chat
        if reviewed and (message.key, locale) not in approved
    ]
    return list(dict.fromkeys(found))


def _missing_files(live: LiveSetup) -> list[tuple[str, str, str]]:
    """Pictures that mails show and the library does not have: its name, what shows it, and the message's key (empty for
    the letterhead, which all mails have).
    """
    setup = live.setup
    there = {f"{file.shelf}/{file.name}" for file in live.files if file.by == ""}
    shown = [(setup.store.letterhead.logo, "the letterhead", "")]
    shown += [
        (piece.src, message.name, message.key)
        for message in setup.messages.values()
        for mail in message.email.values()
        for _, piece in mail.pieces()
        if isinstance(piece, Image) and piece.src.startswith(LIBRARY)
    ]
    found = [(src.removeprefix(LIBRARY), user, key) for src, user, key in shown if src]
    return list(dict.fromkeys(one for one in found if one[0] not in there))


def _leave_off(session: Session, live: LiveSetup, mute: set[str]) -> list[str]:
    """Switches off what can't work as it stands; says which routes, and why. `mute` are gateways without a secret."""
    found = []
    names = {key: route.name for key, route in live.routes.items()}
    missing = _missing_files(live)
    for active in live.setup.routes:
        route = active.route
        stops = [str(p) for p in problems_of(route, live.setup, names) if p.severity == "error"]
        if route.gateway in mute:
            stops.append(f"{live.setup.gateways[route.gateway].name} has no password or token yet.")
        if route.channel == "email":
            stops += [f"The library has no file {name}." for name, _, key in missing if key in ("", route.send)]
        if stops:
            row = specs.by_key(session, RouteRow, live.store_id, route.key)
            if row is not None:
                specs.switch(session, row, False)
            found.append(f"{route.key}: left off. {stops[0]}")
    return found
