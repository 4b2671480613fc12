"""What can happen to an order, and where on its line each of these stands."""

from __future__ import annotations

import re

LINE: tuple[tuple[str, str], ...] = (
    ("order.created", "created"),
    ("order.paid", "paid"),
    ("order.packed", "packed"),
    ("parcel.label_printed", "label printed"),
    ("parcel.picked_up", "picked up"),
    ("parcel.in_transit", "in transit"),
    ("parcel.out_for_delivery", "out for delivery"),
    ("parcel.delivered", "delivered"),
)
"""The stops of an order's life, in order."""

STOPS: dict[str, int] = {type_: number for number, (type_, _) in enumerate(LINE)}
"""Which stop of the line an event type is, from 0."""

SIDINGS: tuple[tuple[str, str, float], ...] = (
    ("payment.failed", "payment failed", 0),
    ("order.cancelled", "cancelled", 1.35),
    ("return.received", "return", 5),
    ("payment.refunded", "refund", 6),
)
"""What leaves the line: type, label, and the stop after which it usually leaves."""

OTHERS: tuple[tuple[str, str], ...] = (
    ("order.updated", "order updated"),
    ("order.status_changed", "status changed"),
    ("payment.status_changed", "payment status changed"),
    ("fulfilment.status_changed", "fulfilment status changed"),
    ("return.status_changed", "return status changed"),
    ("payment.partly_paid", "paid in part"),
    ("payment.partly_refunded", "refunded in part"),
    ("fulfilment.partly_shipped", "shipped in part"),
    ("fulfilment.partly_delivered", "delivered in part"),
    ("return.requested", "return requested"),
    ("return.partly_received", "returned in part"),
    ("order.ready_to_collect", "ready to collect"),
    ("parcel.added", "parcel added"),
    ("parcel.ready_to_collect", "parcel ready to collect"),
    ("parcel.failed", "delivery failed"),
    ("parcel.returned", "parcel going back"),
    ("parcel.not_delivered", "parcel not delivered after all"),
    ("parcel.late", "parcel late"),
    ("parcel.lost", "no update of a parcel"),
    ("order.shipped", "first parcel picked up"),
    ("order.delivered", "all parcels delivered"),
    ("feedback.negative", "negative feedback"),
    ("answer.received", "the customer answered"),
    ("answer.late", "an answer too late"),
    ("question.expired", "no answer in time"),
    ("question.not_asked", "a question could not be asked"),
    ("permission.given", "the customer signed up for a channel"),
    ("call.answered", "a call was answered"),
    ("document.requested", "an invoice was asked for"),
    ("document.made", "an invoice or credit note was made"),
    ("document.held", "an invoice could not be made"),
    ("send.failed", "a send failed for good"),
    ("send.held", "a send is held"),
)

CHANGES: dict[str, str] = {
    "status": "order.status_changed",
    "payment_status": "payment.status_changed",
    "fulfilment_status": "fulfilment.status_changed",
    "return_status": "return.status_changed",
}
"""The statuses that an order has side by side, and the event that a change of each makes."""

ANSWERED_CALL = "call.answered"

OURS: frozenset[str] = frozenset({"send.failed", "send.held"})
"""What happens here, not in the store: events about sends."""

LABELS: dict[str, str] = {**dict(LINE), **{t: label for t, label, _ in SIDINGS}, **dict(OTHERS)}

_FORM = re.compile(r"[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)+\Z")


def well_formed(name: str) -> bool:
    """Whether a name is dotted lower case, as event types are: `order.created`."""
    return bool(_FORM.match(name)) and len(name) <= 60


def label(name: str) -> str:
    """What people call it."""
    return LABELS.get(name) or name.replace(".", " ").replace("_", " ")
