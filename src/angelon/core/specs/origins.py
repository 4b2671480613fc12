"""To whom credentials may be shown: the origins that a gateway, or a look-up, speaks to. Pure."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from angelon.core.specs.gateway import Gateway

_ADDRESS = re.compile(r"https?://[^\s\"\\]+", re.IGNORECASE)
_PORTS = {"http": 80, "https": 443}


def origin(url: str) -> str:
    """Scheme, host and port of an address (RFC 6454, section 4)."""
    parts = urlsplit(url)
    try:
        port = parts.port or _PORTS.get(parts.scheme.lower(), 0)
    except ValueError:  # no number: told where the address is checked
        port = 0
    return f"{parts.scheme}://{parts.hostname or ''}:{port}".lower()


def origins_of(gateway: Gateway) -> frozenset[str]:
    """Everybody whom a gateway's credentials may be shown to: its mail server, and every address in its settings."""
    found = {origin(url) for url in _ADDRESS.findall(gateway.model_dump_json())}
    return frozenset(found | ({f"smtp://{gateway.host}:{gateway.port}".lower()} if gateway.kind == "smtp" else set()))


def strangers(before: Gateway, now: Gateway) -> frozenset[str]:
    """Those whom the credentials were not for: they are asked for anew, since whoever may change an address need not
    know them.
    """
    return origins_of(now) - origins_of(before)


def moved(before: str, now: str) -> bool:
    """Whether somebody else is asked at an address than at the one before."""
    return origin(before) != origin(now)
