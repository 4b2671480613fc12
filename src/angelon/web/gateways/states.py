"""How the gateways of the store stand now, worked out once for a page."""

from __future__ import annotations

from typing import Any

from flask import g

from angelon.core.breaker import HEALTHY, Health
from angelon.core.sending.gateway_state import GatewayState, gateway_state
from angelon.db.log.sends import ListedSend
from angelon.db.tables import GatewayUseRow
from angelon.db.upkeep import gateway_health, gateway_use
from angelon.web.services import live, session


def health_and_use() -> tuple[dict[int, Health], dict[int, GatewayUseRow]]:
    """How gateways were met last, and what of their limits is used, by their ids; read once a request."""
    if not hasattr(g, "health_and_use"):
        g.health_and_use = gateway_health.load(session().connection()), gateway_use.load(session().connection())
    found: tuple[dict[int, Health], dict[int, GatewayUseRow]] = g.health_and_use
    return found


def gateway_states() -> dict[str, GatewayState]:
    """By the gateway's key."""
    if not hasattr(g, "gateway_states"):
        unwell, used = health_and_use()
        g.gateway_states = {}
        for key, gateway in live().setup.gateways.items():
            id_ = live().gateway_ids[key]
            use = used.get(id_)
            limits = (use.balance, use.waits_for, use.next_at) if use else (None, "", None)
            g.gateway_states[key] = gateway_state(gateway, unwell.get(id_, HEALTHY), *limits, g.now)
    found: dict[str, GatewayState] = g.gateway_states
    return found


def waits_for(listed: ListedSend) -> str:
    """Why a send that is due has not gone out; empty where it has, or is not due, or goes at any moment."""
    send: Any = listed.send
    if send.state not in ("scheduled", "retrying") or send.due_at > g.now:
        return ""
    state = gateway_states().get(listed.gateway)
    return state.waits if state else ""
