"""The one piece of code that decides. A rehearsal, a check, "why not?" and the worker all call `plan`."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, Literal, NamedTuple

from angelon.core import event_types
from angelon.core.messages.channel import Part
from angelon.core.messages.channels import CHANNEL_LABELS, address_key, compiled_part
from angelon.core.messages.known_fields import GIVEN, PARCEL_FIELDS, SAMPLE_DOWNLOAD, SAMPLE_GIVEN, SAMPLE_QUESTION
from angelon.core.planning.asked import as_route
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.guards import FIRST_ONLY, GUARDS, NOT_WHEN_MANUAL, GuardInput
from angelon.core.planning.inputs import ActiveRoute, Event, Facts, PriorSend, Setup
from angelon.core.planning.people import Person, people, recipient_key
from angelon.core.planning.permission import nobody_at
from angelon.core.planning.senders import sender_problem
from angelon.core.planning.subjects import worked_condition
from angelon.core.planning.trace_lines import TraceLine
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading, read
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.recipients import Recipient
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store
from angelon.core.specs.timing import Timing
from angelon.core.states import State
from angelon.core.templates import CantRender
from angelon.core.timing.due import describe, due
from angelon.core.timing.places import is_holiday, zone_of
from angelon.core.values import Day, Value, format_locale


class PlannedSend(NamedTuple):
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
    """Which of the route's ways it takes: 0 its own, then those of `fallback`."""
    trace: Sequence[TraceLine] = ()
    format_locale: str = ""
    """How numbers and days are written; empty where that is as the shop does."""


@dataclass(frozen=True, slots=True)
class Decision:
    """What one route made of one event: a send for each recipient, or none, and the trace."""

    route: str
    outcome: Literal["send", "held", "skipped", "no", "waits"]
    """`waits` is a decision that is taken once an answer has come."""
    trace: list[TraceLine]
    sends: list[PlannedSend] = field(default_factory=list)
    fault: str = ""
    """What went wrong inside Angelon where this route could not be evaluated; empty where nothing did."""

    @property
    def send(self) -> PlannedSend | None:
        """The first send."""
        return self.sends[0] if self.sends else None

    @property
    def reason(self) -> str:
        """The line that settled it, as a sentence."""
        settled = next((line for line in self.trace if line.verdict in ("no", "problem", "waits")), None)
        return settled.why if settled and self.outcome != "send" else ""


def work_out(
    source: Source, setup: Setup, payload: Any, given: Mapping[str, Value] | None = None
) -> tuple[Reading, Variables]:
    """A payload read as an order, and its variables ready to be worked out; `given` values stand in place of the
    recipes'.
    """
    reading = read(source, setup.store, payload, setup.tables)
    return reading, Variables(dict(setup.variables), source.recipes, reading.context, given)


def plan(
    event: Event,
    reading: Reading,
    variables: Variables,
    setup: Setup,
    facts: Facts,
    now: dt.datetime,
    done: Collection[str] = (),
    only: Collection[str] | None = None,
    happened: dt.datetime | None = None,
    turn: Sequence[ActiveRoute] | None = None,
) -> list[Decision]:
    """What each active route makes of an event. Pure: the same arguments give the same decisions.

    Routes in `done` have decided before and are passed over, and so are those that are not in `only`, where that is
    given. `turn` are those that are asked, in the order of `in_turn`, where not all of the set-up are: those that
    listen to such events. One that is sent after another waits for its decision. `happened` is the moment by which
    conditions on days go (aware) where a decision is taken later than that; what is sent is due by `now`.

    A route that raises decides nothing, with its `fault`; the others are not touched. Routes have their say by rank,
    and each knows what those before it are about to tell. What they ask alike is worked out once, whichever asks first.
    """
    context = PlanningContext(event, reading, variables, setup, facts, now)
    if happened is not None:
        context.today = happened.astimezone(context.zone).date()
    made: dict[str, Decision] = {}
    for active in in_turn(setup.routes) if turn is None else turn:
        if active.route.key in done or (only is not None and active.route.key not in only):
            continue
        evaluation = _RouteEvaluation(context, active.route, facts, awaits=_awaits(active.route, event, made, setup))
        decision = made[active.route.key] = _decide(evaluation, active.since)
        if decision.sends:
            label = tuple(prior_send_of(send, event, now) for send in decision.sends if send.state is not State.SKIPPED)
            facts = facts.after(label) if label else facts
    return [made[active.route.key] for active in setup.routes if active.route.key in made]


def _awaits(route: Route, event: Event, made: Mapping[str, Decision], setup: Setup) -> str:
    """What a route's decision waits for; empty where it waits for nothing. It waits with those before it on whose
    decision its own guards depend: the one that it is sent after, and one that would tell the same by the same message.
    """
    if not event.awaits:
        return ""
    if why := event.awaits.get(route.key, ""):
        return why
    for before in made.values():
        if before.outcome != "waits":
            continue
        if route.guards.after_route == before.route or (not route.handler and _same_text(route, before.route, setup)):
            return f"It waits for the decision of the route “{before.route}”."
    return ""


def _same_text(route: Route, before: str, setup: Setup) -> bool:
    other = next((active.route for active in setup.routes if active.route.key == before), None)
    same = other is not None and not other.handler and (other.send, other.channel) == (route.send, route.channel)
    return same and not route.guards.even_if_notified


def in_turn(routes: Sequence[ActiveRoute]) -> list[ActiveRoute]:
    """Routes in the order in which they have their say: by rank, and none before the one that it speaks after. Those
    that give way to a question come after all that may ask one.
    """
    made: list[ActiveRoute] = []
    waiting = sorted(routes, key=lambda active: (active.route.guards.unless_asking, active.route.priority))
    while waiting:
        left = {active.route.key for active in waiting}
        ready = [active for active in waiting if active.route.guards.after_route not in left - {active.route.key}]
        if not ready:  # they wait for one another
            return made + waiting
        if len(ready) == len(waiting):
            return made + ready
        made += ready
        spoken = {active.route.key for active in ready}
        waiting = [active for active in waiting if active.route.key not in spoken]
    return made


def prior_send_of(send: PlannedSend, event: Event, now: dt.datetime, out: bool = False) -> PriorSend:
    """A planned send as guards of what follows look at it."""
    made = (send.route, send.channel, send.recipient, now, send.due_at, out, send.to == "customer", send.message)
    return PriorSend(*made, event.source, event.type, event.now)


def decide(
    event: Event,
    reading: Reading,
    variables: Variables,
    active: ActiveRoute,
    setup: Setup,
    facts: Facts,
    now: dt.datetime,
    manual: bool = False,
) -> Decision:
    """One route's decision. Parts are looked at in the order in which the sentence reads; the first no ends it.

    Run by hand, a route takes whatever event it is given, and of its timing only the hours count.
    """
    return _decide(
        _RouteEvaluation(PlanningContext(event, reading, variables, setup, facts, now), active.route, facts, manual),
        active.since,
    )


def _decide(evaluation: _RouteEvaluation, since: dt.datetime) -> Decision:
    """One route's decision, whatever happens on the way: what raises is this route's fault and nobody else's."""
    try:
        return _decided(evaluation, since)
    except Exception as error:
        fault = f"{type(error).__name__}: {' '.join(str(error).split())[:200]}"
        line = TraceLine(
            "when", "problem", _happened(evaluation.context.event), f"The route could not be evaluated: {fault}"
        )
        return Decision(evaluation.route.key, "no", [line], fault=fault)


def _decided(evaluation: _RouteEvaluation, since: dt.datetime) -> Decision:
    route, context = evaluation.route, evaluation.context
    event = context.event
    if evaluation.manual:
        trace = [TraceLine("when", "yes", "manual run")]
    else:
        saw = _happened(event)
        if event.type not in route.when:
            return _no(
                route,
                [],
                "when",
                saw,
                f"The event is {saw}, and the route waits for {_or([event_types.label(t) for t in route.when])}.",
            )
        if event.received_at < since:
            return _no(
                route,
                [],
                "when",
                saw,
                "The event came before the route was switched on "
                f"({since.astimezone(context.zone):%-d %B %Y %H:%M %Z}).",
            )
        placed = context.reading.moment("placed_at") if route.only_new_orders else None
        if placed is not None and placed < _as_exact_as(placed, since) and event.type != "order.created":
            return _no(
                route,
                [],
                "when",
                saw,
                f"The order was placed on {placed.astimezone(context.zone):%-d %B %Y %H:%M}, before the route was "
                f"switched on ({since.astimezone(context.zone):%-d %B %Y %H:%M %Z}), and it is for orders placed "
                "since.",
            )
        sources = context.setup.sources
        source_name = sources[event.source].name if event.source in sources else event.source
        trace = [TraceLine("when", "yes", saw)]
        if event.source not in route.sources:
            names = [sources[key].name if key in sources else key for key in route.sources]
            return _no(
                route,
                trace,
                "from",
                source_name,
                f"The event is from {source_name}, and the route listens to {_or(names)}.",
            )
        trace.append(TraceLine("from", "yes", source_name))
    if evaluation.awaits:
        return Decision(
            route.key, "waits", [*trace, TraceLine("answer", "waits", "not answered yet", evaluation.awaits)]
        )
    held = _only_if(evaluation, trace)
    if held is None:
        return Decision(route.key, "no", trace)
    return _by_handler(evaluation, trace, held) if route.handler else _for_everybody(evaluation, trace, held)


def _as_exact_as(moment: dt.datetime, other: dt.datetime) -> dt.datetime:
    """Another moment, as exact as this one is told: stores tell when an order was placed to the second, the minute or
    the day. Both are aware.
    """
    if moment.microsecond:
        return other
    other = other.astimezone(moment.tzinfo).replace(microsecond=0)
    if moment.second:
        return other
    other = other.replace(second=0)
    return other if moment.hour or moment.minute else other.replace(hour=0, minute=0)


def _no(route: Route, trace: list[TraceLine], part: str, saw: str, why: str) -> Decision:
    return Decision(route.key, "no", [*trace, TraceLine(part, "no", saw, why)])


def _happened(event: Event) -> str:
    """What happened, in words."""
    if event.type in event_types.CHANGES.values() and event.now:
        return f"was {event.was or 'unknown'}, now {event.now}"
    return event_types.label(event.type) if event.type else f"“{event.name}”, which is not mapped to an event yet"


FALLBACK_USED = "The fallback is used."
"""What the trace of a fallback's send says after the reason why the first did not do."""


def plan_fallback(
    event: Event,
    reading: Reading,
    variables: Variables,
    route: Route,
    setup: Setup,
    facts: Facts,
    now: dt.datetime,
    recipient: Recipient,
    after_step: int,
    why: str,
    *,
    manual: bool = False,
) -> PlannedSend | None:
    """The send by the next way that the reader can be reached by, after the way `after_step` has come to nothing; None
    where none is left. One that may not be used (the customer said STOP there) is passed over where another may;
    where none may, it is given, skipped. `manual` is whether the send that it follows is of a run by hand.
    """
    evaluation = _RouteEvaluation(PlanningContext(event, reading, variables, setup, facts, now), route, facts, manual)
    passed_over = None
    for step in range(after_step + 1, len(route.fallback.options) + 1):
        gateway, channel, _ = route.option(step)
        for person in people(evaluation.context, recipient, channel, gateway):
            if person.address:
                line = TraceLine("fallback", "yes", why)
                send = _SendBuilder(evaluation, person, step, [line], [], is_fallback=True).send()
                if send.state is not State.SKIPPED:
                    return send
                passed_over = passed_over or send
    return passed_over


def reached(
    event: Event,
    reading: Reading,
    variables: Variables,
    route: Route,
    setup: Setup,
    whom: str,
    channel: str,
    gateway: str = "",
) -> tuple[str, str, str]:
    """Address and name of the recipient that a send names (`recipient_key`), as they are read now; or why there is
    none.
    """
    context = PlanningContext(event, reading, variables, setup, Facts(), event.received_at)
    found = [
        person
        for recipient in route.to
        if recipient_key(recipient) == whom
        for person in people(context, recipient, channel, gateway)
    ]
    if not found:
        return "", "", "The route no longer sends to this recipient."
    chosen = next((person for person in found if person.address), found[0])
    return chosen.address, chosen.name, chosen.why


@dataclass(slots=True, eq=False)
class _RouteEvaluation:
    """One event before one route. `facts` count what routes before it are about to tell."""

    context: PlanningContext
    route: Route
    facts: Facts
    manual: bool = False
    awaits: str = ""
    """What its decision waits for."""


def _only_if(evaluation: _RouteEvaluation, trace: list[TraceLine]) -> list[str] | None:
    """Looks at the route's conditions: None where one says no, else what holds the send since it can't be evaluated."""
    if not evaluation.route.only_if.of:
        return []
    verdict = worked_condition(evaluation.route.only_if, evaluation.context)
    saw = "; ".join(f"{part.label}: {part.saw or 'empty'}" for part in verdict.leaves())[:400]
    if verdict.problem:
        trace.append(TraceLine("if", "problem", saw, verdict.problem))
        return [verdict.problem]
    if not verdict.yes:
        trace.append(TraceLine("if", "no", saw, verdict.why_not()))
        return None
    trace.append(TraceLine("if", "yes", saw))
    return []


def _by_handler(evaluation: _RouteEvaluation, trace: list[TraceLine], held: list[str]) -> Decision:
    """What a handler has asked for: each send as a route of that message, way and recipient would make it."""
    route, context = evaluation.route, evaluation.context
    asked = context.event.asked.get(route.handler)
    if asked is None and context.setup.asks is not None:
        asked = context.setup.asks(route.handler, context)
    if asked is None:
        return _no(route, trace, "handler", route.handler, f"The handler {route.handler} has not run for this event.")
    if asked.problem:
        why = f"The handler failed: {asked.problem.strip().splitlines()[-1][:300]}"
        return Decision(route.key, "no", [*trace, TraceLine("handler", "problem", asked.file, why)], fault=why)
    if asked.skip or not asked.sends:
        saw = f"{asked.file}:{asked.skip_line}" if asked.skip_line else asked.file
        why = f"The handler skips it: {asked.skip}." if asked.skip else "The handler asks for nothing to be sent."
        return _no(route, trace, "handler", saw, why)
    sends: list[PlannedSend] = []
    lines: list[TraceLine] = []
    for one in asked.sends:
        own, given, problem = as_route(route, one, context)
        line = TraceLine("handler", "problem" if problem else "yes", f"{asked.file}:{one.line}", problem)
        around = PlanningContext(context.event, context.reading, given, context.setup, context.facts, context.now)
        asking = _RouteEvaluation(around, own, evaluation.facts, evaluation.manual)
        made = _for_everybody(asking, [*trace, line], [problem, *held] if problem else held)
        sends += made.sends
        lines += [line, *made.trace[len(trace) + 1 :]]
    states = {send.state for send in sends}
    outcome: Literal["send", "held", "skipped"] = (
        "send" if State.SCHEDULED in states else "held" if State.HELD in states else "skipped"
    )
    return Decision(route.key, outcome, trace + lines, sends)


def _for_everybody(evaluation: _RouteEvaluation, trace: list[TraceLine], held: list[str]) -> Decision:
    """A send for each address of each recipient."""
    route, context = evaluation.route, evaluation.context
    sends: list[PlannedSend] = []
    lines: list[TraceLine] = []
    several = len(route.to) > 1
    if not route.to:
        lines.append(TraceLine("to", "problem", "nobody", "The route has no recipient."))
        sends.append(
            PlannedSend(
                route.key,
                route.send,
                route.channel,
                route.gateway,
                "",
                "",
                context.setup.store.locale,
                context.now,
                State.HELD,
                "The route has no recipient.",
                {},
                "customer",
                0,
                [*trace, *lines],
            )
        )
    for recipient in route.to:
        for person in people(context, recipient, route.channel, route.gateway):
            chosen, step, detour = person, 0, None
            if _unreachable(evaluation, person, route.channel):
                chosen, step, detour = _other_way(evaluation, person)
            builder = _SendBuilder(evaluation, chosen, step, list(trace), held)
            if detour:
                builder.trace.append(detour)
            send = builder.send()
            if sends and any(
                send.recipient and (send.channel, send.recipient) == (other.channel, other.recipient) for other in sends
            ):
                continue  # the same address by two names hears it once
            sends.append(send)
            own = send.trace[len(trace) :]
            lines.extend(
                [line._replace(saw=f"{person.recipient.label}: {line.saw}") for line in own] if several else own
            )
    states = [send.state for send in sends]
    outcome: Literal["send", "held", "skipped"] = (
        "send" if State.SCHEDULED in states else "held" if State.HELD in states else "skipped"
    )
    return Decision(route.key, outcome, trace + lines, sends)


def _other_way(evaluation: _RouteEvaluation, person: Person) -> tuple[Person, int, TraceLine | None]:
    """The first of the other ways by which somebody who can't be reached by the route's own can be."""
    why = _unreachable(evaluation, person, evaluation.route.channel)
    for step in range(1, len(evaluation.route.fallback.options) + 1):
        gateway, channel, _ = evaluation.route.option(step)
        for other in people(evaluation.context, person.recipient, channel, gateway):
            if not _unreachable(evaluation, other, channel):
                return other, step, TraceLine("fallback", "yes", f"{why} So by {CHANNEL_LABELS[channel]}.")
    return person, 0, None


def _unreachable(evaluation: _RouteEvaluation, person: Person, channel: str) -> str:
    """Why somebody can't be reached by a channel, as a sentence: no address, or nobody there. Empty where they can."""
    if not person.address:
        return person.why
    why = nobody_at(evaluation.context.facts.suppressed, address_key(channel, person.address))
    return f"{person.address} can't be reached: {why}{'' if why.endswith('.') else '.'}" if why else ""


class _Text(NamedTuple):
    """A message's part before an occasion: in which language, with which values; or why it can't go."""

    locale: str
    values: dict[str, Value]
    saw: str
    why: str = ""


def _text(context: PlanningContext, option: tuple[str, str, str], locale: str, whom: str) -> _Text:
    """The text of a way (gateway, channel, message) for a reader of `locale`."""
    clock = clock_of(context.setup.store, whom, context.reading)
    cache_key = ("text", *option, locale, clock)
    found: _Text | None = context.kept.get(cache_key)
    if found is None:
        found = context.kept[cache_key] = _worked_text(context, option, locale, clock)
    return found


def _worked_text(context: PlanningContext, option: tuple[str, str, str], locale: str, clock: dt.tzinfo | None) -> _Text:
    (gateway_key, channel, message_key), setup = option, context.setup
    message = setup.messages.get(message_key)
    if message is None:
        return _Text(
            locale,
            {},
            "no message",
            "The route's message is not published." if message_key else "The route has no message yet.",
        )
    chosen = message.locale_for(channel, locale or setup.store.locale)
    if chosen is None:
        return _Text(locale, {}, message.name, f"“{message.name}” has no {CHANNEL_LABELS[channel]} part.")
    try:
        compiled = compiled_part(message, channel, chosen, setup.store)
    except Invalid as error:
        return _Text(chosen, {}, message.name, f"“{message.name}” can't be made: {error.problems[0].what}")
    values, missing = values_for(compiled.names, context.reading, context.variables, clock)
    saw = f"{message.name}, in {chosen}"
    if missing:
        unanswered = next(
            (
                f" “{name}” was asked in vain: {why}"
                for name, why in context.event.unanswered.items()
                if f"+{name}" in missing[0].what
            ),
            "",
        )
        return _Text(chosen, values, saw, missing[0].what + unanswered)
    if setup.approval(gateway_key, message, chosen, compiled) is None:
        return _Text(chosen, values, saw, f"The chat text in {chosen} is not approved by the provider yet.")
    return _Text(
        chosen, values, saw, _hole(compiled, values) or _too_long(compiled, values, setup.gateways.get(gateway_key))
    )


def _hole(compiled: Part, values: Mapping[str, Value]) -> str:
    """What is missing where the text shows it; empty where nothing is. Rendered only where something that it uses is
    missing.
    """
    order = values.get("order")
    missing = bool(compiled.shop_gaps) or any(values.get(name) is None for name in compiled.names)
    if isinstance(order, dict) and not missing:
        missing = any(order.get(part) is None for part in compiled.needed_order_fields) or any(
            _incomplete(order.get(part)) for part in compiled.order_fields
        )
    if not missing:
        return ""
    try:
        compiled.render(values)
    except CantRender as error:
        return error.problem.what
    return ""


def _incomplete(value: Value) -> bool:
    """Whether something is missing in one of an order's lines or parcels."""
    return isinstance(value, list) and any(
        inner is None for item in value if isinstance(item, dict) for inner in item.values()
    )


def _too_long(compiled: Part, values: dict[str, Value], gateway: Gateway | None) -> str:
    """Why a gateway may not take the text at its length; empty where it may."""
    if gateway is None or not compiled.limited:
        return ""
    try:
        return compiled.render(values).problem_for(gateway)
    except CantRender as error:
        return error.problem.what


class _SendBuilder:
    """One send on its way into being: a method for each part of the sentence."""

    __slots__ = (
        "channel",
        "context",
        "evaluation",
        "format_locale",
        "gateway_key",
        "held",
        "is_fallback",
        "locale",
        "message_key",
        "person",
        "step",
        "trace",
        "values",
    )

    def __init__(
        self,
        evaluation: _RouteEvaluation,
        person: Person,
        step: int,
        trace: list[TraceLine],
        held: list[str],
        is_fallback: bool = False,
    ) -> None:
        self.evaluation, self.person, self.step, self.is_fallback = evaluation, person, step, is_fallback
        self.context = evaluation.context
        self.gateway_key, self.channel, self.message_key = evaluation.route.option(step)
        self.trace = trace
        self.held = list(held)
        self.locale, self.format_locale = person.locale, ""
        self.values: dict[str, Value] = {}

    def send(self) -> PlannedSend:
        self._send()
        nobody = self._to()
        self._by()
        due_at, too_late = self._timing()
        state, reason = (State.HELD, self.held[0]) if self.held else (State.SCHEDULED, "")
        refused = nobody or ("" if self.is_fallback else self._once()) or too_late or self._guards(due_at)
        if refused:
            state, reason = State.SKIPPED, refused
        return PlannedSend(
            self.evaluation.route.key,
            self.message_key,
            self.channel,
            self.gateway_key,
            self.person.address,
            self.person.name,
            self.locale,
            due_at,
            state,
            reason,
            self.values,
            self.person.to,
            self.step,
            self.trace,
            self.format_locale,
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
        way = (self.gateway_key, self.channel, self.message_key)
        text = _text(self.context, way, self.locale, self.person.to)
        country = self.context.setup.store.country
        self.format_locale = format_locale(text.locale, self.locale, country)
        self.locale, self.values = text.locale, dict(text.values)
        if text.why:
            self._problem("send", text.saw, text.why)
        else:
            self._yes("send", text.saw)

    def _to(self) -> str:
        """Why the send is skipped for want of an address; empty where it is not."""
        if self.person.address:
            self._yes("to", self.person.address)
        elif self.evaluation.route.fallback.no_address == "skip":
            return self._no("to", "nobody", f"{self.person.why} The route skips those.")
        else:
            self._problem("to", "nobody", self.person.why)
        return ""

    def _by(self) -> None:
        gateway = self.context.setup.gateways.get(self.gateway_key)
        if gateway is None:
            self._problem(
                "by",
                "no gateway",
                "The route has no gateway yet."
                if not self.gateway_key
                else f"There is no gateway “{self.gateway_key}”.",
            )
        elif gateway.channel != self.channel:
            self._problem(
                "by",
                gateway.name,
                f"{gateway.name} sends {CHANNEL_LABELS[gateway.channel]}, and the route sends "
                f"{CHANNEL_LABELS[self.channel]}.",
            )
        elif gateway.off:
            self._problem("by", gateway.name, f"{gateway.name} {gateway.off}.")
        elif why := sender_problem(
            self.evaluation.route, self.context.setup.messages.get(self.message_key), gateway, self.context.setup.store
        ):
            self._problem("by", gateway.name, why)
        else:
            self._yes("by", gateway.name)

    def _timing(self) -> tuple[dt.datetime, str]:
        """When it is due, and why it can't be any more (empty where it can)."""
        context, timing = self.context, self.evaluation.route.timing
        now = context.now
        if self.is_fallback or self.evaluation.manual:
            timing = Timing(
                window=timing.window, zone=timing.zone
            )  # its time has come already; only the hours still count
        if timing.at_once:
            self._yes("timing", "at once")
            return now, ""
        anchor = self._anchor(timing)
        if anchor is None:
            return now, ""
        zone, whose = (
            context.reader
            if timing.zone == "recipient" and self.person.recipient.kind == "customer"
            else (context.zone, "the shop’s time")
        )
        found = due(timing, anchor, now, zone, lambda day: is_holiday(context.country, day))
        if found.at is None:
            return now, self._no("timing", describe(timing), found.why)
        saw = found.why if found.at <= now else f"{found.why}: {_shown(found.at.astimezone(zone))}, {whose}"
        self._yes("timing", saw)
        return found.at, ""

    def _anchor(self, timing: Timing) -> dt.datetime | dt.date | None:
        """What the timing counts from; None, with the problem told, where there is none."""
        context = self.context
        if timing.anchor == "placed":
            placed = context.reading.moment("placed_at")
            if placed is None:
                self._problem(
                    "timing", "no date", "The order does not say when it was placed, and the timing counts from there."
                )
            return placed
        if timing.anchor == "expected":
            evaluation = context.variables[timing.variable] if timing.variable in context.setup.variables else None
            if evaluation is None or not isinstance(evaluation.value, Day):
                self._problem(
                    "timing",
                    "no day",
                    f"“{timing.variable}” has no day for this order, and the timing counts from there.",
                )
                return None
            return evaluation.value.value
        if timing.anchor == "previous":
            return max(
                (one.due_at for one in self.evaluation.facts.prior_sends if one.to_customer),
                default=context.event.received_at,
            )
        return context.event.received_at

    def _once(self) -> str:
        """Why the route may not speak again; empty where it may."""
        route, reading, facts = self.evaluation.route, self.context.reading, self.evaluation.facts
        if route.once == "customer":
            last = facts.last_sent_to_customer.get(route.key)
            last = last.astimezone(self.context.zone) if last is not None else None
            if last is not None and (
                not route.once_days or self.context.now - last < dt.timedelta(days=route.once_days)
            ):
                span = f" in {route.once_days} days" if route.once_days else ""
                return self._no(
                    "once",
                    f"sent to them on {last:%-d %B %Y}",
                    f"This route sent to the customer on {last:%-d %B %Y}, and it sends once per customer{span}.",
                )
            self._yes("once", "first for this customer" if last is None else f"last on {last:%-d %B %Y}")
        elif route.once != "order":
            self._yes("once", "for every event")
        elif not reading.reference:
            self._yes("once", "the event names no order")
        elif (route.key, self.context.event.source, reading.reference) in facts.sent_for_order:
            return self._no(
                "once",
                f"sent for {reading.number} before",
                f"This route has already sent for order {reading.number}, and it sends once per order.",
            )
        else:
            self._yes("once", f"first for {reading.number}")
        return ""

    def _guards(self, due_at: dt.datetime) -> str:
        """The first guard that says no, as a sentence; empty where none does."""
        evaluation = self.evaluation
        look = GuardInput(
            evaluation.route,
            self.channel,
            self.person.address,
            self.person.recipient.kind == "customer",
            self.context,
            evaluation.facts,
            due_at,
            self.message_key,
        )
        for guard in GUARDS:
            if (self.is_fallback and guard in FIRST_ONLY) or (evaluation.manual and guard in NOT_WHEN_MANUAL):
                continue
            label = guard(look)
            if label is None:
                continue
            if label.why:
                return self._no("guards", label.saw, label.why)
            self._yes("guards", label.saw)
        return ""


_MONTHS = (
    "",
    "January",
    "February",
    "March",
    "April",
    "Scopes",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)


def _shown(at: dt.datetime) -> str:
    """`5 March 09:05`."""
    return f"{at.day} {_MONTHS[at.month]} {at.hour:02}:{at.minute:02}"


@lru_cache(maxsize=2048)
def _by_name(names: frozenset[str]) -> list[str]:
    return sorted(names - GIVEN)


def values_for(
    names: frozenset[str], reading: Reading, variables: Variables, zone: dt.tzinfo | None = None
) -> tuple[dict[str, Value], list[Problem]]:
    """The values that a template needs, and what is missing among them. `order` is the order as read.

    Moments are by the shop's clock; with a `zone` those are by the clock of that zone.
    """
    wanted = _by_name(names)
    # variables that were there before questions and parcels were
    wanted = [
        *wanted,
        *(name for name in ("question", "parcel", "given", "download") if name in names and name in variables.names()),
    ]
    values = variables.values(wanted)
    if "order" in names:
        values["order"] = reading.order()
    if "question" in names:
        values.setdefault("question", dict(SAMPLE_QUESTION))
    if "download" in names:
        values.setdefault("download", dict(SAMPLE_DOWNLOAD))
    if "given" in names:
        values.setdefault("given", SAMPLE_GIVEN)
    if "parcel" in names:
        values.setdefault("parcel", dict.fromkeys(PARCEL_FIELDS) | reading.parcel)
    if zone is not None and zone != reading.context.zone:
        values = {name: _moved(value, reading.context.zone, zone) for name, value in values.items()}
    return values, variables.problems(wanted)


def _moved(value: Value, shop: dt.tzinfo, zone: dt.tzinfo) -> Value:
    """A value with its moments in another zone, those that are by the shop's clock."""
    if isinstance(value, Day):
        moment = value.value
        by_shop = isinstance(moment, dt.datetime) and moment.tzinfo == shop
        return replace(value, value=moment.astimezone(zone)) if by_shop else value  # type: ignore[attr-defined]
    if isinstance(value, dict):
        return {name: _moved(inner, shop, zone) for name, inner in value.items()}
    return [_moved(inner, shop, zone) for inner in value] if isinstance(value, list) else value


def clock_of(store: Store, whom: str, reading: Reading) -> dt.tzinfo | None:
    """By whose clock the times in a message are: the reader's zone where the store says so and a customer reads it
    (`whom` as in `recipient_key`), else the shop's, as None.
    """
    if store.reader_times != "reader" or whom != "customer":
        return None
    country = reading.context.country or store.country
    return zone_of(country, reading.text("phone"), store.timezone)[0]


def _or(names: list[str]) -> str:
    if not names:
        return "nothing yet"
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"
