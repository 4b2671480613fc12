"""How a gateway stands and what its sends wait for: the same words on every page and in the API."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal
from typing import NamedTuple

from angelon.core.breaker import HEALTHY, Health
from angelon.core.sending.allowance import MICRO
from angelon.core.specs.gateway import Gateway

REFUSES_ALL = "It refuses nearly everybody"
"""How the reason begins where a gateway refuses one recipient after the other, and is left alone."""
REFUSES_SEVERAL = "It has refused several in a row"
"""The same where that is doubted only."""
_LOGIN = re.compile(r"(401|530|534|535)\b|did not accept the user name")
_CREDIT = re.compile(r"402\b")


class GatewayState(NamedTuple):
    """A shape, a word, and in a sentence what its sends wait for; no sentence where they wait for nothing. `until` is
    when it is tried or goes on (aware), where that is known.
    """

    shape: str
    word: str
    waits: str = ""
    until: dt.datetime | None = None


def gateway_state(
    gateway: Gateway,
    health: Health = HEALTHY,
    balance: int | None = None,
    waits_for: str = "",
    next_at: dt.datetime | None = None,
    now: dt.datetime | None = None,
) -> GatewayState:
    """`balance` is the credit left in millionths, None where not counted; `waits_for` and `next_at` are what its
    limits say.
    """
    name = gateway.name
    if gateway.paused:
        return GatewayState("held", "paused", f"{name} is paused.")
    if gateway.untried:
        return GatewayState("held", "not tested", f"{name} is off until a test has passed.")
    if balance is not None and Decimal(gateway.price) > 0 and balance < int(Decimal(gateway.price) * MICRO):
        return GatewayState("held", "no credit", f"There is no credit left at {name}.")
    if health.opened_at is not None:
        if _CREDIT.match(health.reason):
            return GatewayState("failed", "no credit", f"{name} says that the account has no credit.", health.probe_at)
        if health.reason.startswith(REFUSES_ALL):
            return GatewayState("failed", "refuses nearly all", f"{name} refuses nearly everybody.", health.probe_at)
        if _LOGIN.search(health.reason):
            return GatewayState("failed", "login refused", f"{name} refuses the login.", health.probe_at)
        return GatewayState("failed", "unreachable", f"{name} is unreachable.", health.probe_at)
    if next_at is not None and now is not None and next_at > now and waits_for in ("day", "month"):
        quota = "daily" if waits_for == "day" else "monthly"
        return GatewayState("held", f"{quota} quota used", f"The {quota} quota of {name} is used up.", next_at)
    return GatewayState("sent", "active")
