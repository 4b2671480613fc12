"""Which translations are older than the text that they translate: told when one language changes and the others do
not. Pure.
"""

from __future__ import annotations

import hashlib
import json

from angelon.core.messages.channels import CHANNELS
from angelon.core.specs.message import Message


def with_older(before: Message | None, now: Message) -> Message:
    """The message with what is older in it, after it was changed.

    A text whose main language was changed since goes with an earlier text, whose digest is kept. Once it is changed
    itself, or the main text is what it was again, it is up to date.
    """
    return now.model_copy(update={"older": _older(before, now)})


def _older(before: Message | None, now: Message) -> dict[str, str]:
    if before is None or before.locale != now.locale:
        return {}
    found = {}
    for channel in CHANNELS:
        earlier, texts = before.variants(channel), now.variants(channel)
        if now.locale not in texts or now.locale not in earlier:
            continue
        main = digest(texts[now.locale])
        for locale in texts.keys() - {now.locale}:
            place = f"{channel}.{locale}"
            if earlier.get(locale) == texts[locale]:
                goes_with = before.older.get(place) or digest(earlier[now.locale])
                if goes_with != main:
                    found[place] = goes_with
    return dict(sorted(found.items()))


def digest(text: object) -> str:
    """What a text is told apart by: the first 12 digits of its SHA-256."""
    plain = json.dumps(text.model_dump(mode="json"), sort_keys=True)  # type: ignore[attr-defined]
    return hashlib.sha256(plain.encode()).hexdigest()[:12]
