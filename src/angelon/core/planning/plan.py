"""The one piece of code that decides. A rehearsal, a check, "why not?" and the worker all call `plan`."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Literal
from zoneinfo import ZoneInfo

from email_validator import EmailNotValidError

from angelon.core import event_types
from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.conditions.evaluate import Verdict as Holds
from angelon.core.messages.chat import CompiledChat
from angelon.core.messages.parts import Part, compiled_part
from angelon.core.messages.sms import CompiledSms, RenderedSms
from angelon.core.messages.templates import CantRender
from angelon.core.payload.paths import MISSING, compile_path
from angelon.core.planning.given import ActiveRoute, Contact, Event, Facts, Setup, Spoken
from angelon.core.planning.guards import FIRST_ONLY, GUARDS, NOT_BY_HAND, Looked
from angelon.core.planning.sentence import CALLED
from angelon.core.planning.subjects import worked_condition
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading, read
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.recipients import Recipient
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.timing import Timing
from angelon.core.states import State
from angelon.core.timing.due import due, said
from angelon.core.timing.places import is_holiday, language_of, zone_of
from angelon.core.values import Day, Value, show

Verdict = Literal["yes", "no", "waits", "problem", "open"]

__all__ = ["CALLED", "ActiveRoute", "Contact", "Decision", "Event", "Facts", "PlannedSend", "Setup", "TraceLine", "customer", "decide", "over_cap", "plan", "planned_instead", "reached", "spoken_of", "values_for", "work_out"]


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
    to: str = "customer"
    """Which of the route's recipients it is for: customer, or kind and who."""
    step: int = 0
    """Which of the route's ways it takes: 0 its own, then those of `otherwise`."""
    trace: list[TraceLine] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Decision:
    """What one route made of one event: a send for each recipient, or none, and the trace."""

    route: str
    outcome: Literal["send", "held", "skipped", "no"]
    trace: list[TraceLine]
    sends: list[PlannedSend] = field(default_factory=list)

    @property
    def send(self) -> PlannedSend | None:
        """The first send."""
        return self.sends[0] if self.sends else None

    @property
    def reason(self) -> str:
        """The line that settled it, as a sentence."""
        settled = next((line for line in self.trace if line.verdict in ("no", "problem")), None)
        return settled.why if settled and self.outcome != "send" else ""


def work_out(source: Source, setup: Setup, payload: Any, given: Mapping[str, Value] | None = None) -> tuple[Reading, Variables]:
    """A payload read as an order, and its variables ready to be worked out; `given` values stand in place of the recipes'."""
    reading = read(source, setup.store, payload)
    return reading, Variables(dict(setup.variables), source.recipes, reading.context, given)


def plan(event: Event, reading: Reading, variables: Variables, setup: Setup, facts: Facts, now: dt.datetime) -> list[Decision]:
    """What each active route makes of an event. Pure: the same arguments give the same decisions.

    Routes have their say by rank, and each knows what those before it are about to tell.
    """
    made: dict[str, Decision] = {}
    for active in sorted(setup.routes, key=lambda active: active.route.rank):
        decision = made[active.route.key] = decide(event, reading, variables, active, setup, facts, now)
        said = tuple(spoken_of(send, now) for send in decision.sends if send.state is not State.SKIPPED)
        if said:
            to_customer = tuple(now for one in said if one.to_customer)
            facts = replace(facts, spoken=facts.spoken + said, same_delivery=facts.same_delivery + said, spoken_customer=facts.spoken_customer + to_customer)
    return [made[active.route.key] for active in setup.routes]


def spoken_of(send: PlannedSend, now: dt.datetime, out: bool = False) -> Spoken:
    """A planned send as guards of what follows look at it."""
    return Spoken(send.route, send.channel, send.recipient, now, send.due_at, out, send.to == "customer")


def decide(event: Event, reading: Reading, variables: Variables, active: ActiveRoute, setup: Setup, facts: Facts, now: dt.datetime, by_hand: bool = False) -> Decision:
    """One route's decision. Parts are looked at in the order in which the sentence reads; the first no ends it.

    Run by hand, a route takes whatever event it is given, and of its timing only the hours count.
    """
    route = active.route
    trace: list[TraceLine] = []
    case = _Case(event, reading, variables, route, setup, facts, now, by_hand)
    if by_hand:
        trace.append(TraceLine("when", "yes", "run by hand"))
        held = _only_if(case, trace)
        return Decision(route.key, "no", trace) if held is None else _for_everybody(case, trace, held)

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
    held = _only_if(case, trace)
    if held is None:
        return Decision(route.key, "no", trace)
    return _for_everybody(case, trace, held)


def planned_instead(
    event: Event, reading: Reading, variables: Variables, route: Route, setup: Setup, facts: Facts, now: dt.datetime, recipient: Recipient, after_step: int, why: str
) -> PlannedSend | None:
    """The send by the next way that the reader can be reached by, after the way `after_step` has come to nothing; None where none is left."""
    case = _Case(event, reading, variables, route, setup, facts, now)
    for step in range(after_step + 1, len(route.otherwise.ways) + 1):
        for person in _people(case, recipient, route.way(step)[1]):
            if person.address:
                return _Speaking(case, person, step, [TraceLine("otherwise", "yes", why)], [], instead=True).send()
    return None


def reached(event: Event, reading: Reading, variables: Variables, route: Route, setup: Setup, whom: str, channel: str) -> tuple[str, str, str]:
    """Address and name of the recipient that a send names (`to_mark`), as they are read now; or why there is none."""
    case = _Case(event, reading, variables, route, setup, Facts(), event.received_at)
    people = [person for recipient in route.to if to_mark(recipient) == whom for person in _people(case, recipient, channel)]
    if not people:
        return "", "", "The route no longer speaks to this recipient."
    chosen = next((person for person in people if person.address), people[0])
    return chosen.address, chosen.name, chosen.why


@dataclass(frozen=True, slots=True)
class _Case:
    """One event before one route."""

    event: Event
    reading: Reading
    variables: Variables
    route: Route
    setup: Setup
    facts: Facts
    now: dt.datetime
    by_hand: bool = False


@dataclass(frozen=True, slots=True)
class _Person:
    """One address of a recipient; or why there is none."""

    recipient: Recipient
    address: str
    name: str
    locale: str
    why: str = ""

    @property
    def to(self) -> str:
        return to_mark(self.recipient)


def to_mark(recipient: Recipient) -> str:
    """How a send names the recipient that it is for."""
    return "customer" if recipient.kind == "customer" else f"{recipient.kind}:{recipient.who}"


def _only_if(case: _Case, trace: list[TraceLine]) -> list[str] | None:
    """Looks at the route's conditions: None where one says no, else what holds the send since it can't be worked out."""
    if not case.route.only_if.of:
        return []
    verdict = worked_condition(case.route.only_if, case.event, case.reading, case.variables, case.setup, case.facts, case.now)
    saw = "; ".join(f"{part.said}: {part.saw or 'empty'}" for part in _leaves(verdict))[:400]
    if verdict.problem:
        trace.append(TraceLine("if", "problem", saw, verdict.problem))
        return [verdict.problem]
    if not verdict.yes:
        trace.append(TraceLine("if", "no", saw, verdict.why_not()))
        return None
    trace.append(TraceLine("if", "yes", saw))
    return []


def _for_everybody(case: _Case, trace: list[TraceLine], held: list[str]) -> Decision:
    """A send for each address of each recipient."""
    route = case.route
    sends: list[PlannedSend] = []
    lines: list[TraceLine] = []
    several = len(route.to) > 1
    if not route.to:
        lines.append(TraceLine("to", "problem", "nobody", "The route has no recipient."))
        sends.append(PlannedSend(route.key, route.send, route.channel, route.gateway, "", "", case.setup.store.locale, case.now, State.HELD, "The route has no recipient.", {}, "customer", 0, [*trace, *lines]))
    for recipient in route.to:
        for person in _people(case, recipient, route.channel):
            chosen, step, detour = person, 0, None
            if not person.address:
                chosen, step, detour = _other_way(case, person)
            speaking = _Speaking(case, chosen, step, list(trace), held)
            if detour:
                speaking.trace.append(detour)
            send = speaking.send()
            if any(send.recipient and (send.channel, send.recipient) == (other.channel, other.recipient) for other in sends):
                continue  # the same address by two names hears it once
            sends.append(send)
            own = send.trace[len(trace) :]
            lines += [replace(line, saw=f"{person.recipient.label}: {line.saw}") for line in own] if several else own
    states = {send.state for send in sends}
    outcome: Literal["send", "held", "skipped"] = "send" if State.SCHEDULED in states else "held" if State.HELD in states else "skipped"
    return Decision(route.key, outcome, [*trace, *lines], sends)


def _other_way(case: _Case, person: _Person) -> tuple[_Person, int, TraceLine | None]:
    """The first of the other ways by which somebody without an address for the route's own can be reached."""
    for step in range(1, len(case.route.otherwise.ways) + 1):
        channel = case.route.way(step)[1]
        for other in _people(case, person.recipient, channel):
            if other.address:
                return other, step, TraceLine("otherwise", "yes", f"{person.why} So by {CALLED[channel]}.")
    return person, 0, None


def _people(case: _Case, recipient: Recipient, channel: str) -> list[_Person]:
    """Everybody behind a recipient, for a channel; at least one, who may have no address."""
    store = case.setup.store
    if recipient.kind == "customer":
        address, name, why = customer(channel, case.reading)
        return [_Person(recipient, address, name, locale_of_reader(case.reading, case.facts, case.setup), why)]
    if recipient.kind == "role":
        members = [member for member in store.team if member.role.casefold() == recipient.who.casefold()]
        if not members:
            return [_Person(recipient, "", "", store.locale, f"Nobody of the shop has the role “{recipient.who}”.")]
        what = "email address" if channel == "email" else "phone number"
        return [_Person(recipient, member.address(channel), member.name, store.locale, "" if member.address(channel) else f"{member.name} has no {what}.") for member in members]
    if recipient.kind == "address":
        return [_address(recipient, recipient.who, channel, store.locale)]
    found: Any = compile_path(recipient.who).find(case.event.payload)
    values = [] if found is MISSING or found is None else found if isinstance(found, list) else [found]
    if not values:
        return [_Person(recipient, "", "", store.locale, f"Nothing stands at {recipient.who} in this event.")]
    return [_address(recipient, show(value), channel, locale_of_reader(case.reading, case.facts, case.setup)) for value in values[:50]]


def _address(recipient: Recipient, text: str, channel: str, locale: str) -> _Person:
    """An address that was written or found, checked."""
    try:
        address = check_email(text) if channel == "email" else phone_text(read_phone(text, None))
    except (EmailNotValidError, BadPhone) as error:
        return _Person(recipient, "", recipient.name, locale, f"“{text[:60]}” is no {'email address' if channel == 'email' else 'phone number'}: {error}")
    return _Person(recipient, address, recipient.name, locale)


def locale_of_reader(reading: Reading, facts: Facts, setup: Setup) -> str:
    """The language a customer is spoken to in: the order's, else the one they are known by, else their country's where the shop speaks it, else the shop's."""
    said = reading.text("language") or (facts.contact.language if facts.contact else "")
    if said:
        return said
    country = reading.text("country")
    spoken = {tag.partition("-")[0]: tag for tag in (*setup.store.locales, setup.store.locale)}
    return spoken.get(language_of(country), setup.store.locale) if country else setup.store.locale


class _Speaking:
    """One send on its way into being: a method for each part of the sentence."""

    def __init__(self, case: _Case, person: _Person, step: int, trace: list[TraceLine], held: list[str], instead: bool = False) -> None:
        self.case, self.person, self.step, self.instead = case, person, step, instead
        self.gateway_key, self.channel, self.message_key = case.route.way(step)
        self.trace = trace
        self.held = list(held)
        self.locale = person.locale
        self.values: dict[str, Value] = {}

    def send(self) -> PlannedSend:
        self._send()
        self._to()
        self._by()
        due_at, too_late = self._timing()
        state, reason = (State.HELD, self.held[0]) if self.held else (State.SCHEDULED, "")
        refused = ("" if self.instead else self._once()) or too_late or self._guards(due_at)
        if refused:
            state, reason = State.SKIPPED, refused
        return PlannedSend(
            self.case.route.key, self.message_key, self.channel, self.gateway_key, self.person.address, self.person.name, self.locale, due_at, state, reason, self.values, self.person.to, self.step, self.trace
        )

    def _yes(self, part: str, saw: str) -> None:
        self.trace.append(TraceLine(part, "yes", saw))

    def _no(self, part: str, saw: str, why: str) -> str:
        self.trace.append(TraceLine(part, "no", saw, why))
        return why

    def _problem(self, part: str, saw: str, why: str) -> None:
        self.held.append(why)
        self.trace.append(TraceLine(part, "problem", saw, why))

    def _send(self) -> None:
        """The message, its locale and its values."""
        setup, message = self.case.setup, self.case.setup.messages.get(self.message_key)
        if message is None:
            return self._problem("send", "no message", "The route's message is not published." if self.message_key else "The route has no message yet.")
        locale = message.locale_for(self.channel, self.locale or setup.store.locale)
        if locale is None:
            return self._problem("send", message.name, f"“{message.name}” has no {CALLED[self.channel]} part.")
        self.locale = locale
        try:
            compiled = compiled_part(message, self.channel, locale, setup.store)
        except Invalid as error:
            return self._problem("send", message.name, f"“{message.name}” can't be made: {error.problems[0].what}")
        self.values, missing = values_for(compiled.names, self.case.reading, self.case.variables)
        said = f"{message.name}, in {locale}"
        if missing:
            unanswered = next((f" “{name}” was asked in vain: {why}" for name, why in self.case.event.unanswered.items() if f"+{name}" in missing[0].what), "")
            return self._problem("send", said, missing[0].what + unanswered)
        if isinstance(compiled, CompiledChat) and not setup.approved(self.gateway_key, message, locale, compiled):
            return self._problem("send", said, f"The chat text in {locale} is not approved by the provider yet.")
        refused = self._too_long(compiled)
        if refused:
            return self._problem("send", said, refused)
        self._yes("send", said)

    def _too_long(self, compiled: Part) -> str:
        """Why an SMS may not go, by the cap of its gateway; empty where it may."""
        gateway = self.case.setup.gateways.get(self.gateway_key)
        if not isinstance(compiled, CompiledSms) or gateway is None:
            return ""
        try:
            return over_cap(compiled.render(self.values), gateway)
        except CantRender as error:
            return error.problem.what

    def _to(self) -> None:
        if self.person.address:
            self._yes("to", self.person.address)
        else:
            self._problem("to", "nobody", self.person.why)

    def _by(self) -> None:
        gateway = self.case.setup.gateways.get(self.gateway_key)
        if gateway is None:
            self._problem("by", "no gateway", "The route has no gateway yet." if not self.gateway_key else f"There is no gateway “{self.gateway_key}”.")
        elif gateway.channel != self.channel:
            self._problem("by", gateway.name, f"{gateway.name} sends {CALLED[gateway.channel]}, and the route speaks by {CALLED[self.channel]}.")
        elif gateway.paused:
            self._problem("by", gateway.name, f"{gateway.name} is paused.")
        else:
            self._yes("by", gateway.name)

    def _timing(self) -> tuple[dt.datetime, str]:
        """When it is due, and why it can't be any more (empty where it can)."""
        case = self.case
        timing, store, now = case.route.timing, case.setup.store, case.now
        if self.instead or case.by_hand:
            timing = Timing(window=timing.window, zone=timing.zone)  # its time has come already; only the hours still count
        if timing == Timing():
            self._yes("timing", "at once")
            return now, ""
        anchor = self._anchor(timing)
        if anchor is None:
            return now, ""
        country = case.reading.context.country or store.country
        zone, whose = ZoneInfo(store.timezone), "the shop’s time"
        if timing.zone == "recipient" and self.person.to == "customer":
            zone, whose = zone_of(country, case.reading.text("phone"), store.timezone)
        found = due(timing, anchor, now, zone, lambda day: is_holiday(country, day))
        if found.at is None:
            return now, self._no("timing", said(timing), found.why)
        saw = found.why if found.at <= now else f"{found.why}: {found.at.astimezone(zone):%-d %B %H:%M}, {whose}"
        self._yes("timing", saw)
        return found.at, ""

    def _anchor(self, timing: Timing) -> dt.datetime | dt.date | None:
        """What the timing counts from; None, with the problem told, where there is none."""
        case = self.case
        if timing.anchor == "placed":
            placed = case.reading.moment("placed_at")
            if placed is None:
                self._problem("timing", "no date", "The order does not say when it was placed, and the timing counts from there.")
            return placed
        if timing.anchor == "expected":
            evaluation = case.variables[timing.variable] if timing.variable in case.setup.variables else None
            if evaluation is None or not isinstance(evaluation.value, Day):
                self._problem("timing", "no day", f"“{timing.variable}” has no day for this order, and the timing counts from there.")
                return None
            return evaluation.value.value
        if timing.anchor == "previous":
            return max((one.due_at for one in case.facts.spoken if one.to_customer), default=case.event.received_at)
        return case.event.received_at

    def _once(self) -> str:
        """Why the route may not speak again; empty where it may."""
        route, reading, facts = self.case.route, self.case.reading, self.case.facts
        if route.once == "customer":
            last = facts.told_customer.get(route.key)
            if last is not None and (not route.once_days or self.case.now - last < dt.timedelta(days=route.once_days)):
                span = f" in {route.once_days} days" if route.once_days else ""
                return self._no("once", f"spoke to them on {last:%-d %B %Y}", f"This route spoke to the customer on {last:%-d %B %Y}, and it speaks once a customer{span}.")
            self._yes("once", "first for this customer" if last is None else f"last on {last:%-d %B %Y}")
        elif route.once != "order":
            self._yes("once", "for every event")
        elif not reading.reference:
            self._yes("once", "the event names no order")
        elif (route.key, self.case.event.source, reading.reference) in facts.told:
            return self._no("once", f"spoke for {reading.number} before", f"This route has already spoken for order {reading.number}, and it speaks once per order.")
        else:
            self._yes("once", f"first for {reading.number}")
        return ""

    def _guards(self, due_at: dt.datetime) -> str:
        """The first guard that says no, as a sentence; empty where none does."""
        case = self.case
        look = Looked(case.route, self.channel, self.person.address, self.person.to == "customer", case.event, case.reading, case.variables, case.setup, case.facts, case.now, due_at)
        for guard in GUARDS:
            if (self.instead and guard in FIRST_ONLY) or (case.by_hand and guard in NOT_BY_HAND):
                continue
            said = guard(look)
            if said is None:
                continue
            if said.why:
                return self._no("guards", said.saw, said.why)
            self._yes("guards", said.saw)
        return ""


def _leaves(verdict: Holds) -> list[Holds]:
    return [leaf for inner in verdict.inner for leaf in _leaves(inner)] if verdict.inner else [verdict] if verdict.said else []


def over_cap(sms: RenderedSms, gateway: Gateway) -> str:
    """Why an SMS is too long for a gateway, as a sentence; empty where it is not."""
    if sms.count.segments <= gateway.max_segments:
        return ""
    return f"The SMS takes {sms.count.segments} segments, and {gateway.name} allows {gateway.max_segments}."


def values_for(names: frozenset[str], reading: Reading, variables: Variables) -> tuple[dict[str, Value], list[Problem]]:
    """The values that a template needs, and what is missing among them. `order` is the order as read."""
    wanted = sorted(names - {"order"})
    values = variables.values(wanted)
    if "order" in names:
        values["order"] = reading.order()
    return values, variables.problems(wanted)


def customer(channel: str, reading: Reading) -> tuple[str, str, str]:
    """The customer's address and name for a channel; or why there is none."""
    part = "email" if channel == "email" else "phone"
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
