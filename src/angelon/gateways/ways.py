"""Which way out a gateway's kind has."""

from __future__ import annotations

from angelon.core.specs.gateway import Gateway
from angelon.gateways.http import HttpWay
from angelon.gateways.interface import Way
from angelon.gateways.smtp import SmtpWay


def way_for(gateway: Gateway, secret: str = "") -> Way:
    """A way out through a gateway. `secret` is its password or token."""
    return SmtpWay(gateway, secret) if gateway.kind == "smtp" else HttpWay(gateway, secret)
