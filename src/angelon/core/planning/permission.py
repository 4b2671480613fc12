"""Whether an address may be written to: what it is suppressed for, and what its owner has consented to. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import NamedTuple

from angelon.core.specs.message import Message

EVERYTHING, OPTIONAL = "", "optional"
"""Scopes of a suppression: nothing at all is sent there, or no optional message; `notice:KEY` is one message."""
NOTICE = "notice:"
ORIGINS = {
    "person": "by hand",
    "api": "by the API",
    "import": "imported",
    "left": "left on their preferences page",
    "one-click": "left by their mail program",
    "stop": "by their answer",
    "bounce": "by what a mail server said",
    "complaint": "by a complaint",
    "event": "by an event of their order",
}
"""Where a suppression comes from."""


def notice(message: str) -> str:
    """The scope of one message, by its key."""
    return NOTICE + message


def scoped(address_key: str, scope: str) -> str:
    """What a suppression is known by among others: the address, and what it is for where that is not everything."""
    return f"{address_key}#{scope}" if scope else address_key


THIS_ORDER = "order:"
"""What the suppression of the order that is looked at is known by, among what is known of one event."""


NOBODY = "nobody:"
"""Before an address key: that a mail server said that nobody is there, among what is known of suppressions."""


def nobody_at(suppressed: Mapping[str, str], address_key: str) -> str:
    """Why nobody can be reached at an address, which is as good as none; empty where that is not known."""
    return suppressed.get(NOBODY + address_key, "")


def of_order(order_id: int | None) -> str:
    """What the suppression of an order is known by: nothing more goes to its customer about it."""
    return f"{THIS_ORDER}{order_id}" if order_id is not None else ""


def refusal(
    suppressed: Mapping[str, str], address_key: str, message: Message | None, order: str = THIS_ORDER
) -> str | None:
    """Why a message must not go to an address, as its suppressions say (by `scoped`); None where they let it. `order`
    is what the order's own suppression is known by; empty for a message that is not to its customer.
    """
    why = suppressed.get(order) if order else None
    if why is not None:
        return f"nothing more is sent about this order: {why}"
    why = suppressed.get(address_key)
    if why is not None or message is None or message.purpose != "optional":
        return why
    for scope in (OPTIONAL, notice(message.key)):
        why = suppressed.get(scoped(address_key, scope))
        if why is not None:
            return why
    return None


class Consent(NamedTuple):
    """What somebody has said last about being written to by a channel. `at` is aware."""

    granted: bool
    at: dt.datetime
    where: str
    """Where they said so: a page, a form, a counter."""
    words: str = ""
    """The words that they agreed to."""

    def label(self) -> str:
        return f"{'agreed' if self.granted else 'withdrew it'} on {self.at:%-d %B %Y}, {self.where}"


def for_one_message(address_key: str, message: str) -> str:
    """What a consent to one message alone is known by among others."""
    return scoped(address_key, notice(message))


Consents = Mapping[tuple[str, str], Consent]
"""By channel and address key: the newest."""
