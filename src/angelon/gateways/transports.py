"""Which way out a gateway's kind has."""

from __future__ import annotations

from angelon.core.specs.gateway import Gateway
from angelon.gateways.http import HttpTransport
from angelon.gateways.interface import Transport
from angelon.gateways.smtp import SmtpTransport


def transport_for(gateway: Gateway, secret: str = "") -> Transport:
    """A way out through a gateway. `secret` is its password or token."""
    return SmtpTransport(gateway, secret) if gateway.kind == "smtp" else HttpTransport(gateway, secret)
