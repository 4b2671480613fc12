"""The guards: each looks at one thing and says nothing, that all is well, or why not. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

from angelon.core.planning.given import Facts, address_mark
from angelon.core.planning.occasion import Occasion
from angelon.core.specs.route import Route
from angelon.core.values import number_of, show


@dataclass(slots=True, eq=False)
class Looked:
    """What guards look at: a send that is about to be made, and everything around it. `facts` are as they stand by
    then.
    """

    route: Route
    channel: str
    address: str
    to_customer: bool
    occasion: Occasion
    facts: Facts
    due_at: dt.datetime

    def called(self, key: str) -> str:
        """What people call a route."""
        return next((active.route.name for active in self.occasion.setup.routes if active.route.key == key), key)


@dataclass(frozen=True, slots=True)
class Said:
    """What a guard saw, and why it says no; without a why it lets the send pass."""

    saw: str
    why: str = ""


def after_route(look: Looked) -> Said | None:
    """Only after another route's send for the order."""
    wanted = look.route.guards.after_route
    if not wanted:
        return None
    went = [one for one in look.facts.spoken if one.route == wanted and one.out]
    if not went:
        return Said(
            f"{look.called(wanted)} has not spoken",
            f"It speaks only after “{look.called(wanted)}” has, and that has not gone out for order "
            f"{look.occasion.reading.number}.",
        )
    return Said(f"after {look.called(wanted)}, made on {went[-1].at:%-d %B}")


def after_answer(look: Looked) -> Said | None:
    """Only after an answer of the customer; with `after_route`, an answer since that route's send."""
    guards = look.route.guards
    if not guards.after_answer:
        return None
    since = (
        max((one.at for one in look.facts.spoken if one.route == guards.after_route), default=None)
        if guards.after_route
        else None
    )
    answers = [at for type_, at in look.facts.types if type_ == "answer.received" and (since is None or at >= since)]
    if look.occasion.event.type == "answer.received" and (since is None or look.occasion.event.received_at >= since):
        answers.append(look.occasion.event.received_at)
    if not answers:
        return Said("no answer yet", "It speaks only after the customer has answered, and no answer has come.")
    return Said(f"answered on {answers[-1]:%-d %B}")


def discounted(look: Looked) -> Said | None:
    """Not for orders at a discount."""
    if not look.route.guards.skip_discounted:
        return None
    discount = look.occasion.reading.value("discount")
    number = number_of(discount)
    if number:
        return Said(
            f"discount {show(discount, look.occasion.setup.store.locale)}",
            "The order was discounted, and the route skips those.",
        )
    return Said("no discount")


def refunded(look: Looked) -> Said | None:
    """Not for orders whose money went back."""
    if not look.route.guards.skip_refunded:
        return None
    back = next((at for type_, at in look.facts.types if type_ == "payment.refunded"), None)
    if back or look.occasion.event.type == "payment.refunded":
        on = (back or look.occasion.event.received_at).astimezone(look.occasion.zone)
        return Said("refunded", f"The order was refunded on {on:%-d %B %Y}, and the route skips those.")
    return Said("not refunded")


def caps(look: Looked) -> Said | None:
    """At most so many messages for an order or customer in a span."""
    seen = []
    for cap in look.route.guards.caps:
        if not look.to_customer:
            continue
        times = (
            look.facts.spoken_customer
            if cap.per == "customer"
            else [one.at for one in look.facts.spoken if one.to_customer]
        )
        recent = [at for at in times if not cap.days or look.occasion.now - at < dt.timedelta(days=cap.days)]
        span = f" in {cap.days} day{'s' if cap.days > 1 else ''}" if cap.days else ""
        whom = "the customer" if cap.per == "customer" else f"order {look.occasion.reading.number}"
        if len(recent) >= cap.most:
            return Said(
                f"{len(recent)} of {cap.most}{span}",
                f"There have been {len(recent)} messages for {whom}{span}, and {cap.most} is the most.",
            )
        seen.append(f"{len(recent)} of {cap.most}{span} for {whom}")
    return Said(", ".join(seen)) if seen else None


def suppressed(look: Looked) -> Said | None:
    """Not to an address that must not be written to."""
    why = look.facts.suppressed.get(address_mark(look.channel, look.address)) if look.address else None
    return Said("suppressed", f"{look.address} must not be written to: {why}") if why is not None else None


def consent(look: Looked) -> Said | None:
    """Only with the customer's consent, where the store asks for it on this channel."""
    name = look.occasion.setup.store.consent.get(look.channel)  # type: ignore[call-overload]
    if not name or not look.to_customer:
        return None
    if name not in look.occasion.setup.variables:
        return Said(
            "no variable",
            f"The store asks for consent by the variable “{name}”, and there is no such variable any more.",
        )
    value = look.occasion.variables[name].value
    agreed = value is True or str(value).strip().casefold() in ("yes", "true", "1", "granted", "subscribed")
    if not agreed:
        return Said(
            f"{name}: {show(value) or 'empty'}",
            f"The customer has not agreed to {look.channel}: {name} is {show(value) or 'empty'}.",
        )
    return Said("agreed")


def told_already(look: Looked) -> Said | None:
    """Not what another route tells the same person by the same channel about the same delivery, within the store's
    span.
    """
    if look.route.guards.even_if_told or not look.address:
        return None
    span = dt.timedelta(minutes=look.occasion.setup.store.echo_minutes)
    for one in look.facts.same_delivery:
        if (
            one.route != look.route.key
            and (one.channel, one.address) == (look.channel, look.address)
            and abs(one.due_at - look.due_at) <= span
        ):
            return Said(
                f"{look.called(one.route)} tells them",
                f"The route “{look.called(one.route)}” already tells {look.address} by {look.channel} about this.",
            )
    return None


Guard = Callable[[Looked], Said | None]

GUARDS: tuple[Guard, ...] = (after_route, after_answer, discounted, refunded, caps, suppressed, consent, told_already)
"""In the order in which they are asked."""

NOT_BY_HAND: frozenset[Guard] = frozenset({told_already})
"""Guards that somebody who chose the order has overruled."""

FIRST_ONLY: frozenset[Guard] = frozenset({after_route, after_answer, caps, told_already})
"""Guards that a send in place of another has passed already."""

WHEN_DUE: tuple[Guard, ...] = (refunded, suppressed, consent)
"""Guards that are asked again when a send is due, since what they look at may have changed."""
