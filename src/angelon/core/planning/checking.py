"""Checks carried out: what must come of an event against what does. Pure, by the same planning as everything else."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from angelon.core.messages.channels import part_for_reader
from angelon.core.outside import refuse_inside
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Contact, Event, Facts, Setup
from angelon.core.planning.plan import Decision, PlannedSend, decide, work_out
from angelon.core.planning.purchases import Purchase, products, spent
from angelon.core.problems import Invalid
from angelon.core.specs.check import Check, Customer, Expected
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.templates import CantRender
from angelon.core.values import Money, pack, show, unpack


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a check came out: green without differences. Each difference is a line that a person can read; `-` was
    expected, `+` came.
    """

    check: Check
    differences: list[str] = field(default_factory=list)

    @property
    def passed(self) -> bool:
        return not self.differences


def with_changes(setup: Setup, message: Message | None = None, source: Source | None = None) -> Setup:
    """A set-up in which one message, or one source, is another."""
    if message is not None:
        setup = replace(setup, messages={**setup.messages, message.key: message})
    if source is not None:
        setup = replace(setup, sources={**setup.sources, source.key: source})
    return setup


def run(check: Check, routes: Mapping[str, Route], setup: Setup) -> Outcome:
    """Carries a check out with the routes given (drafts or live), by key."""
    refuse_inside("running a check")
    route = routes.get(check.route)
    if route is None:
        return Outcome(check, [f"There is no route “{check.route}” any more."])
    if check.source not in setup.sources:
        return Outcome(check, [f"There is no source “{check.source}” any more."])
    found: list[str] = []
    decision = decision_of(check, route, setup)
    _line(found, "outcome", check.outcome, decision.outcome)
    if check.reason:
        _line(found, "reason", check.reason, decision.reason)
    for number in range(max(len(check.sends), len(decision.sends))):
        expected = check.sends[number] if number < len(check.sends) else None
        send = decision.sends[number] if number < len(decision.sends) else None
        where = f"send {number + 1}" if max(len(check.sends), len(decision.sends)) > 1 else "send"
        if expected is None and send is not None:
            found.append(f"+ {where}: to {send.recipient or 'nobody'} by {send.channel}, which was not expected")
        elif send is None and expected is not None:
            found.append(f"- {where}: to {expected.recipient or 'nobody'} by {expected.channel}, which does not come")
        elif send is not None and expected is not None:
            _compare(found, where, check, expected, send, setup)
    return Outcome(check, found)


def decision_of(check: Check, route: Route, setup: Setup) -> Decision:
    """What the route makes of the check's event."""
    event = Event("check", check.type, check.event, check.source, check.payload, check.at, check.was, check.now)
    reading, variables = work_out(setup.sources[check.source], setup, check.payload)
    return decide(
        event,
        reading,
        variables,
        ActiveRoute(route, ALWAYS),
        setup,
        Facts(statuses=tuple(check.statuses), contact=_contact(check)),
        check.at,
    )


def _contact(check: Check) -> Contact:
    """The check's customer as planning takes it: what was bought stands as one purchase for each currency."""
    said = check.customer
    bought = [Purchase(Money(amount, currency)) for currency, amount in said.spent.items()]
    bought.append(Purchase(None, tuple(said.products)))
    return Contact(
        check.orders,
        said.returned,
        said.complained,
        said.language,
        tuple(said.tags),
        said.country,
        dict(enumerate(bought)),
        {name: unpack(value) for name, value in said.kept.items()},
    )


def customer_of(contact: Contact) -> Customer:
    """What is known of a customer, as a check holds it."""
    totals = [one.total for one in contact.purchases.values() if one.total is not None]
    sums = {total.currency: spent(contact.purchases, total.currency) for total in totals}
    return Customer(
        tags=list(contact.tags),
        returned=contact.returned,
        complained=contact.complained,
        language=contact.language,
        country=contact.country,
        spent={currency: one.amount for currency, one in sums.items() if one is not None},
        products=[(one["sku"], one["name"]) for one in products(contact.purchases)[:500]],
        kept={name: pack(value) for name, value in contact.kept.items()},
    )


def expected_of(check: Check, route: Route, setup: Setup, values: tuple[str, ...] = ()) -> Check:
    """The check with what comes out now as what must come out."""
    decision = decision_of(check, route, setup)
    sends = [
        Expected(
            recipient=send.recipient,
            channel=send.channel,
            message=send.message,
            locale=send.locale,
            state=send.state.value,
            after_seconds=int((send.due_at - check.at).total_seconds()),
            reason=send.reason,
            values={name: show(send.values[name], send.locale) for name in values if name in send.values},
            text=text_of(send, setup),
        )
        for send in decision.sends
    ]
    kept = {(one.recipient, one.channel): one.contains for one in check.sends}
    for send in sends:
        send.contains = kept.get((send.recipient, send.channel), [])
    return check.model_copy(
        update={"outcome": decision.outcome, "reason": decision.reason if not decision.sends else "", "sends": sends}
    )


def text_of(send: PlannedSend, setup: Setup) -> str:
    """All that a send would say, as text; empty where it can't be made."""
    message = setup.messages.get(send.message)
    if message is None:
        return ""
    try:
        return (
            part_for_reader(message, send.channel, send.locale, send.format_locale, setup.store)
            .render(send.values)
            .as_text()
        )
    except (CantRender, Invalid):
        return ""


def _line(found: list[str], what: str, expected: object, came: object) -> None:
    if expected != came:
        found += [f"- {what}: {expected or 'nothing'}", f"+ {what}: {came or 'nothing'}"]


def _compare(found: list[str], where: str, check: Check, expected: Expected, send: PlannedSend, setup: Setup) -> None:
    for name in ("recipient", "channel", "message", "locale"):
        _line(found, f"{where}: {name}", getattr(expected, name), getattr(send, name))
    _line(found, f"{where}: state", expected.state, send.state.value)
    if send.state.value != expected.state and send.reason:
        found.append(f"+ {where}: {send.reason}")
    if expected.reason:
        _line(found, f"{where}: reason", expected.reason, send.reason)
    after = int((send.due_at - check.at).total_seconds())
    if after != expected.after_seconds:
        found += [f"- {where}: due {_after(expected.after_seconds)}", f"+ {where}: due {_after(after)}"]
    for name, value in expected.values.items():
        _line(found, f"{where}: {name}", value, show(send.values.get(name), send.locale))
    if check.texts == "none":
        return
    text = text_of(send, setup)
    if check.texts == "parts":
        found += [
            f"- {where}: “{part}” does not stand in the text"
            for part in expected.contains
            if " ".join(part.split()) not in " ".join(text.split())
        ]
        return
    if text != expected.text:
        lines = difflib.unified_diff(
            expected.text.splitlines()[:2000], text.splitlines()[:2000], "expected", "came", lineterm="", n=1
        )
        found += [
            f"{line[:1]} {where}: {line[1:]}" for line in lines if line[:3] not in ("---", "+++") and line[:1] in "+-"
        ]


def _after(seconds: int) -> str:
    if seconds == 0:
        return "at once"
    days, rest = divmod(abs(seconds), 86400)
    hours, rest = divmod(rest, 3600)
    minutes, left = divmod(rest, 60)
    parts = [
        f"{number} {unit}{'s' if number > 1 else ''}"
        for number, unit in ((days, "day"), (hours, "hour"), (minutes, "minute"), (left, "second"))
        if number
    ]
    return f"{' '.join(parts)} {'after' if seconds > 0 else 'before'} the event"
