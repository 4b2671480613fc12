"""Where a delivery says what happened, guessed from what it holds; and what that seems to mean. Pure."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from angelon.core.payload.paths import child
from angelon.core.specs.source import Locator
from angelon.core.suggestions.meaning import words

_KEYS = ("event", "event_type", "type", "topic", "event_name", "notice", "trigger", "action", "kind", "hook")
"""Keys that hold an event's name, the surest first; compared without case and underscores."""
_ENVELOPES = frozenset({"context", "envelope", "event", "head", "header", "headers", "hook", "meta", "notification"})
"""What an object is called that tells about the delivery: any key for a name counts in it."""
_HEADERS = ("event", "topic", "trigger", "action")
_NAME = re.compile(r"[\w.:/ -]{2,80}\Z")
_MEANINGS: tuple[tuple[frozenset[str], str], ...] = (
    (frozenset({"refund", "refunded"}), "payment.refunded"),
    (frozenset({"return", "returned"}), "return.received"),
    (frozenset({"cancel", "cancelled", "canceled", "withdrawn", "voided"}), "order.cancelled"),
    (frozenset({"delivered", "received", "arrived"}), "parcel.delivered"),
    (frozenset({"shipped", "dispatched", "fulfilled", "sent"}), "parcel.picked_up"),
    (frozenset({"packed"}), "order.packed"),
    (frozenset({"failed", "declined"}), "payment.failed"),
    (frozenset({"paid", "captured"}), "order.paid"),
    (frozenset({"new", "created", "create", "placed", "opened", "submitted"}), "order.created"),
    (frozenset({"updated", "update", "changed", "change", "edited", "modified"}), "order.updated"),
)
"""Words of an event's name, and the type that they seem to mean; the first that fits."""


@dataclass(frozen=True, slots=True)
class NameGuess:
    """Where a name seems to stand, what it is in this delivery, and the event type that it seems to mean (or empty)."""

    locator: Locator
    name: str
    means: str

    @property
    def place(self) -> str:
        """Where it stands, as people read it."""
        return self.locator.path or f"the header {self.locator.header}"


def guess_name(headers: Mapping[str, str], payload: Any) -> NameGuess | None:
    """The likeliest place of the event's name in a delivery; None where nothing looks like one. `headers` has
    lower-case names.
    """
    for name, value in headers.items():
        parts = set(re.split(r"[-_]", name.lower()))
        if parts & set(_HEADERS) and "id" not in parts and _NAME.match(value.strip()):
            return NameGuess(Locator(header=name), value.strip(), meaning_of(value))
    found = sorted(_candidates(payload), key=lambda one: (one[0], len(one[1])))
    if not found:
        return None
    _, path, value = found[0]
    return NameGuess(Locator(path=path), value, meaning_of(value))


def _candidates(payload: Any) -> Iterator[tuple[int, str, str]]:
    """(rank of the key, path, value) of texts that may be the name: of the payload itself and of objects in it."""
    if not isinstance(payload, dict):
        return
    for key, value in list(payload.items())[:200]:
        if isinstance(value, dict):
            for inner, text in list(value.items())[:50]:
                if (rank := _rank(inner, text)) is not None and (rank < 2 or _ENVELOPES & set(words(key))):
                    yield rank + len(_KEYS), child(child("$", key), inner), text
        elif (rank := _rank(key, value)) is not None:
            yield rank, child("$", key), value


def _rank(key: str, value: Any) -> int | None:
    if not isinstance(value, str) or not _NAME.match(value):
        return None
    plain = "_".join(words(key))
    return _KEYS.index(plain) if plain in _KEYS else None


def meaning_of(name: str) -> str:
    """The event type that a store's name for an event seems to mean; empty where no word of it tells."""
    said = {word for part in re.split(r"[^A-Za-z0-9]+", name) for word in words(part)}
    return next((type_ for known, type_ in _MEANINGS if said & known), "")
