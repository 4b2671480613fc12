"""What follows from the outcome of a question: routes that wait for it, and a new one made ready."""

from __future__ import annotations

import datetime as dt
from typing import Any

from angelon.core import questions
from angelon.core.conditions.evaluate import Subject, compare
from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.questions import QuestionState
from angelon.core.specs.base import read_spec
from angelon.core.specs.condition import Compare, Group, compares
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.engine.operations import upkeep
from angelon.engine.unit import Work

NO_EVENT = (QuestionState.OPEN.value, QuestionState.WITHDRAWN.value)
CUSTOMER, TEAM = "customer", "role:"


def follows(route: Route, message: Message, outcome: str) -> bool:
    """Whether a route waits for an outcome of a message's question, or for any of them. Nothing waits for a question
    that is open or withdrawn: no event says so.
    """
    if outcome in NO_EVENT or questions.event_of_outcome(outcome) not in route.when:
        return False
    name = questions.subject_name(message.key)
    asked = {part.of for part in compares(route.only_if) if part.of.startswith("question.")}
    if outcome == "late" or not asked:
        return not asked or name in asked
    return name in asked and _may_hold(route.only_if, name, Subject(outcome, "text")) is not False


def _may_hold(part: Group | Compare, name: str, outcome: Subject) -> bool | None:
    """Whether a condition holds for an outcome of the question `name`; None where that depends on something else."""
    if part.kind == "compare":
        return compare(part, lambda _: outcome, dt.date.min).yes if part.of == name else None
    inner = [_may_hold(one, name, outcome) for one in part.of]
    if part.join == "any":
        return True if True in inner else None if None in inner or not inner else False
    fails = part.join != "all"
    return False if fails in inner else None if None in inner else True


def make_route(work: Work, message: Message, outcome: str, send: str, whom: str) -> str:
    """A route that sends a message, or makes a call, when a question comes to an outcome: off, and ready to be switched
    on. `whom` is `customer`, or `role:` and a role of the team. Gives its key. Raises Invalid and NotFound.
    """
    known = dict(questions.outcomes(message)) | {"late": "An answer too late"}
    if outcome not in known or outcome in NO_EVENT:
        raise Invalid([Problem("outcome", "That is no outcome of the question.", "Choose one of them.")])
    other = work.live.setup.messages.get(send)
    if other is None:
        raise NotFound("There is no such message, or it is not published yet.")
    gateways = work.live.setup.gateways.values()
    ways = [(channel, one.key) for channel in other.channels() for one in gateways if one.channel == channel]
    if whom != CUSTOMER:
        ways = [way for way in ways if way[0] != "chat"]
    if not ways:
        raise Invalid([Problem("send", f"There is no gateway for “{other.name}”.", "Set one up under Gateways.")])
    channel, gateway = ways[0]
    name = f"{known[outcome]}: {other.name}"[:100]
    asking = {
        key for active in work.live.setup.routes if active.route.send == message.key for key in active.route.sources
    }
    condition = {"of": [{"of": questions.subject_name(message.key), "op": "is", "value": outcome}]}
    key = upkeep.free_key(work, "route", name)
    spec: dict[str, Any] = {
        "key": key,
        "name": name,
        "when": [questions.event_of_outcome(outcome)],
        "sources": sorted(asking) or list(work.live.sources),
        "only_if": condition if outcome != "late" else {},
        "send": send,
        "channel": channel,
        "gateway": gateway,
    }
    if channel == "call":
        spec["to"] = [{"kind": "system"}]
    elif whom.startswith(TEAM):
        spec["to"] = [{"kind": "role", "who": whom.removeprefix(TEAM)}]
    work.specs.save_draft(read_spec(Route, spec))
    return key
