"""The texts of a store's routes, compiled before anything is decided about them."""

from __future__ import annotations

import contextlib

from angelon.core.messages.channels import compiled_part
from angelon.core.problems import Invalid
from angelon.core.specs.condition import compares
from angelon.db.setup.live_setup import LiveSetup

_DONE: dict[int, LiveSetup] = {}
"""The newest set-up of each store whose texts were compiled."""
_NAMES: dict[int, tuple[LiveSetup, dict[str, list[str]]]] = {}
"""By store, its newest set-up and the variables that its routes' texts use, by event type."""


def used_at_once(live: LiveSetup, type_: str) -> list[str]:
    """The variables in texts of the routes that send for an event of a type whatever it says: they are needed anyway,
    and may be worked out before the write.
    """
    held = _NAMES.get(live.store_id)
    if held is None or held[0] is not live:
        held = _NAMES[live.store_id] = live, {}
    if type_ not in held[1]:
        names: set[str] = set()
        for active in live.listening(type_):
            _, channel, key = active.route.option(0)
            message = live.setup.messages.get(key)
            if message is None or any(compares(active.route.only_if)):
                continue
            for locale in getattr(message, channel, None) or {}:
                with contextlib.suppress(Invalid):
                    names |= compiled_part(message, channel, locale, live.setup.store).names
        held[1][type_] = sorted(names & live.setup.variables.keys())
    return held[1][type_]


def compile_texts(live: LiveSetup) -> None:
    """Compiles what live routes may send, once for each version of the set-up: takes a while, and is done before the
    write in which they decide.
    """
    if _DONE.get(live.store_id) is live:
        return
    for active in live.setup.routes:
        for step in range(len(active.route.fallback.options) + 1):
            _, channel, key = active.route.option(step)
            message = live.setup.messages.get(key)
            if message is None:
                continue
            for locale in getattr(message, channel, None) or {}:
                try:
                    compiled_part(message, channel, locale, live.setup.store)
                except Invalid:  # the route that sends it says so
                    continue
    _DONE[live.store_id] = live
