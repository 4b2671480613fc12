"""A route as a sentence: what each part says, in words."""

from __future__ import annotations

from collections.abc import Mapping

from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.specs.route import Route


def listed(words: list[str], last: str = "and") -> str:
    """Words as a list that ends in “and” or “or”."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} {last} {words[-1]}" if words else ""


def describe_recipients(route: Route) -> str:
    """Whom the route speaks to."""
    return listed([recipient.label for recipient in route.to]) or "nobody yet"


def describe_once(route: Route) -> str:
    """How often at most, by the route's own count."""
    if route.once == "customer":
        return f"once per customer in {_days(route.once_days)}" if route.once_days else "once per customer"
    return f"once per {route.once}"


def describe_guards(route: Route, routes: Mapping[str, str]) -> str:
    """The other guards; `routes` are the names of routes by key. Empty where there is none."""
    guards = route.guards
    label = []
    if guards.after_route:
        label.append(f"only after “{routes.get(guards.after_route, guards.after_route)}”")
    if guards.after_answer:
        label.append("only after the customer’s answer")
    if guards.unless_answered:
        label.append("only while the customer has not answered")
    if guards.unless_asking:
        label.append("not while a question is open")
    label += [
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
        label.append(f"not for {' or '.join(skipped)} orders")
    if guards.even_if_notified:
        label.append("even if another route tells them")
    return ", ".join(label)


def describe_fallback(route: Route, gateways: Mapping[str, str], messages: Mapping[str, str]) -> str:
    """What follows when the way does not work; names by key. Empty where nothing does."""
    other = route.fallback
    label = []
    for option in other.options:
        text = f" with “{messages.get(option.send, option.send)}”" if option.send and option.send != route.send else ""
        label.append(f"{CHANNEL_LABELS[option.channel]} through {gateways.get(option.gateway, option.gateway)}{text}")
    made = ", then ".join(label)
    if made and other.within_minutes:
        made = f"if it is not out in {_minutes(other.within_minutes)}, {made}"
    if other.tell:
        made = f"{made}, then tell the {other.tell}" if made else f"tell the {other.tell}"
    if other.no_address == "skip":
        made = f"{made}; skip it where there is no address" if made else "skip it where there is no address"
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
