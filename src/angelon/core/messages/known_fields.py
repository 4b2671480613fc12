"""The fields of `order` and `shop` that a text may use, and what is said of one that is none."""

from __future__ import annotations

from collections.abc import Collection

from rapidfuzz import process

from angelon.core.problems import Problem
from angelon.core.specs.source import READING
from angelon.core.specs.store import Store
from angelon.core.templates import Compiled
from angelon.core.values import Value

ORDER_FIELDS = frozenset(READING) | {"stage", "tax_on_top", "calls", "document"}


SHOP_FIELDS = {
    "name": "the shop's name",
    "email": "where customers write to",
    "phone": "where customers call",
    "website": "the shop's own pages",
    "hours": "when somebody answers",
}
"""What a text may say of the shop itself: field and meaning."""


GIVEN = frozenset({"order", "question", "parcel", "given", "download"})
"""The names in texts that are no variables: the order as read, the message's question about it, the order's parcel, the
row of a table that the message gives out, the page of its files.
"""


class AnyColumn(dict[str, Value]):
    """A row that has every column: what is given out is not known before it is sent."""

    def __contains__(self, column: object) -> bool:
        return True

    def __missing__(self, column: str) -> Value:
        return f"({column})"


SAMPLE_DOWNLOAD: dict[str, Value] = {"link": "https://download.invalid/d/test-files-of-nobody-00000000"}
"""What a text says of the page with its files before it is sent: each send has its own."""
SAMPLE_GIVEN = AnyColumn()
"""What a text says of the row that it gives out, before one is taken."""
SAMPLE_FOLLOW = "https://follow.invalid/f/test-parcels-of-nobody-00000000"
"""Stands for the address of the page where a customer follows parcels, until it is sent: it is the order's own."""
PARCEL_FIELDS = {
    "carrier": "who brings it",
    "number": "its number",
    "status": "its stage, in English",
    "stage": "its stage: label_printed, picked_up, in_transit, out_for_delivery, ready_to_collect, delivered, …",
    "link": "the page where the customer follows it: the shop's own, else the carrier's",
    "expected_on": "the day on which it is expected",
    "delivered_on": "the day on which it was delivered",
    "estimated": "whether that is estimated",
    "late": "whether it is late",
    "items": "what is in it",
}
"""What a text may say of the parcel that an event is about, or else the order's last one."""
SAMPLE_END = "test-question-of-nobody-00000000"
"""Stands for the end of a question's link where nobody is asked, and is as long."""
SAMPLE_QUESTION: dict[str, Value] = {
    "link": f"https://question.invalid/a/{SAMPLE_END}",
    "token": SAMPLE_END,
}
"""What a text says of its question before it is asked: each send brings its own. `.invalid` is nobody's (RFC 2606)."""
QUESTION_FIELDS = {
    "link": "the address of the page where the question is answered",
    "token": "the end of that address, for a chat button whose link begins with a fixed address",
}


def shop_values(store: Store) -> dict[str, str | None]:
    """What is known of a shop, for its texts."""
    ways = {"email": store.support_email, "phone": store.support_phone, "website": store.website, "hours": store.hours}
    return {"name": store.name, **{name: text or None for name, text in ways.items()}}


def unknown_fields(made: Compiled) -> list[Problem]:
    """A problem for each field that no order, or no shop, has, with the closest one."""
    orders = [_unknown(name, "order", "An order", ORDER_FIELDS) for name in sorted(made.order_fields - ORDER_FIELDS)]
    shops = [_unknown(name, "shop", "The shop", SHOP_FIELDS) for name in sorted(made.shop_fields - SHOP_FIELDS.keys())]
    return [*orders, *shops]


def _unknown(name: str, root: str, called: str, known: Collection[str]) -> Problem:
    close = process.extractOne(name, sorted(known), score_cutoff=55)
    hint = f"Did you mean {root}.{close[0]}?" if close else f"The fields are {', '.join(sorted(known))}."
    return Problem("", f"{called} has no field “{name}”.", hint)
