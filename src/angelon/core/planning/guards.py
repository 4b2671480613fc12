"""The guards: each looks at one thing and says nothing, that all is well, or why not. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

from angelon.core import questions
from angelon.core.event_types import CHANGES
from angelon.core.messages.channels import address_key
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.inputs import Answer, Facts, PriorSend
from angelon.core.planning.permission import THIS_ORDER, for_one_message, refusal
from angelon.core.planning.subjects import answers
from angelon.core.specs.route import Route
from angelon.core.values import number_of, show


@dataclass(slots=True, eq=False)
class GuardInput:
    """What guards look at: a send that is about to be made, and everything around it. `facts` are as they stand by
    then.
    """

    route: Route
    channel: str
    address: str
    to_customer: bool
    context: PlanningContext
    facts: Facts
    due_at: dt.datetime
    message: str
    """The key of the message that is about to be sent."""

    def route_name(self, key: str) -> str:
        """What people call a route."""
        return next((active.route.name for active in self.context.setup.routes if active.route.key == key), key)


@dataclass(frozen=True, slots=True)
class GuardResult:
    """What a guard saw, and why it says no; without a why it lets the send pass."""

    saw: str
    why: str = ""


def after_route(given: GuardInput) -> GuardResult | None:
    """Only after another route's send for the order."""
    wanted = given.route.guards.after_route
    if not wanted:
        return None
    went = [one for one in given.facts.prior_sends if one.route == wanted and one.out]
    planned = next((one for one in given.facts.prior_sends if one.route == wanted and one.due_at < given.due_at), None)
    if not went and planned is not None and given.context.now < given.due_at:
        at = planned.due_at.astimezone(given.context.zone)
        return GuardResult(f"{given.route_name(wanted)} is sent before it, on {at:%-d %B %H:%M}; asked again then")
    if not went:
        return GuardResult(
            f"{given.route_name(wanted)} has not been sent",
            f"It is sent only after “{given.route_name(wanted)}” has, and that has not gone out for order "
            f"{given.context.reading.number}.",
        )
    return GuardResult(f"after {given.route_name(wanted)}, made on {went[-1].at:%-d %B}")


def after_answer(given: GuardInput) -> GuardResult | None:
    """Only after an answer of the customer; with `after_route`, an answer since that route's send."""
    if not given.route.guards.after_answer:
        return None
    found = _answers(given)
    if not found:
        return GuardResult("no answer yet", "It is sent only after the customer has answered, and no answer has come.")
    return GuardResult(_answered(found[-1], given))


def unless_answered(given: GuardInput) -> GuardResult | None:
    """Only as long as the customer has not answered; with `after_route`, not since that route's send."""
    if not given.route.guards.unless_answered:
        return None
    found = _answers(given)
    if not found:
        return GuardResult("no answer so far")
    said = _answered(found[-1], given)
    return GuardResult(said, f"The customer {said}, and it is sent only as long as they have not answered.")


def unless_asking(given: GuardInput) -> GuardResult | None:
    """Only as long as no question about the order is open, or about to be asked."""
    if not given.route.guards.unless_asking:
        return None
    messages = given.context.setup.messages
    asking = (one.message for one in given.facts.prior_sends if one.to_customer and one.message in messages)
    asked = {key for key in asking if messages[key].question is not None and key != given.message}
    for key in sorted(asked | {one.message for one in given.facts.questions}):
        if questions.outcome_of(given.facts.questions, key) in (None, questions.QuestionState.OPEN):
            name = messages[key].name if key in messages else key
            return GuardResult(
                f"“{name}” is open",
                f"“{name}” is not answered yet, and the route does not send as long as a question is open.",
            )
    return GuardResult("no question is open")


def _answers(given: GuardInput) -> list[Answer]:
    """The customer's answers, where the route speaks after another those since its send."""
    wanted = given.route.guards.after_route
    since = max((one.at for one in given.facts.prior_sends if one.route == wanted), default=None) if wanted else None
    return [answer for answer in answers(given.context) if since is None or answer.at >= since]


def _answered(answer: Answer, given: GuardInput) -> str:
    return f"answered “{answer.text[:60]}” on {answer.at.astimezone(given.context.zone):%-d %B}"


def not_discounted(given: GuardInput) -> GuardResult | None:
    """Not for orders at a discount."""
    if not given.route.guards.skip_discounted:
        return None
    discount = given.context.reading.value("discount")
    number = number_of(discount)
    if number:
        return GuardResult(
            f"discount {show(discount, given.context.setup.store.locale)}",
            "The order was discounted, and the route skips those.",
        )
    return GuardResult("no discount")


def not_refunded(given: GuardInput) -> GuardResult | None:
    """Not for orders whose money went back."""
    if not given.route.guards.skip_refunded:
        return None
    back = next((at for type_, at in given.facts.types if type_ == "payment.refunded"), None)
    if back or given.context.event.type == "payment.refunded":
        on = (back or given.context.event.received_at).astimezone(given.context.zone)
        return GuardResult("refunded", f"The order was refunded on {on:%-d %B %Y}, and the route skips those.")
    return GuardResult("not refunded")


def caps(given: GuardInput) -> GuardResult | None:
    """At most so many messages for an order or customer in a span."""
    seen = []
    for cap in given.route.guards.caps:
        if not given.to_customer:
            continue
        times = (
            given.facts.sent_to_customer
            if cap.per == "customer"
            else [one.at for one in given.facts.prior_sends if one.to_customer]
        )
        recent = [at for at in times if not cap.days or given.context.now - at < dt.timedelta(days=cap.days)]
        span = f" in {cap.days} day{'s' if cap.days > 1 else ''}" if cap.days else ""
        whom = "the customer" if cap.per == "customer" else f"order {given.context.reading.number}"
        if len(recent) >= cap.most:
            return GuardResult(
                f"{len(recent)} of {cap.most}{span}",
                f"There have been {len(recent)} messages for {whom}{span}, and {cap.most} is the most.",
            )
        seen.append(f"{len(recent)} of {cap.most}{span} for {whom}")
    return GuardResult(", ".join(seen)) if seen else None


def suppressed(given: GuardInput) -> GuardResult | None:
    """Not to an address that must not be written to."""
    message = given.context.setup.messages.get(given.message)
    key = address_key(given.channel, given.address) if given.address else ""
    why = refusal(given.facts.suppressed, key, message, THIS_ORDER if given.to_customer else "") if key else None
    return GuardResult("suppressed", f"{given.address} must not be written to: {why}") if why is not None else None


def consent(given: GuardInput) -> GuardResult | None:
    """Only with the customer's consent, where the store asks for it on this channel: what they have said last, or
    else the event says.
    """
    name = given.context.setup.store.consent_for(given.channel)
    message = given.context.setup.messages.get(given.message)
    needed = message is not None and message.purpose == "needed"
    if not name or not given.to_customer or (needed and given.context.setup.store.consent_covers == "optional"):
        return None
    key = address_key(given.channel, given.address)
    said = given.facts.consents.get((given.channel, key))
    once = given.facts.consents.get((given.channel, for_one_message(key, given.message)))
    if once is not None and once.granted and (said is None or not said.granted):
        sent = (one for one in given.facts.prior_sends if one.message == given.message and one.at >= once.at)
        if not any(address_key(one.channel, one.address) == key for one in sent):
            return GuardResult(f"{once.label()}, for this message")
        told = f"The customer agreed to this message by {given.channel} once, on {once.at:%-d %B %Y}, and has had it."
        return GuardResult("agreed to once, and sent", told)
    if said is not None:
        told = f"The customer has not agreed to {given.channel}: they {said.label()}."
        return GuardResult(said.label(), "" if said.granted else told)
    if name not in given.context.setup.variables:
        return GuardResult(
            "no variable",
            f"The store asks for consent by the variable “{name}”, and there is no such variable any more.",
        )
    value = given.context.variables[name].value
    agreed = value is True or str(value).strip().casefold() in ("yes", "true", "1", "granted", "subscribed")
    if not agreed:
        return GuardResult(
            f"{name}: {show(value) or 'empty'}",
            f"The customer has not agreed to {given.channel}: {name} is {show(value) or 'empty'}.",
        )
    return GuardResult("agreed")


def not_already_notified(given: GuardInput) -> GuardResult | None:
    """Not the same news again: what another route tells the same person by the same channel about the same delivery,
    within the store's span, by the same message or one that tells of the same.
    """
    if given.route.guards.even_if_notified or not given.address:
        return None
    span = dt.timedelta(minutes=given.context.setup.store.echo_minutes)
    for one in given.facts.same_delivery:
        near = abs(one.due_at - given.due_at) <= span
        if one.route != given.route.key and near and _reaches_the_same(given, one):
            return GuardResult(
                f"{given.route_name(one.route)} tells them",
                f"The route “{given.route_name(one.route)}” already tells {given.address} by {given.channel} about "
                "this.",
            )
    return None


def not_told_by_another_source(given: GuardInput) -> GuardResult | None:
    """Not what another source has told of the same order before, and this route, or one by which the same person would
    hear the same, has sent for it.
    """
    event = given.context.event
    for one in given.facts.prior_sends:
        other = one.source and one.source != event.source and one.event_type == event.type
        same = other and (one.now == event.now or event.type not in CHANGES.values())
        if same and (one.route == given.route.key or _reaches_the_same(given, one)):
            told = given.context.setup.sources.get(one.source)
            name, on = told.name if told else one.source, one.at.astimezone(given.context.zone)
            why = f"“{name}” has told the same about this order; a message was made for it on {on:%-d %B %H:%M}."
            return GuardResult(f"told by {name} before", why)
    return None


def _reaches_the_same(given: GuardInput, one: PriorSend) -> bool:
    return (one.channel, one.address) == (given.channel, given.address) and _same_news(given, one.message)


def _same_news(given: GuardInput, other: str) -> bool:
    messages = given.context.setup.messages
    if other == given.message or given.message not in messages or other not in messages:
        return other == given.message
    return messages[given.message].same_news(messages[other])


Guard = Callable[[GuardInput], GuardResult | None]

GUARDS: tuple[Guard, ...] = (
    after_route,
    after_answer,
    unless_answered,
    unless_asking,
    not_discounted,
    not_refunded,
    caps,
    suppressed,
    consent,
    not_already_notified,
    not_told_by_another_source,
)
"""In the order in which they are asked."""

NOT_WHEN_MANUAL: frozenset[Guard] = frozenset({not_already_notified, not_told_by_another_source})
"""Guards that somebody who chose the order has overruled."""

FIRST_ONLY: frozenset[Guard] = frozenset({after_route, after_answer, caps})
"""Guards that a send in place of another has passed already."""

WHEN_DUE: tuple[Guard, ...] = (after_route, unless_answered, unless_asking, not_refunded, suppressed, consent)
"""Guards that are asked again when a send is due, since what they look at may have changed."""
