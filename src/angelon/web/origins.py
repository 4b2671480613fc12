"""Who asks, and under which name: hosts that the pages answer to, where a form may come from, what proxies are
believed.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from typing import NoReturn
from urllib.parse import urlsplit

from flask import Flask, Response, abort, g, request

from angelon.settings import IPNetwork, Settings

THIS_MACHINE = ("127.0.0.1", "localhost", "::1")
OPEN_TO_ANY_NAME = ("/in/", "/receipts/", "/p/", "/healthz", "/readyz", "/metrics")
"""What is asked by other machines without a cookie; a page that a browser was led to under a foreign name gains nothing
there.
"""


class Proxies:
    """The proxies whose word is believed about who asks."""

    def __init__(self, networks: Sequence[IPNetwork]) -> None:
        self._networks = networks

    def sender(self, peer: str, forwarded: str) -> str:
        """The address of who asks: the peer's, or the last one in X-Forwarded-For that is no trusted proxy's."""
        if not forwarded or not self._trusted(peer):
            return peer
        for address in reversed([part.strip() for part in forwarded.split(",")]):
            if not self._trusted(address):
                return address
        return peer

    def _trusted(self, address: str) -> bool:
        try:
            found = ipaddress.ip_address(address)
        except ValueError:
            return False
        return any(found in network for network in self._networks)


def host_of(text: str) -> str:
    """The bare host of a Host header or an address, in lower case; empty where it is none."""
    try:
        return (urlsplit(text if "//" in text else f"//{text}").hostname or "").lower()
    except ValueError:
        return ""


def refuse(status: int, text: str) -> NoReturn:
    """Ends a request with a sentence. Without the frame of a page: whoever asks is not to see any of it."""
    abort(Response(text, status, mimetype="text/plain"))


def _said_by_shop() -> set[str]:
    """The host of the public address in the shop's settings."""
    row = g.get("store")
    address = row.spec.get("base_url", "") if row is not None else ""
    return {host_of(address)} if address else set()


def install(app: Flask, settings: Settings) -> None:
    """Refuses pages under a foreign host (DNS rebinding), and changes that another site's page asks for."""
    installed = {*THIS_MACHINE, *([host_of(settings.base_url)] if settings.base_url else []), *settings.hosts()}

    @app.before_request
    def check() -> None:
        if request.path.startswith(OPEN_TO_ANY_NAME):
            return
        asked = host_of(request.host)
        known = installed | _said_by_shop()
        if asked not in known:
            refuse(
                421,
                f"These pages do not answer to the name “{asked[:80]}”. Open them as 127.0.0.1 on this machine, or "
                "write the address that you use as “Public address” in "
                "Settings, or set ANGELON_BASE_URL to it.",
            )
        if request.method in ("GET", "HEAD", "OPTIONS"):
            return
        origin = request.headers.get("Origin")
        foreign = origin is not None and (host_of(origin) not in known or origin == "null")
        if foreign or request.headers.get("Sec-Fetch-Site") == "cross-site":
            refuse(403, "Another site's page asked for this change. Open the page here, and do it there.")
