"""Which decisions wait for what is asked elsewhere: a route waits for the look-ups that it uses, and no other. Pure.

What an event itself says is never waited for: its order's state is noted, and every other route decides, at once.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping

from pydantic import BaseModel

from angelon.core.event_types import CHANGES
from angelon.core.messages.channels import compiled_part
from angelon.core.planning.inputs import Setup
from angelon.core.problems import Invalid
from angelon.core.specs.condition import compares
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source

IDENTIFYING = frozenset(
    {*("reference", "number", *CHANGES, "placed_at", "changed_at"), *("email", "phone", "customer_id", "account")}
)
"""The parts of a reading that say which order an event is about, how it stands and whose it is. An answer that gives
one of them is waited for before the event is planned at all, and with it what comes later about the same order.
"""
_ROOT = re.compile(r"\+([a-z][a-z0-9_]*)")


def look_ups_in(spec: BaseModel | str) -> frozenset[str]:
    """The look-ups whose answers a recipe or path may read: the roots `+name` that it names."""
    return frozenset(_ROOT.findall(spec if isinstance(spec, str) else spec.model_dump_json()))


def identifying(source: Source) -> frozenset[str]:
    """The look-ups whose answers say which order an event of this source is about, or how it stands."""
    return _of_reading(source, IDENTIFYING)


def naming(source: Source) -> frozenset[str]:
    """The look-ups whose answers say which order an event is about."""
    return _of_reading(source, ("reference", "number"))


def _of_reading(source: Source, parts: Collection[str]) -> frozenset[str]:
    own = {one.name for one in source.enrichments}
    named = (look_ups_in(recipe) for part, recipe in source.reading.items() if part in parts)
    return frozenset().union(*named) & own


def used_by(route: Route, source: Source, setup: Setup) -> frozenset[str]:
    """The look-ups of a source whose answers a route's conditions, recipients, timing or texts use.

    What the order's reading uses besides `IDENTIFYING` (a name, a total, its lines), every route uses.
    """
    own = {one.name for one in source.enrichments}
    if not own:
        return frozenset()
    of_lines = (look_ups_in(recipe) for recipe in (*source.line.values(), *source.parcel.values()))
    found = set(_of_reading(source, source.reading.keys())).union(*of_lines)
    if route.handler:  # a function is called with all that is known, once that is known
        return frozenset(own)
    for name in _variables(route, setup):
        if name in source.recipes:
            found |= look_ups_in(source.recipes[name])
    for recipient in route.to:
        if recipient.kind == "path":
            found |= look_ups_in(recipient.who)
    return frozenset(found & own)


def _variables(route: Route, setup: Setup) -> set[str]:
    """The variables that a route may look at, whichever way it takes."""
    names = set(_compared((part.of for part in compares(route.only_if)), setup))
    names |= {recipient.who for recipient in route.to if recipient.kind == "variable"}
    names.add(route.timing.variable)
    for step in range(len(route.fallback.options) + 1):
        _, channel, key = route.option(step)
        names.add(setup.store.consent_for(channel))
        message = setup.messages.get(key)
        names |= _in_texts(message, channel, setup) if message is not None else set()
    return names


def _compared(subjects: Iterable[str], setup: Setup) -> Iterable[str]:
    """The variables that conditions compare, those of the segments that they name among them."""
    for name in subjects:
        root, _, part = name.partition(".")
        if root == "segment":
            holds = (one.holds for one in setup.store.segments if one.key == part)
            yield from (inner.of.removeprefix("kept.") for group in holds for inner in compares(group))
        else:
            yield part if root == "kept" else name


def _in_texts(message: Message, channel: str, setup: Setup) -> set[str]:
    names: set[str] = set()
    for locale in getattr(message, channel, None) or {}:
        try:
            names |= compiled_part(message, channel, locale, setup.store).names
        except Invalid:  # it is held for that, whatever is answered
            continue
    return names


def pending(
    route: Route,
    uses: Collection[str],
    unsettled: Mapping[str, str],
    handler_unsettled: str,
    earlier: Mapping[str, str],
) -> str:
    """Why a route's decision about an event waits; empty where it need not.

    `uses` are the look-ups that it uses, `unsettled` those not settled yet, by name, with what each waits for;
    `handler_unsettled` is why its handler has not answered. `earlier` are the routes whose decision about an earlier
    event of the same order waits, with that event's moment: nothing overtakes.
    """
    if route.handler and handler_unsettled:
        return handler_unsettled
    for name in sorted(uses):
        if name in unsettled:
            return unsettled[name]
    if route.key in earlier:
        return f"It waits for its decision about the order’s event of {earlier[route.key]}, which waits for an answer."
    if route.guards.after_route in earlier:
        return f"It waits for the decision of “{route.guards.after_route}”, after which it is sent."
    return ""
