"""Strangers who guess at links of customers are turned away before a page is made: a guess costs next to nothing, and a
customer with a link of theirs is never counted.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from angelon.engine.clock import Clock
from angelon.engine.feedback.preferences import Links
from angelon.web.api.limits import Limits
from angelon.web.origins import Proxies

by_asker, by_all = Limits(rate=1, burst=60), Limits(rate=20, burst=200)
"""How many links that are none of ours one asker may open, and all together."""
LONGEST = 2000


LET_IN = "angelon.let_in"
"""In a request's environ where the door has asked already; no header can set that."""
BODY = b"Too many requests. Wait a moment, then open the link again."


class Guesses:
    """Answers guesses beyond that with 429 (RFC 6585, section 4): at the door, or as WSGI where there is no door, which
    passes everything else on.
    """

    def __init__(self, app: Callable[..., Iterable[bytes]], links: Links, clock: Clock, proxies: Proxies) -> None:
        self._app, self._clock, self._proxies = app, clock, proxies
        self._opens: dict[str, Callable[[str], object]] = {
            "/a/": links.read_question,
            "/w/": links.read_why,
            "/f/": links.read_follow,
            "/d/": links.read_download,
            "/i/": links.read_invoice,
            "/p/": links.read,
        }

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        if LET_IN not in environ:
            path = environ.get("PATH_INFO", "").encode("latin-1", "replace").decode("utf-8", "replace")
            head = self.refused(path, environ.get("REMOTE_ADDR", ""), environ.get("HTTP_X_FORWARDED_FOR", ""))
            if head is not None:
                start_response("429 Too Many Requests", head)
                return [BODY]
        return self._app(environ, start_response)

    def refused(self, path: str, peer: str, forwarded: str) -> list[tuple[str, str]] | None:
        """The headers by which a request is turned away; None for one that is let in. `path` is decoded."""
        opens = self._opens.get(path[:3])
        if opens is None or opens(path[3:].partition("/")[0][:LONGEST]) is not None:
            return None
        now = self._clock.now()
        held = [by_asker.spend_by(self._proxies.sender(peer, forwarded), now), by_all.spend(0, now)]
        after = max((one["Retry-After"] for one in held if "Retry-After" in one), key=int, default="")
        told = [("content-type", "text/plain"), ("content-length", str(len(BODY))), ("retry-after", after)]
        return told if after else None
