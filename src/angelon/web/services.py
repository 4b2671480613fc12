"""What the pages work with: made once a process, and what a request holds of it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from flask import abort, current_app, flash, g, redirect, request, url_for
from sqlmodel import Session

from angelon.core import event_types
from angelon.core.problems import Invalid, NotFound
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import specs
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.setup.specs import StoredMessage, StoredRoute
from angelon.db.tables import StoreRow
from angelon.engine.archive import Archive
from angelon.engine.arrivals.intake import Intake
from angelon.engine.arrivals.writer import GroupCommit
from angelon.engine.clock import Clock
from angelon.engine.handlers.asking import AskNow
from angelon.engine.handlers.runner import Handlers
from angelon.engine.installation import Installation
from angelon.engine.notifications import PLANNING, Notifier
from angelon.engine.postgresql_notices import notice_sender
from angelon.engine.setups import Setups
from angelon.engine.unit import MACHINE, Actor, Work, unit
from angelon.settings import Settings, private_folder
from angelon.web import stores

PROCESS = "_ANGELON_PROCESS"
"""The environment's word for which start of the program a process belongs to: ours, not a setting."""


@dataclass
class Services:
    settings: Settings
    installation: Installation
    writer: GroupCommit
    intake: Intake
    handlers: Handlers | None = None
    """The shop's own functions, for rehearsals; None where no folder is set."""
    archive: Archive = field(default_factory=lambda: Archive(""))
    """Where what was sent is after some days."""
    process: str = ""
    """Which start of the program this is, as `serve` and `demo` name it."""

    @property
    def database(self) -> Database:
        return self.installation.database

    @property
    def vault(self) -> Vault:
        return self.installation.vault

    @property
    def clock(self) -> Clock:
        return self.installation.clock

    @property
    def setups(self) -> Setups:
        return self.installation.setups

    @property
    def notifier(self) -> Notifier:
        return self.installation.notifier


def make(settings: Settings, database: Database | None = None, clock: Clock | None = None) -> Services:
    database = database or Database(settings.url)
    private_folder(settings.home)
    own = Handlers(settings.handlers) if settings.handlers is not None else None
    setups = Setups(database, asks=AskNow(own) if own is not None else None)
    installation = Installation(
        database,
        setups,
        Vault(settings.key(), database),
        clock or Clock(),
        Notifier(settings.home, notice_sender(database)),
    )
    writer = GroupCommit(database, lambda: installation.notifier.notify(PLANNING))
    intake = Intake(database, installation.setups, installation.vault, writer, installation.clock)
    return Services(settings, installation, writer, intake, own, Archive(settings.archive), os.environ.get(PROCESS, ""))


def services() -> Services:
    found: Services = current_app.extensions["angelon"]
    return found


def session() -> Session:
    """The request's session for reading."""
    if "session" not in g:
        g.session = Session(services().database.engine, expire_on_commit=False)
    found: Session = g.session
    return found


def store() -> StoreRow:
    """The store in view (`stores.in_view`). An installation without one has nothing to show yet."""
    if "store" not in g:
        rows = specs.stores(session())
        if not rows:
            abort(redirect(url_for("start.show")))
        g.store = stores.in_view(rows) or abort(404, "There is no store at this address.")
    found: StoreRow = g.store
    return found


def store_id() -> int:
    return store().id or 0


def live() -> LiveSetup:
    """The store's set-up as it is live."""
    if "live" not in g:
        services().setups.forget()
        g.live = services().setups.get(store_id())
    found: LiveSetup = g.live
    return found


def routes() -> list[StoredRoute]:
    """Every route of the store, as it is live and as it is drafted; read once a request."""
    if "routes" not in g:
        g.routes = specs.routes(session(), store_id())
    found: list[StoredRoute] = g.routes
    return found


def mapped_variables() -> set[str]:
    """The variables that a source maps."""
    return {name for source in live().setup.sources.values() for name in source.recipes}


def kinds_of_events() -> dict[str, str]:
    """Every kind of event with what people call it: those that are known to all, then the store's own."""
    own = {type_ for source in live().setup.sources.values() for type_ in source.event_types()}
    return event_types.LABELS | {type_: event_types.label(type_) for type_ in sorted(own - event_types.LABELS.keys())}


def messages() -> list[StoredMessage]:
    """Every message of the store, as it is live and as it is drafted; read once a request."""
    if "messages" not in g:
        g.messages = specs.messages(session(), store_id())
    found: list[StoredMessage] = g.messages
    return found


def names() -> dict[str, dict[str, str]]:
    """What sources, messages, gateways and routes are called, by key. Drafts count."""
    setup = live().setup
    return {
        "sources": {key: source.name for key, source in live().sources.items()},
        "messages": {row.key: row.spec.name for row in messages()},
        "gateways": {key: gateway.name for key, gateway in setup.gateways.items()},
        "routes": {row.key: row.spec.name for row in routes()},
    }


def public_address() -> str:
    """Where this installation is reached from outside, without a slash at its end: as the shop says, else as it is
    installed, else as this page was asked for.
    """
    said = live().setup.store.base_url if g.get("store") else ""
    return said or services().settings.base_url or request.host_url.rstrip("/")


def actor() -> Actor:
    """Who makes the changes of this request: a token's owner, else whoever is at this machine."""
    found: Actor = g.get("actor", MACHINE)
    return found


@contextmanager
def work() -> Iterator[Work]:
    """A unit of work on the store in view. What is read after it is read anew."""
    with unit(services().installation, store_id(), actor()) as made:
        yield made
    read_anew()


@contextmanager
def work_or_back(back: str, refused: str = "") -> Iterator[Work]:
    """A unit of work, as `or_back`."""
    with or_back(back, refused), work() as made:
        yield made


@contextmanager
def or_back(back: str, refused: str = "") -> Iterator[None]:
    """Where what is done within is refused, the page goes to `back` and says there what was wrong and what to do.

    What is not there, and what somebody else changed meanwhile, have pages of their own.
    """
    try:
        yield
    except NotFound:
        raise
    except Invalid as error:
        if error.is_conflict:
            raise
        told = f"{error.problems[0].what} {error.problems[0].hint}".strip()
        flash(f"{refused}: {told}" if refused else told, "bad")
        abort(redirect(back))


def read_anew() -> None:
    """Forgets what this request has read, since something was changed."""
    held = g.pop("session", None)
    if held is not None:
        held.close()
    for name in ("live", "store", "routes", "messages"):
        g.pop(name, None)


def close_session(_: object = None) -> None:
    held = g.pop("session", None)
    if held is not None:
        held.close()
