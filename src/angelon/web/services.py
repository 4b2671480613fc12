"""What the pages work with, made once a process."""

from __future__ import annotations

import os
from dataclasses import dataclass
from typing import Any

from flask import abort, current_app, g
from sqlmodel import Session

from angelon.db import setup
from angelon.db.database import Database
from angelon.db.secrets import Vault
from angelon.db.setup import LiveSetup
from angelon.db.tables import StoreRow
from angelon.engine.clock import Clock
from angelon.engine.intake import Intake
from angelon.engine.setups import Setups
from angelon.engine.wake import Bell
from angelon.engine.writer import GroupCommit
from angelon.settings import Settings, private_folder

PROCESS = "_ANGELON_PROCESS"
"""The environment's word for which start of the program a process belongs to: ours, not a setting."""


@dataclass
class Services:
    settings: Settings
    database: Database
    vault: Vault
    clock: Clock
    setups: Setups
    bell: Bell
    writer: GroupCommit
    intake: Intake
    process: str = ""
    """Which start of the program this is, as `serve` and `demo` name it."""


def make(settings: Settings, database: Database | None = None, clock: Clock | None = None) -> Services:
    database = database or Database(settings.url)
    clock = clock or Clock()
    vault = Vault(settings.key())
    setups = Setups(database)
    private_folder(settings.home)
    bell = Bell(settings.home)
    writer = GroupCommit(database, bell.ring)
    return Services(
        settings,
        database,
        vault,
        clock,
        setups,
        bell,
        writer,
        Intake(database, setups, vault, writer, clock),
        os.environ.get(PROCESS, ""),
    )


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
    """The store in view. The pages show the first; a setup without one has nothing to show yet."""
    if "store" not in g:
        rows = setup.stores(session())
        if not rows:
            abort(404, "There is no store yet. Apply a bundle: angelon apply BUNDLE.")
        g.store = rows[0]
    found: StoreRow = g.store
    return found


def live() -> LiveSetup:
    """The store's set-up as it is live."""
    if "live" not in g:
        row = store()
        services().setups.forget()
        assert row.id is not None
        g.live = services().setups.get(row.id)
    found: LiveSetup = g.live
    return found


def close_session(_: Any = None) -> None:
    held = g.pop("session", None)
    if held is not None:
        held.close()
