"""The texts of a store's routes, compiled before anything is decided about them."""

from __future__ import annotations

from angelon.core.messages.channels import compiled_part
from angelon.core.problems import Invalid
from angelon.db.setup.live_setup import LiveSetup

_DONE: dict[int, LiveSetup] = {}
"""The newest set-up of each store whose texts were compiled."""


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
