"""Strangers who guess at links of customers are turned away before a page is made: a guess costs next to nothing, and a
customer with a link of theirs is never counted.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from angelon.engine.clock import Clock
from angelon.engine.preferences import Links
from angelon.web.api.limits import Limits
from angelon.web.origins import Proxies

by_asker, by_all = Limits(rate=1, burst=60), Limits(rate=20, burst=200)
"""How many links that are none of ours one asker may open, and all together."""
LONGEST = 2000


class Guesses:
    """WSGI: answers guesses beyond that with 429 (RFC 6585, section 4), and passes everything else on."""

    def __init__(self, app: Callable[..., Iterable[bytes]], links: Links, clock: Clock, proxies: Proxies) -> None:
        self._app, self._clock, self._proxies = app, clock, proxies
        self._opens: dict[str, Callable[[str], object]] = {
            "/a/": links.read_question,
            "/w/": links.read_why,
            "/p/": links.read,
        }

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        path: str = environ.get("PATH_INFO", "")
        opens = self._opens.get(path[:3])
        if opens is None or self._is_ours(path[3:].partition("/")[0], opens):
            return self._app(environ, start_response)
        now = self._clock.now()
        asker = self._proxies.sender(environ.get("REMOTE_ADDR", ""), environ.get("HTTP_X_FORWARDED_FOR", ""))
        held = [by_asker.spend_by(asker, now), by_all.spend(0, now)]
        after = max((one["Retry-After"] for one in held if "Retry-After" in one), key=int, default="")
        if not after:
            return self._app(environ, start_response)
        body = b"Too many requests. Wait a moment, then open the link again."
        head = [("Content-Type", "text/plain"), ("Content-Length", str(len(body))), ("Retry-After", after)]
        start_response("429 Too Many Requests", head)
        return [body]

    @staticmethod
    def _is_ours(token: str, opens: Callable[[str], object]) -> bool:
        text = token[:LONGEST].encode("latin-1", "replace").decode("utf-8", "replace")
        return opens(text) is not None
