"""Loads the demo into an empty data folder, and tells it at each start where everything listens."""

from __future__ import annotations

import contextlib
import datetime as dt
import secrets
import shutil
import socket
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import text
from sqlmodel import select

from angelon.core.specs import Gateway
from angelon.core.specs.bundle import read_bundle
from angelon.db import setup
from angelon.db.database import Database
from angelon.db.secrets import Vault
from angelon.db.tables import GatewayRow, RouteRow, SourceRow
from angelon.demo.seed import DAYS, seed
from angelon.settings import Settings
from angelon.standins.box import Box

BUNDLE = Path(__file__).with_name("bundle.yaml")


def start_from_empty(home: Path) -> None:
    """Takes the data folder's databases away; the secret key stays."""
    for pattern in ("angelon.db*", "standins.db*", "run.json"):
        for file in home.glob(pattern):
            file.unlink()
    shutil.rmtree(home / "tmp", ignore_errors=True)


def prepare(database: Database, settings: Settings, port: int, free_port: Callable[[], int]) -> int:
    """Loads the demo where the database is empty; gives the port on which the mailbox shall listen."""
    box = Box(settings.home)
    vault = Vault(settings.key())
    with database.reading() as session:
        empty = not setup.stores(session)
    if empty:
        _load(database, vault, box)
    mail_port = int(box.setting("mail_port", 0))
    if not mail_port or not _free(mail_port):
        mail_port = free_port()
        box.set("mail_port", mail_port)
    with database.writing() as session:
        row = session.exec(select(GatewayRow).where(GatewayRow.key == "mailroom")).first()
        if row is not None and row.spec.get("port") != mail_port and row.spec.get("host") == "127.0.0.1":
            setup.save_plain(session, GatewayRow, row.store_id, Gateway.model_validate({**row.spec, "port": mail_port}), dt.datetime.now(dt.UTC))
    address = str(box.setting("shop_address", ""))
    kept = address.rpartition("/")[2] or "webshop"
    box.set("shop_address", f"http://127.0.0.1:{port}/in/{kept}")
    return mail_port


def _load(database: Database, vault: Vault, box: Box) -> None:
    now = dt.datetime.now(dt.UTC)
    began = now - dt.timedelta(days=DAYS + 2)
    bundle = read_bundle(BUNDLE.read_text())
    with database.writing() as session:
        setup.apply(session, bundle, began)
        for row in session.exec(select(SourceRow)):
            secret = secrets.token_urlsafe(24)
            vault.put(session, "source", row.id or 0, secret, began)
            if row.key == "webshop":
                box.set("shop_secret", secret)
        for route in session.exec(select(RouteRow)):
            route.since = began if route.on else None
        store_id = setup.stores(session)[0].id or 0
    with _unhurried(database), database.reading() as session:
        live = setup.load(session, store_id)
        session.close()
        seed(database, live, vault, now)


@contextlib.contextmanager
def _unhurried(database: Database):  # type: ignore[no-untyped-def]
    """While the demo is loaded, commits need not survive a power cut: it can be loaded again."""
    if not database.sqlite:
        yield
        return
    from sqlalchemy import event

    def relax(connection: object, _: object) -> None:
        connection.execute("PRAGMA synchronous=OFF")  # type: ignore[attr-defined]

    event.listen(database.engine, "connect", relax)
    database.engine.dispose()
    try:
        yield
    finally:
        event.remove(database.engine, "connect", relax)
        database.engine.dispose()
        with database.engine.connect() as connection:
            connection.execute(text("SELECT 1"))


def _free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True
