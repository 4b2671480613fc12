"""What a payload should not show on a page: values under names that say they are secret."""

from __future__ import annotations

import re
from typing import Any

BLOT = "•••"
_SECRET = re.compile(
    r"pass(word|wd|phrase)|secret|token|(api|private)[_-]?key|card[_-]?(number|no)|cvc|cvv|iban|authorization", re.I
)


def secret(name: str) -> bool:
    """Whether a field's name says that its value is not for everybody's eyes."""
    return bool(_SECRET.search(name))


def redacted(payload: Any) -> Any:
    """The payload with the values of secret fields blotted out, branches below them too."""
    if isinstance(payload, dict):
        return {
            key: BLOT if secret(key) and value not in (None, "") else redacted(value) for key, value in payload.items()
        }
    if isinstance(payload, list):
        return [redacted(item) for item in payload]
    return payload
