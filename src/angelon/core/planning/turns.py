"""Which of what waits goes first, where much waits: events to be planned, and sends of one gateway. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from enum import IntEnum

from angelon.core.deliveries import QUIET
from angelon.core.specs.route import Route


class Turn(IntEnum):
    """Kept with each send; of an event it is worked out while it waits. The lower number goes first."""

    URGENT = 0
    """An urgent route's."""
    ORDINARY = 1
    GIVES_WAY = 2
    """Nobody waits for it: what is imported and told to nobody, what is processed again, runs over many orders."""


MANY = 10
"""Orders of a run by hand from which on its sends give way: who runs fewer is looking at them."""


def urgent_types(routes: Iterable[Route]) -> frozenset[str]:
    """The event types that an urgent route waits for."""
    return frozenset(type_ for route in routes if route.urgent for type_ in route.when)


def turn_of(name: str, types: Collection[str], again: bool, urgent: frozenset[str]) -> Turn:
    """The turn of an event that waits: by the name under which it came, the types that it has or that may follow from
    it, and whether it was planned before and is planned again.
    """
    if not urgent.isdisjoint(types):
        return Turn.URGENT
    return Turn.GIVES_WAY if again or name == QUIET else Turn.ORDINARY
