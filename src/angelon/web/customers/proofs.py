"""How a customer without a link shows that an order is theirs: by its number and their email address, phone number or
postcode. Whether there is such an order, nobody is told.
"""

from __future__ import annotations

import hmac
import time

from angelon.core.questions import folded
from angelon.core.values import show, unpack
from angelon.db import orders
from angelon.db.tables import OrderRow
from angelon.web.access.guard import asker
from angelon.web.api.limits import Limits
from angelon.web.services import live, services, session, store_id

by_asker, by_order, by_all = Limits(rate=0.1, burst=10), Limits(rate=0.02, burst=5), Limits(rate=20, burst=100)
"""How often somebody may try, how often an order may be tried, and all together."""
AT_LEAST = 0.15
"""Seconds that an answer takes at the least: as long whether there is such an order or not."""
_PROOFS = ("email", "phone", "address")


def too_often(number: str) -> bool:
    """Counts a try; says whether it is one too many."""
    now = services().clock.now()
    held = [by_asker.spend_by(asker(), now), by_order.spend(hash((live().setup.store.key, number.casefold())), now)]
    held.append(by_all.spend(0, now))
    return any("Retry-After" in one for one in held)


def theirs(number: str, proof: str) -> OrderRow | None:
    """The order of a number whose email address, phone number or postcode is the one given."""
    for row in orders.numbered(session(), store_id(), number):
        read = {part: show(unpack(value)) for part, value in (row.read or {}).items() if part in _PROOFS}
        given, digits = "".join(proof.split()).casefold(), _digits(proof)
        pairs = [(read.get("email", "").casefold(), given), (_digits(read.get("phone", "")), digits)]
        exact = any(one and hmac.compare_digest(one.encode(), other.encode()) for one, other in pairs)
        lines = ["".join(folded(line)) for line in read.get("address", "").splitlines()]
        if exact or (len(given) >= 3 and any(sign.isdigit() for sign in given) and "".join(folded(proof)) in lines):
            return row
    return None


def _digits(text: str) -> str:
    return "".join(sign for sign in text if sign.isdigit())


def wait_since(began: float) -> None:
    """Waits until as much time has passed as every answer takes; `began` is by the monotonic clock."""
    time.sleep(max(AT_LEAST - (time.monotonic() - began), 0))
