"""Whether anything follows when a send is held or fails. Pure."""

from __future__ import annotations

from collections.abc import Collection

from angelon.core.event_types import OURS
from angelon.core.planning.inputs import ActiveRoute
from angelon.core.specs.route import Route


def has_follow_up(route: Route | None, active: Collection[ActiveRoute]) -> bool:
    """Whether a fallback, somebody who is told, or a route that waits for it follows a send of this route.

    A route that waits for such events itself makes no more of them: there would be no end to it.
    """
    if route is None:
        return False
    return bool(route.fallback.options or route.fallback.tell) or (
        not OURS & set(route.when) and any(OURS & set(one.route.when) for one in active)
    )
