"""The one piece of code that decides. A rehearsal, a check, "why not?" and the worker all call `plan`."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from angelon.core import event_types
from angelon.core.messages.email import CompiledEmail, compile_email
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading, read
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store
from angelon.core.specs.variable import Variable
from angelon.core.states import State
from angelon.core.values import Value, show

Verdict = Literal["yes", "no", "waits", "problem", "open"]


@dataclass(frozen=True, slots=True)
class TraceLine:
    """One part of a route, what it looked at, and what followed. `open` is a part that was not reached."""

    part: str
    verdict: Verdict
    saw: str
    why: str = ""

    def as_dict(self) -> dict[str, str]:
        return asdict(self)


@dataclass(frozen=True, slots=True)
class Event:
    """What planning needs of an event. `received_at` is aware. `was` and `now` are statuses, for a derived change."""

    id: str
    type: str
    name: str
    source: str
    payload: Any
    received_at: dt.datetime
    was: str = ""
    now: str = ""


@dataclass(frozen=True, slots=True)
class ActiveRoute:
    """A route that is switched on, and since when (aware). Events received before that never count."""

    route: Route
    since: dt.datetime


@dataclass(frozen=True, slots=True)
class Setup:
    """Everything that a store has set up, as it stands."""

    store: Store
    sources: Mapping[str, Source]
    variables: Mapping[str, Variable]
    messages: Mapping[str, Message]
    gateways: Mapping[str, Gateway]
    routes: list[ActiveRoute] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Facts:
    """What has happened before, as far as these routes ask. `told` holds (route key, source key, order reference)."""

    told: frozenset[tuple[str, str, str]] = frozenset()


@dataclass(frozen=True, slots=True)
class PlannedSend:
    """One message to one recipient. `due_at` is aware; `state` is scheduled, held or skipped."""

    route: str
    message: str
    channel: str
    gateway: str
    recipient: str
    recipient_name: str
    locale: str
    due_at: dt.datetime
    state: State
    reason: str
    values: dict[str, Value]


@dataclass(frozen=True, slots=True)
class Decision:
    """What one route made of one event: the send, or none, and the trace."""

    route: str
    outcome: Literal["send", "held", "skipped", "no"]
    trace: list[TraceLine]
    send: PlannedSend | None = None

    @property
    def reason(self) -> str:
        """The line that settled it, as a sentence."""
        settled = next((line for line in self.trace if line.verdict in ("no", "problem")), None)
        return settled.why if settled else ""


def work_out(source: Source, setup: Setup, payload: Any) -> tuple[Reading, Variables]:
    """A payload read as an order, and its variables ready to be worked out."""
    reading = read(source, setup.store, payload)
    return reading, Variables(dict(setup.variables), source.recipes, reading.context)


def plan(event: Event, reading: Reading, variables: Variables, setup: Setup, facts: Facts, now: dt.datetime) -> list[Decision]:
    """What each active route makes of an event. Pure: the same arguments give the same decisions."""
    return [decide(event, reading, variables, active, setup, facts, now) for active in setup.routes]


def decide(event: Event, reading: Reading, variables: Variables, active: ActiveRoute, setup: Setup, facts: Facts, now: dt.datetime) -> Decision:
    """One route's decision. Parts are looked at in the order in which the sentence reads; the first no ends it."""
    route = active.route
    trace: list[TraceLine] = []

    def no(part: str, saw: str, why: str) -> Decision:
        trace.append(TraceLine(part, "no", saw, why))
        return Decision(route.key, "no", trace)

    saw = event_types.label(event.type) if event.type else f"“{event.name}”, which means nothing here yet"
    if event.type == "order.status_changed" and event.now:
        saw = f"was {event.was or 'unknown'}, now {event.now}"
    if event.type not in route.when:
        return no("when", saw, f"The event is {saw}, and the route waits for {_or([event_types.label(t) for t in route.when])}.")
    if event.received_at < active.since:
        return no("when", saw, f"The event came before the route was switched on ({active.since:%Y-%m-%d %H:%M} UTC).")
    trace.append(TraceLine("when", "yes", saw))
    source = setup.sources.get(event.source)
    source_name = source.name if source else event.source
    if event.source not in route.sources:
        names = [setup.sources[key].name if key in setup.sources else key for key in route.sources]
        return no("from", source_name, f"The event is from {source_name}, and the route listens to {_or(names)}.")
    trace.append(TraceLine("from", "yes", source_name))
    return _speak(event, reading, variables, route, setup, facts, now, trace)


def _speak(
    event: Event, reading: Reading, variables: Variables, route: Route, setup: Setup, facts: Facts, now: dt.datetime, trace: list[TraceLine]
) -> Decision:
    """The route applies: which send comes of it, in which state."""
    held: list[str] = []

    def problem(part: str, saw: str, why: str) -> None:
        held.append(why)
        trace.append(TraceLine(part, "problem", saw, why))

    message = setup.messages.get(route.send)
    wanted = reading.text("language") or setup.store.locale
    locale = message.locale_for(route.channel, wanted) if message else None
    values: dict[str, Value] = {}
    if message is None:
        problem("send", "no message", "The route's message is not published." if route.send else "The route has no message yet.")
    elif locale is None:
        problem("send", message.name, f"“{message.name}” has no {route.channel} part.")
    else:
        try:
            compiled = compiled_part(message, route.channel, locale, setup.store)
        except Invalid as error:
            problem("send", message.name, f"“{message.name}” can't be made: {error.problems[0].what}")
        else:
            values, missing = values_for(compiled.names, reading, variables)
            if missing:
                problem("send", f"{message.name}, in {locale}", missing[0].what)
            else:
                trace.append(TraceLine("send", "yes", f"{message.name}, in {locale}"))
    address, name, why = customer(route.channel, reading)
    if why:
        problem("to", "nobody", why)
    else:
        trace.append(TraceLine("to", "yes", address))
    gateway = setup.gateways.get(route.gateway)
    if gateway is None:
        problem("by", "no gateway", "The route has no gateway yet." if not route.gateway else f"There is no gateway “{route.gateway}”.")
    elif gateway.paused:
        problem("by", gateway.name, f"{gateway.name} is paused.")
    else:
        trace.append(TraceLine("by", "yes", gateway.name))
    trace.append(TraceLine("timing", "yes", "at once"))
    state, reason = (State.HELD, held[0]) if held else (State.SCHEDULED, "")
    if route.once == "order" and reading.reference:
        if (route.key, event.source, reading.reference) in facts.told:
            state, reason = State.SKIPPED, f"This route has already spoken for order {reading.number}, and it speaks once per order."
            trace.append(TraceLine("once", "no", f"spoke for {reading.number} before", reason))
        else:
            trace.append(TraceLine("once", "yes", f"first for {reading.number}"))
    elif route.once == "order":
        trace.append(TraceLine("once", "yes", "the event names no order"))
    else:
        trace.append(TraceLine("once", "yes", "for every event"))
    send = PlannedSend(
        route.key, route.send, route.channel, route.gateway, address, name, locale or setup.store.locale, now, state, reason, values
    )
    outcome: Literal["send", "held", "skipped"] = "held" if state is State.HELD else "skipped" if state is State.SKIPPED else "send"
    return Decision(route.key, outcome, trace, send)


def compiled_part(message: Message, channel: str, locale: str, store: Store) -> CompiledEmail:
    """A message's part for one channel and locale, compiled. Raises Invalid with what is wrong in it."""
    try:
        return compile_email(message.email[locale], store, locale)
    except Invalid as error:
        raise Invalid([p.at(f"{channel}.{locale}") for p in error.problems]) from None


def values_for(names: frozenset[str], reading: Reading, variables: Variables) -> tuple[dict[str, Value], list[Problem]]:
    """The values that a template needs, and what is missing among them. `order` is the order as read."""
    wanted = sorted(names - {"order"})
    values = variables.values(wanted)
    if "order" in names:
        values["order"] = reading.order()
    return values, variables.problems(wanted)


def customer(channel: str, reading: Reading) -> tuple[str, str, str]:
    """The customer's address and name for a channel; or why there is none."""
    part = {"email": "email", "sms": "phone"}.get(channel, "email")
    evaluation = reading.parts.get(part)
    if evaluation is None:
        return "", "", f"The source does not read the customer's {part} yet."
    if evaluation.problem:
        return "", "", f"The order has no usable {part}. {evaluation.problem.what}"
    return str(evaluation.value), show(reading.value("name")), ""


def _or(names: list[str]) -> str:
    if not names:
        return "nothing yet"
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"
