"""How often a token may ask: a bucket of requests for each, in this process."""

from __future__ import annotations

import datetime as dt
import math
import threading

RATE, BURST = 20.0, 100
"""Requests a second in the long run, and how many may come at once."""


class Limits:
    """A token bucket for each key. For use by several threads."""

    def __init__(self, rate: float = RATE, burst: int = BURST) -> None:
        self._rate, self._burst = rate, burst
        self._left: dict[int, tuple[float, dt.datetime]] = {}
        self._lock = threading.Lock()

    def spend(self, key: int, now: dt.datetime) -> dict[str, str]:
        """Takes one; gives the headers that say what is left (RateLimit-Policy and RateLimit of the IETF's draft
        draft-ietf-httpapi-ratelimit-headers), with Retry-After (seconds) where there was none to take.
        """
        with self._lock:
            left, at = self._left.get(key, (float(self._burst), now))
            left = min(self._burst, left + max((now - at).total_seconds(), 0) * self._rate)
            refused = left < 1
            self._left[key] = (left if refused else left - 1, now)
            left = self._left[key][0]
        policy = f'"default";q={self._burst};w={math.ceil(self._burst / self._rate)}'
        headers = {"RateLimit-Policy": policy, "RateLimit": f'"default";r={max(0, int(left))}'}
        return headers | ({"Retry-After": str(math.ceil((1 - left) / self._rate))} if refused else {})
