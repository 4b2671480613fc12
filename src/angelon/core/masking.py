"""Texts without what they need not tell: email addresses, phone numbers, credentials. Pure."""

from __future__ import annotations

import re
from collections.abc import MutableMapping
from typing import Any

_EMAIL = re.compile(r"([\w.+%-])[\w.+%-]*@[\w-]+(?:\.[\w-]+)+")
_PHONE = re.compile(r"\+\d[\d \u00a0-]{5,}\d")
_TOKEN = re.compile(r"(angelon_|whsec_|Bearer |Basic )[\w+/=.~-]{8,}", re.IGNORECASE)


def masked(text: str) -> str:
    """A text without email addresses and phone numbers: their first sign, or their last two digits, stay."""
    text = _EMAIL.sub(lambda found: f"{found[1]}…@…", text)
    return _PHONE.sub(lambda found: f"+…{found[0][-2:]}", text)


def mask_line(_logger: Any, _method: str, line: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """A processor of structlog: no contact detail and no credential stands in a log, tracebacks included."""
    for name, value in line.items():
        if isinstance(value, str) and name not in ("timestamp", "level"):
            line[name] = _TOKEN.sub(lambda found: f"{found[1]}…", masked(value))
    return line
