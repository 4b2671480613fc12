"""The files of an order that stand at addresses, or in a document store that a gateway for HTTP calls describes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from dataclasses import dataclass

from sqlmodel import Session

from angelon.core.calls import authorization
from angelon.core.messages.attachments import File, detect_media_type, file_name, written_out
from angelon.core.messages.call import has_steps
from angelon.core.specs.enrichment import READABLE
from angelon.db.access.secrets import Vault
from angelon.db.setup.live_setup import LiveSetup
from angelon.gateways.fetching import CantFetch, fetch


@dataclass(frozen=True, slots=True)
class Place:
    """Where one file is: its address, the headers by which it is had, and what it is called there."""

    address: str
    headers: dict[str, str]
    name: str


def secret_of(vault: Vault | None, session: Session, live: LiveSetup, through: str, now: dt.datetime) -> str:
    """The password or token of the gateway through which files are fetched; empty where there is none. Raises
    WrongKey.
    """
    if vault is None or through not in live.gateway_ids:
        return ""
    kept = vault.get(session, "gateway", live.gateway_ids[through], now)
    return kept[0].text if kept else ""


def places(live: LiveSetup, text: str, through: str, secret: str) -> Iterator[Place]:
    """The addresses in a text. Raises CantFetch for one that must not be asked."""
    headers: dict[str, str] = {}
    before = ""
    if through:
        gateway = live.setup.gateways.get(through)
        if gateway is None or gateway.kind != "call" or gateway.auth.scheme not in READABLE:
            what = f"Files can’t be fetched through “{through}”."
            raise CantFetch(f"{what} Choose another gateway for HTTP calls, which needs no token request.", True)
        before, headers = gateway.call.url.rstrip("/"), authorization(gateway.auth, secret)
    for url in text.split():
        if before and ("://" in url or has_steps(url)):
            raise CantFetch(f"“{url[:80]}” would be fetched from another address than the one that is set.", True)
        last = url.rpartition("/")[2].partition("?")[0]
        yield Place(f"{before}/{url.lstrip('/')}" if before else url, headers, last)


def fetched(live: LiveSetup, place: Place, name: str = "") -> File:
    """One file. Raises CantFetch."""
    data = fetch(place.address, live.setup.store.private_hosts, headers=place.headers or None)
    return named(name, place.name, data)


def named(name: str, otherwise: str, data: bytes) -> File:
    return File(file_name(name, file_name(otherwise, "file")), detect_media_type(data), data)


def document(text: str, name: str) -> File | None:
    """The document that is written in a text itself; None where there is none."""
    data = written_out(text)
    return named(name, "document", data) if data is not None else None
