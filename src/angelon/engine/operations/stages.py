"""A moment of an order's life and a channel, set up at once: a message that tells of it, and a route that sends it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from angelon.core import event_types
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Variable
from angelon.db.setup import specs
from angelon.engine.operations import messages, routes
from angelon.engine.unit import Work


@dataclass(frozen=True, slots=True)
class Stage:
    """What was made: the route, and the message where it is new."""

    route: str
    message: str
    new_message: bool


def set_up(
    work: Work,
    type_: str,
    channel: str,
    message: str,
    starter: Mapping[str, Any] | None,
    variables: Sequence[Variable],
) -> Stage:
    """A route, off, that sends a message about an event by a channel: the one that is named, else a new one that a
    starter gives. Raises Invalid where there is neither, where no gateway has the channel, and where a route does so
    already (a form that is sent twice makes one).
    """
    for there in specs.routes(work.session, work.store_id):
        if type_ in there.spec.when and there.spec.channel == channel and not there.spec.handler:
            raise Invalid([Problem("route", f"The route “{there.spec.name}” does so already.", "Open it instead.")])
    gateway = next((one for one in work.live.setup.gateways.values() if one.channel == channel), None)
    label = event_types.label(type_)
    if gateway is None:
        what = f"There is no gateway for {CHANNEL_LABELS.get(channel, channel)} yet."
        raise Invalid([Problem("gateway", what, "Set one up under Gateways.")])
    key, new = message, False
    if not key:
        if starter is None:
            raise Invalid([Problem("message", f"There is no text about “{label}” yet.", "Write a message about it.")])
        key, _ = messages.create(work, starter["name"], starter, variables)
        new = True
    name = f"{label[:1].upper()}{label[1:]}, by {CHANNEL_LABELS[channel]}"
    route = routes.create(work, _free_name(work, name), type_)
    changes = {
        "send": key,
        "channel": channel,
        "gateway": gateway.key,
        "sources": list(work.live.sources),
    }
    routes.change_draft(work, route, changes)
    return Stage(route, key, new)


def _free_name(work: Work, name: str) -> str:
    """A name that no route has."""
    taken = {active.route.name for active in work.live.setup.routes}
    return next(one for one in (name, *(f"{name} {n}" for n in range(2, 1000))) if one not in taken)
