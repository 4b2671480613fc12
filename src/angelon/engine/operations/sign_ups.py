"""A customer agrees to a channel on a sign-up page: the consent is kept with its words, and their order hears of it."""

from __future__ import annotations

from typing import Any

from angelon.core.planning.permission import for_one_message
from angelon.core.specs.store import SignUp
from angelon.db.people import consents
from angelon.engine.orders.order_events import tell
from angelon.engine.unit import Work

GIVEN = "permission.given"


def give(work: Work, page: SignUp, address_key: str, words: str, order: Any) -> None:
    """Keeps what the owner of an address has agreed to; `order` is a row of the order table that they showed to be
    theirs. The same again makes no second event.
    """
    key = for_one_message(address_key, page.message) if page.message else address_key
    where = f"the sign-up page {page.key}, order {order.number or order.reference}"
    consents.note(work.connection, work.store_id, key, page.channel, True, where, words, "the customer", work.now)
    work.record("signed up", "address", address_key, None, {"page": page.key, "channel": page.channel})
    tell(work, order.id, GIVEN, f"signup:{order.id}:{page.key}:{key}", page.key, "", page.channel)
