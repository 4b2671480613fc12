"""How often a token may ask: a bucket of requests for each, in this process."""

from __future__ import annotations

import datetime as dt
import math
import threading

from angelon.core.addresses import network_of

RATE, BURST = 20.0, 100
"""Requests a second in the long run, and how many may come at once."""


MOST_KEYS = 10_000
"""Keys that are kept: those that have their whole burst again are the first to be forgotten."""


class Limits:
    """A token bucket for each key. For use by several threads."""

    def __init__(self, rate: float = RATE, burst: int = BURST) -> None:
        self._rate, self._burst = rate, burst
        self._left: dict[int, tuple[float, dt.datetime]] = {}
        self._lock = threading.Lock()

    def spend_by(self, address: str, now: dt.datetime) -> dict[str, str]:
        """The same for who asks: an address, and of IPv6 the network that one household or server has (/64)."""
        return self.spend(hash(network_of(address)), now)

    def spend(self, key: int, now: dt.datetime) -> dict[str, str]:
        """Takes one; gives the headers that say what is left (RateLimit-Policy and RateLimit of the IETF's draft
        draft-ietf-httpapi-ratelimit-headers), with Retry-After (seconds) where there was none to take.
        """
        with self._lock:
            if len(self._left) >= MOST_KEYS:
                self._forget(now)
            left, at = self._left.get(key, (float(self._burst), now))
            left = min(self._burst, left + max((now - at).total_seconds(), 0) * self._rate)
            refused = left < 1
            self._left[key] = (left if refused else left - 1, now)
            left = self._left[key][0]
        policy = f'"default";q={self._burst};w={math.ceil(self._burst / self._rate)}'
        headers = {"RateLimit-Policy": policy, "RateLimit": f'"default";r={max(0, int(left))}'}
        return headers | ({"Retry-After": str(math.ceil((1 - left) / self._rate))} if refused else {})

    def _forget(self, now: dt.datetime) -> None:
        """Lets go of those who may spend all again, or else of those who came first."""
        full = dt.timedelta(seconds=self._burst / self._rate)
        kept = {key: one for key, one in self._left.items() if now - one[1] < full}
        self._left = kept if len(kept) < MOST_KEYS else dict(list(kept.items())[MOST_KEYS // 2 :])
