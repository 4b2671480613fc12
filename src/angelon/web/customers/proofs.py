"""How a customer without a link shows that an order is theirs: by its number and their email address, phone number or
postcode. Whether there is such an order, nobody is told.
"""

from __future__ import annotations

import hashlib
import hmac
import time

from angelon.core.addresses import network_of
from angelon.core.questions import folded
from angelon.core.values import show, unpack
from angelon.db.access import allowances
from angelon.db.access.allowances import Allowance
from angelon.db.log import orders
from angelon.db.tables import OrderRow
from angelon.web.access.guard import asker
from angelon.web.api.limits import Limits
from angelon.web.services import services, session, store_id

by_asker, by_all = Limits(rate=0.1, burst=10), Limits(rate=20, burst=100)
"""How often somebody may try, and all together."""
OF_ORDER, OF_ORDER_FROM_ONE = Allowance(20, 50.0), Allowance(5, 600.0)
"""How often an order may be tried by all together, and from one network, in whichever process: nobody alone can have it
closed to its customer.
"""
AT_LEAST = 0.15
"""Seconds that an answer takes at the least: as long whether there is such an order or not."""
_PROOFS = ("email", "phone", "address")


def too_often(number: str) -> bool:
    """Counts a try; says whether it is one too many."""
    now = services().clock.now()
    if any("Retry-After" in one for one in (by_asker.spend_by(asker(), now), by_all.spend(0, now))):
        return True
    what = f"order:{store_id()}:{hashlib.sha256(number.casefold().encode(errors='replace')).hexdigest()[:32]}"
    with services().database.writing() as writing:
        counted = ((f"{what}:{network_of(asker())}", OF_ORDER_FROM_ONE), (what, OF_ORDER))
        waits = any(allowances.wait(writing, of, allowance, now) for of, allowance in counted)
        for of, allowance in () if waits else counted:
            allowances.spend(writing, of, allowance, now)
    return waits


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
