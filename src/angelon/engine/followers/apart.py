"""Work that waits for somebody else, each piece in a thread of its own: who does not answer holds up nobody else."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable

import structlog

log = structlog.get_logger()


class Apart:
    """Pieces of work by a key, none of them twice at the same time, and so many at once."""

    def __init__(self, name: str, most: int = 1000) -> None:
        self._name, self._most = name, most
        self._in_hand: set[Hashable] = set()
        self._lock = threading.Lock()

    def begin(self, key: Hashable, work: Callable[[], object]) -> bool:
        """Begins a piece of work; false where it is under way already, or as many are as may be. What it raises is
        logged.
        """
        with self._lock:
            if key in self._in_hand or len(self._in_hand) >= self._most:
                return False
            self._in_hand.add(key)
        threading.Thread(target=self._do, args=(key, work), name=f"{self._name}-{key}", daemon=True).start()
        return True

    def _do(self, key: Hashable, work: Callable[[], object]) -> None:
        try:
            work()
        except Exception:
            log.exception("work in a thread of its own failed; it is tried again", work=self._name, key=key)
        finally:
            with self._lock:
                self._in_hand.discard(key)
