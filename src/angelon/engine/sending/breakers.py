"""The health of all gateways as one worker sees it: changed by what its tries come to, shared through the database."""

from __future__ import annotations

import datetime as dt
import threading

from sqlalchemy import Connection

from angelon.core.breaker import HEALTHY, Health, after_try
from angelon.core.sending.gateway_state import REFUSES_ALL as SAID_OF_ALL
from angelon.core.sending.gateway_state import REFUSES_SEVERAL as SAID_OF_SEVERAL
from angelon.db.upkeep import gateway_health
from angelon.gateways.interface import Outcome

IN_DOUBT = 3
"""Recipients that a gateway refuses for good one after the other, without taking anything in between, from when on it
is doubted that this is for their sake: it is tried again, and counts against none of them.
"""
REFUSES_ALL = 6
"""The same, from when on it is taken to be the gateway's doing, which is left alone for a while."""


class Breakers:
    """Safe to use from many threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._refused: dict[int, dict[tuple[int, str], None]] = {}
        """By gateway: whom it has refused for good since it took something last, as (store, address key)."""
        self._health: dict[int, Health] = {}
        self._unsaved: dict[int, Health] = {}

    def refresh(self, connection: Connection) -> None:
        """Takes over what others have stored: a person who wants a gateway tried at once, or another worker."""
        stored = gateway_health.load(connection)
        with self._lock:
            for gateway_id, health in list(self._health.items()):
                if health.opened_at is not None and gateway_id not in stored and gateway_id not in self._unsaved:
                    del self._health[gateway_id]
            self._health |= {
                gateway_id: health for gateway_id, health in stored.items() if gateway_id not in self._unsaved
            }

    def of(self, gateway_id: int | None) -> Health:
        return self._health.get(gateway_id, HEALTHY) if gateway_id is not None else HEALTHY

    def note(self, gateway_id: int, worked: bool, reason: str, now: dt.datetime) -> Health:
        """Takes in how one try went."""
        before = self._health.get(gateway_id)
        if worked and before is None:
            return HEALTHY
        with self._lock:
            before = self._health.get(gateway_id, HEALTHY)
            after = after_try(before, worked, reason, now)
            if after == HEALTHY:
                self._health.pop(gateway_id, None)
            else:
                self._health[gateway_id] = after
            if before.opened_at is not None or after.opened_at is not None:
                self._unsaved[gateway_id] = after
            return after

    def judged(
        self, gateway_id: int, outcome: Outcome, store_id: int, key: str
    ) -> tuple[Outcome, list[tuple[int, str]]]:
        """What a try says of the recipient, who is known by `key`: a refusal for good counts against them only where
        the gateway takes others. Where it has refused several in a row the outcome is temporary, and where it refuses
        nearly everybody the gateway's fault; gives, too, those against whom refusals were counted before.
        """
        with self._lock:
            if outcome.kind == "accepted":
                self._refused.pop(gateway_id, None)
                return outcome, []
            if outcome.kind != "permanent":
                return outcome, []
            refused = self._refused.setdefault(gateway_id, {})
            refused[store_id, key] = None
            if len(refused) < IN_DOUBT:
                return outcome, []
            before = [one for one in refused if one != (store_id, key)] if len(refused) == IN_DOUBT else []
        of_all = len(refused) >= REFUSES_ALL
        why = f"{SAID_OF_ALL if of_all else SAID_OF_SEVERAL}: {outcome.code} {outcome.answer}".strip()
        return Outcome("temporary", outcome.code, why, unreachable=of_all), before

    def save(self, connection: Connection) -> dict[int, Health]:
        """Stores what has changed, in the caller's transaction; gives what that was, for `saved`."""
        with self._lock:
            changed = dict(self._unsaved)
        gateway_health.save(connection, changed)
        return changed

    def saved(self, changed: dict[int, Health]) -> None:
        """Called after the commit."""
        with self._lock:
            for gateway_id, health in changed.items():
                if self._unsaved.get(gateway_id) == health:
                    del self._unsaved[gateway_id]
