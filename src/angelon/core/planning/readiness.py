"""What keeps a route from going live, and what is to be minded: whatever the event. Pure."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping

from angelon.core.calls import text_missing
from angelon.core.messages.channels import CHANNEL_LABELS, address_label, check_address
from angelon.core.planning.inputs import Setup
from angelon.core.planning.senders import sender_problem
from angelon.core.planning.sentence import listed
from angelon.core.planning.subjects import checked
from angelon.core.problems import Problem
from angelon.core.specs.condition import compares
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.route import Route
from angelon.core.specs.timing import Timing


def problems_of(
    route: Route, setup: Setup, routes: Mapping[str, str] | None = None, today: dt.date | None = None
) -> list[Problem]:
    """Errors keep the route off; warnings do not. `routes` are the names of all routes by key; `today` by the store's
    clock.
    """
    if route.handler:  # what it sends is said by its code, event by event
        return [*_when(route, setup), *_if(route, setup)]
    return [
        *_when(route, setup),
        *_if(route, setup),
        *_way(route, setup, "send", "by", route.send, route.gateway, route.channel),
        *_to(route, setup),
        *_timing(route, setup, today),
        *_guards(route, setup, routes),
        *_marks(route, setup),
        *_fallback(route, setup),
        *_echoes(route, setup),
        *_before_an_answer(route, setup),
    ]


def _when(route: Route, setup: Setup) -> list[Problem]:
    found = []
    if route.by_hand:
        return (
            [Problem("when", "It waits for no event, so none may be chosen.", "Take them out.")] if route.when else []
        )
    if not route.when:
        found.append(Problem("when", "No event is chosen yet.", "Choose at least one event."))
    if not route.sources:
        found.append(Problem("from", "The route listens to no source.", "Choose at least one."))
    found += [
        Problem("from", f"There is no source “{key}” any more.", "Choose another.")
        for key in route.sources
        if key not in setup.sources
    ]
    found += [
        Problem(
            "from", f"The source {setup.sources[key].name} is off: nothing comes from it.", "Switch it on.", "warning"
        )
        for key in route.sources
        if key in setup.sources and not setup.sources[key].on
    ]
    return found


def _marks(route: Route, setup: Setup) -> list[Problem]:
    kept = {name for name, variable in setup.variables.items() if variable.keep}
    return [
        Problem("note", f"“{name}” is no variable that is kept with customers.", "Tick “keep” at the variable.")
        for name in route.marks.values
        if name not in kept
    ]


def _if(route: Route, setup: Setup) -> list[Problem]:
    found = [Problem("if", problem.what, problem.hint, problem.severity) for problem in checked(route.only_if, setup)]
    asked = {part.of.partition(".")[2] for part in compares(route.only_if) if part.of.startswith("segment.")}
    for segment in setup.store.segments:
        if segment.key in asked:
            found += [
                Problem("if", f"In the audience “{segment.name}”: {problem.what}", problem.hint, problem.severity)
                for problem in checked(segment.holds, setup)
            ]
    return found


def _way(
    route: Route, setup: Setup, send_part: str, by_part: str, send: str, gateway_key: str, channel: str
) -> list[Problem]:
    """The message and the gateway of one way."""
    found = []
    message = setup.messages.get(send)
    if message is None:
        label = "The route's message is not published yet." if send else "No message is chosen yet."
        found.append(Problem(send_part, label, "Publish it on its page." if send else "Choose a message."))
    elif channel not in message.channels():
        found.append(
            Problem(
                send_part,
                f"“{message.name}” has no {CHANNEL_LABELS[channel]} part.",
                "Write one, or choose another message or gateway.",
            )
        )
    gateway = setup.gateways.get(gateway_key)
    if gateway is None:
        found.append(
            Problem(
                by_part,
                "No gateway is chosen." if not gateway_key else f"There is no gateway “{gateway_key}” any more.",
                "Choose one.",
            )
        )
    elif gateway.channel != channel:
        found.append(
            Problem(
                by_part,
                f"{gateway.name} sends {CHANNEL_LABELS[gateway.channel]}, and this is {CHANNEL_LABELS[channel]}.",
                "Choose another.",
            )
        )
    elif gateway.off:
        hint = "Let it go on." if gateway.paused else "Open it and try the connection."
        found.append(Problem(by_part, f"{gateway.name} {gateway.off}: what is made is held.", hint, "warning"))
    missing = text_missing(gateway) if gateway is not None else None
    if missing is not None:
        found.append(Problem(by_part, missing.what, "Correct the request on the gateway’s page."))
    why = sender_problem(route, message, gateway, setup.store) if gateway is not None else ""
    if why:
        found.append(Problem(by_part, why, "Verify it with a code on the page Senders, or choose another sender."))
    return found


def _to(route: Route, setup: Setup) -> list[Problem]:
    if not route.to:
        return [Problem("to", "The route has no recipient.", "Choose at least one recipient.")]
    found = []
    gateway = setup.gateways.get(route.gateway)
    what = address_label(route.channel, gateway)
    for recipient in route.to:
        if recipient.kind == "role":
            members = [member for member in setup.store.team if member.role.casefold() == recipient.who.casefold()]
            if not members:
                found.append(
                    Problem(
                        "to",
                        f"Nobody of the shop has the role “{recipient.who}”.",
                        "Give it to somebody in Settings.",
                    )
                )
            found += [
                Problem("to", f"{member.name}, the {recipient.who}, has no {what}.", "Add it in Settings.")
                for member in members
                if not member.address(route.channel)
            ]
        elif recipient.kind == "variable" and recipient.who not in setup.variables:
            what_ = f"There is no variable “{recipient.who}” any more, which holds an address of the route."
            found.append(Problem("to", what_, "Choose another."))
        elif recipient.kind == "address" and not _fits(recipient.who, route.channel, gateway):
            found.append(
                Problem(
                    "to",
                    f"“{recipient.who}” is no {what}, and the route sends {CHANNEL_LABELS[route.channel]}.",
                    "Correct it, or take it out.",
                )
            )
    return found


def _fits(address: str, channel: str, gateway: Gateway | None) -> bool:
    try:
        check_address(channel, gateway, address)
    except ValueError:
        return False
    return True


def _timing(route: Route, setup: Setup, today: dt.date | None) -> list[Problem]:
    timing = route.timing
    found = []
    if timing.anchor == "expected" and timing.variable not in setup.variables:
        found.append(
            Problem(
                "timing",
                f"The timing counts from “{timing.variable}”, and there is no such variable any more.",
                "Choose another day.",
            )
        )
    if today and timing.not_after and not timing.yearly and timing.not_after < today:
        found.append(
            Problem(
                "timing",
                f"The last day, {timing.not_after:%-d %B %Y}, has passed: nothing would go out.",
                "Choose a later one, or none.",
            )
        )
    return found


def _guards(route: Route, setup: Setup, routes: Mapping[str, str] | None) -> list[Problem]:
    found = []
    after = route.guards.after_route
    if after == route.key:
        found.append(
            Problem("guards", "The route waits for itself to have sent, so it never sends.", "Choose another route.")
        )
    elif after and routes is not None and after not in routes:
        found.append(
            Problem(
                "guards",
                f"It is sent only after “{after}”, and there is no such route any more.",
                "Choose another, or none.",
            )
        )
    elif after and after not in {active.route.key for active in setup.routes}:
        found.append(
            Problem(
                "guards",
                f"It is sent only after “{(routes or {}).get(after, after)}”, which is off.",
                "Switch that on, or choose another.",
                "warning",
            )
        )
    if route.guards.skip_discounted and not any(
        "discount" in setup.sources[key].reading for key in route.sources if key in setup.sources
    ):
        found.append(
            Problem(
                "guards",
                "Discounted orders are to be skipped, and no source of the route reads the discount.",
                "Map “discount” on the source’s page.",
            )
        )
    for channel in {route.option(step)[1] for step in range(len(route.fallback.options) + 1)}:
        name = setup.store.consent_for(channel)
        if name and name not in setup.variables:
            found.append(
                Problem(
                    "guards",
                    f"The store asks for consent to {CHANNEL_LABELS[channel]} by “{name}”, and there is no such "
                    "variable any more.",
                    "Choose another under Suppressions.",
                )
            )
    return found


def _fallback(route: Route, setup: Setup) -> list[Problem]:
    found = []
    tried = {(route.gateway, route.send)}
    for number, option in enumerate(route.fallback.options, 1):
        gateway, channel, send = route.option(number)
        if (gateway, send) in tried:
            name = setup.gateways[gateway].name if gateway in setup.gateways else gateway
            found.append(
                Problem(
                    "fallback",
                    f"Way {number} goes by {name} again, which has been tried by then: the chain goes in a circle.",
                    "Choose another gateway, or take the way out.",
                )
            )
        tried.add((gateway, send))
        found += [
            Problem("fallback", f"Way {number}: {problem.what}", problem.hint, problem.severity)
            for problem in _way(route, setup, "", "", send, option.gateway, channel)
        ]
    tell = route.fallback.tell
    if tell and not any(member.role.casefold() == tell.casefold() and member.email for member in setup.store.team):
        found.append(
            Problem(
                "fallback",
                f"Nobody of the shop with the role “{tell}” has an email address.",
                "Give it to somebody in Settings.",
            )
        )
    if tell and not any(gateway.channel == "email" for gateway in setup.gateways.values()):
        found.append(
            Problem("fallback", "There is no gateway for email that the shop could be told by.", "Set one up.")
        )
    if route.fallback.within_minutes and not route.fallback.options:
        found.append(
            Problem(
                "fallback",
                "It says how long to wait for the next way, and there is none.",
                "Add a way, or set the time to 0.",
                "warning",
            )
        )
    return found


def _echoes(route: Route, setup: Setup) -> list[Problem]:
    """Live routes that tell the same person the same news by the same channel about the same event, at about the same
    time.
    """
    found = []
    for active in setup.routes:
        other = active.route
        if (
            other.key == route.key
            or other.channel != route.channel
            or not set(other.when) & set(route.when)
            or not set(other.sources) & set(route.sources)
            or not _same_news(route, other, setup)
        ):
            continue
        if not {(r.kind, r.who) for r in other.to} & {(r.kind, r.who) for r in route.to} or _apart(
            route.timing, other.timing, setup.store.echo_minutes
        ):
            continue
        shared = [r.label for r in route.to if (r.kind, r.who) in {(o.kind, o.who) for o in other.to}]
        both = f"“{other.name}” tells {listed(shared)} by {CHANNEL_LABELS[route.channel]} about the same event"
        if route.guards.even_if_notified:
            found.append(
                Problem(
                    "guards",
                    f"{both}, and so does this route.",
                    "Leave one out, or let a condition part them.",
                    "warning",
                )
            )
        else:
            wins = "this route" if _first(route, other, setup) else f"“{other.name}”"
            found.append(
                Problem(
                    "guards",
                    f"{both}. Where both would send, {wins} does and the other is skipped.",
                    "Change the rank, let a condition part them, or delay one.",
                    "warning",
                )
            )
    return found


def _before_an_answer(route: Route, setup: Setup) -> list[Problem]:
    """A question and another message to the same customer about the very same event: the one says what the other asks
    first.
    """
    mine = setup.messages.get(route.send)
    customer = any(recipient.kind == "customer" for recipient in route.to)
    if mine is None or not customer:
        return []
    found = []
    for other in (active.route for active in setup.routes if active.route.key != route.key):
        theirs = setup.messages.get(other.send)
        same = set(other.when) & set(route.when) and set(other.sources) & set(route.sources)
        if theirs is None or not same or not any(recipient.kind == "customer" for recipient in other.to):
            continue
        asks, tells = (route, other) if mine.question is not None else (other, route)
        both_ask = mine.question is not None and theirs.question is not None
        one_asks = mine.question is not None or theirs.question is not None
        if not one_asks or both_ask or tells.guards.unless_asking:
            continue
        what = f"“{tells.name}” goes out with the same event as the question of “{asks.name}”."
        hint = f"Under Limits of “{tells.name}”, choose “not while a question about the order is open”."
        found.append(Problem("guards", what, hint, "warning"))
    return found


def _same_news(route: Route, other: Route, setup: Setup) -> bool:
    """Whether two routes say the same thing: the same message, or one that tells of the same."""
    mine, theirs = setup.messages.get(route.send), setup.messages.get(other.send)
    return route.send == other.send or (mine is not None and theirs is not None and mine.same_news(theirs))


def _apart(one: Timing, other: Timing, minutes: int) -> bool:
    """Whether two timings are surely further apart than the span."""
    size = {"minutes": 1, "hours": 60, "days": 1440, "business_days": 1440}
    if one.anchor != other.anchor:
        return True
    return abs(one.amount * size[one.unit] - other.amount * size[other.unit]) > minutes


def _first(route: Route, other: Route, setup: Setup) -> bool:
    """Whether a route has its say before another: by rank, then as they stand in the set-up, as `plan` goes through
    them.
    """
    if route.priority != other.priority:
        return route.priority < other.priority
    keys = [active.route.key for active in setup.routes]
    return (keys.index(route.key) if route.key in keys else len(keys)) < (
        keys.index(other.key) if other.key in keys else len(keys)
    )
