"""A route as a sentence: what each part says, in words."""

from __future__ import annotations

from collections.abc import Mapping

from angelon.core.specs.route import Route

CALLED = {"email": "email", "sms": "SMS", "chat": "chat"}
"""What people call a channel."""


def listed(words: list[str], last: str = "and") -> str:
    """Words as a list that ends in “and” or “or”."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} {last} {words[-1]}" if words else ""


def said_to(route: Route) -> str:
    """Whom the route speaks to."""
    return listed([recipient.label for recipient in route.to]) or "nobody yet"


def said_once(route: Route) -> str:
    """How often at most, by the route's own count."""
    if route.once == "customer":
        return f"once per customer in {_days(route.once_days)}" if route.once_days else "once per customer"
    return f"once per {route.once}"


def said_guards(route: Route, routes: Mapping[str, str]) -> str:
    """The other guards; `routes` are the names of routes by key. Empty where there is none."""
    guards = route.guards
    said = []
    if guards.after_route:
        said.append(f"only after “{routes.get(guards.after_route, guards.after_route)}”")
    if guards.after_answer:
        said.append("only after the customer’s answer")
    said += [
        (
            f"at most {cap.most} message{'s' if cap.most > 1 else ''} per "
            f"{cap.per}{f' in {_days(cap.days)}' if cap.days else ''}"
        )
        for cap in guards.caps
    ]
    skipped = [
        word for word, there in (("discounted", guards.skip_discounted), ("refunded", guards.skip_refunded)) if there
    ]
    if skipped:
        said.append(f"not for {' or '.join(skipped)} orders")
    if guards.even_if_told:
        said.append("even if another route tells them")
    return ", ".join(said)


def said_otherwise(route: Route, gateways: Mapping[str, str], messages: Mapping[str, str]) -> str:
    """What follows when the way does not work; names by key. Empty where nothing does."""
    other = route.otherwise
    said = []
    for way in other.ways:
        text = f" with “{messages.get(way.send, way.send)}”" if way.send and way.send != route.send else ""
        said.append(f"{CALLED[way.channel]} through {gateways.get(way.gateway, way.gateway)}{text}")
    made = ", then ".join(said)
    if made and other.within_minutes:
        made = f"if it is not out in {_minutes(other.within_minutes)}, {made}"
    if other.tell:
        made = f"{made}, then tell the {other.tell}" if made else f"tell the {other.tell}"
    return made


def _days(number: int) -> str:
    return f"{number} day{'s' if number != 1 else ''}"


def _minutes(number: int) -> str:
    hours, minutes = divmod(number, 60)
    parts = [
        f"{hours} hour{'s' if hours > 1 else ''}" if hours else "",
        f"{minutes} minute{'s' if minutes > 1 else ''}" if minutes else "",
    ]
    return " ".join(part for part in parts if part)
