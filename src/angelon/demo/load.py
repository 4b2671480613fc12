"""Loads the demo into an empty data folder, and tells it at each start where everything listens."""

from __future__ import annotations

import datetime as dt
import re
import socket
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlmodel import select

from angelon.core.specs import Gateway, Source, Store
from angelon.core.specs.stored import from_stored
from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import specs
from angelon.db.tables import GatewayRow, SourceRow, StoreRow
from angelon.settings import Settings
from angelon.standins.box import Box


@dataclass(frozen=True)
class Ports:
    """Where the stand-ins shall listen."""

    mail: int
    providers: int


def prepare(database: Database, settings: Settings, port: int, free_port: Callable[[], int], size: int = 0) -> Ports:
    """Loads the demo where the database is empty, and makes it as large as `size` sends; gives the ports on which the
    stand-ins shall listen.
    """
    box = Box(settings.home)
    vault = Vault(settings.key())
    with database.reading() as session:
        empty = not specs.stores(session)
    if empty:
        from angelon.demo.filling import fill  # what it needs takes a second to import

        fill(database, settings, vault, box)
        if size:
            _grow(database, size)
    ports = Ports(_port(box, "mail_port", free_port), _port(box, "provider_port", free_port))
    with database.writing() as session:
        now = dt.datetime.now(dt.UTC)
        for row in session.exec(select(GatewayRow)):
            spec = _pointed(row.spec, ports)
            if spec != row.spec:
                specs.save_live(session, GatewayRow, row.store_id, from_stored(Gateway, spec), now)
                kind = spec.get("kind", "")
                token = str(box.setting(f"{'system' if kind == 'call' else kind}_token", ""))
                if token:  # the same stand-in at another port: its token goes along, which no other address would get
                    vault.put(session, "gateway", row.id or 0, token, now)
        for store in session.exec(select(StoreRow)):
            spec = _pointed(store.spec, ports)
            if spec != store.spec:
                specs.save_store(session, store.id or 0, from_stored(Store, spec))
        for source in session.exec(select(SourceRow)):
            spec = _pointed(source.spec, ports)
            if spec != source.spec:
                specs.save_live(session, SourceRow, source.store_id, from_stored(Source, spec), now)
                vault.put(session, specs.FETCH, source.id or 0, str(box.setting("stall_token", "")), now)
    address = str(box.setting("shop_address", ""))
    kept = address.rpartition("/")[2] or "webshop"
    box.set("shop_address", f"http://127.0.0.1:{port}/in/{kept}")
    for provider, gateway in (("sms", "text-line"), ("chat", "harbour-chat")):
        box.set(f"{provider}_receipts", f"http://127.0.0.1:{port}/receipts/{gateway}/{vault.receipts(gateway)}")
    box.engine.dispose()
    return ports


def _grow(database: Database, size: int) -> None:
    """Says how far it is, since it may take minutes."""
    import click

    from angelon.demo.growing import grow
    from angelon.engine.followers import indexing

    def told(done: int, of: int) -> None:
        click.echo(f"{done} of {of} copies of the demo’s month made")

    sends = grow(database, size, told)
    click.echo(f"{sends:,} sends. Taking them into the search …")
    indexing.follow(database, longest=3600)


def _port(box: Box, name: str, free_port: Callable[[], int]) -> int:
    port = int(box.setting(name, 0))
    if not port or not _free(port):
        port = free_port()
        box.set(name, port)
    return port


_OURS = re.compile(r"http://127\.0\.0\.1:\d+/(sms|chat|system|stall|tax)\b")


def _pointed(spec: Any, ports: Ports) -> Any:
    """A gateway's spec with the stand-ins' ports as they are now."""
    if isinstance(spec, dict):
        made = {name: _pointed(value, ports) for name, value in spec.items()}
        return {**made, "port": ports.mail} if made.get("host") == "127.0.0.1" and "port" in made else made
    return _OURS.sub(lambda m: f"http://127.0.0.1:{ports.providers}/{m[1]}", spec) if isinstance(spec, str) else spec


def _free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True
