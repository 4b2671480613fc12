"""Texts without what they need not tell: email addresses, phone numbers, credentials. Pure."""

from __future__ import annotations

import re
from collections.abc import MutableMapping
from typing import Any

_QUOTE = r"(?:\\?\"|&#34;|&quot;){1,2}"
_EMAIL = re.compile(
    rf"(?:{_QUOTE}(?:[^\"<>\r\n\\]|\\.){{1,80}}?{_QUOTE}|(?:&amp;|&#39;|\\u[0-9a-f]{{4}}|[\w.!#$%'*+/=?^`{{|}}~&-])+)"
    r"(?:@|%40)(?:\[[^\]\s<>]{2,80}\]|[\w-]+(?:\.[\w-]+)+)|[\w.!#$%'*+/=?^`{|}~-]{3,}@[\w-]*(?=[\"<…]|&#34;|\Z)"
)
"""Every form of an address that a mail server takes (RFC 5321, section 4.1.2: a quoted local part, an address literal;
RFC 6531: letters of any script), as it is and as HTML, JSON, CSV and addresses of pages have it escaped; and one that
was cut off.
"""
_PHONE = re.compile(r"\+\d[\d \u00a0-]{5,}\d")
_TOKEN = re.compile(r"(angelon_|whsec_|Bearer |Basic )[\w+/=.~-]{8,}", re.IGNORECASE)


def masked(text: str) -> str:
    """A text without email addresses and phone numbers: their first sign, or their last two digits, stay."""
    text = _EMAIL.sub(lambda found: f"{found[0][0] if found[0][0].isalnum() else ''}…@…", text)
    return _PHONE.sub(lambda found: f"+…{found[0][-2:]}", text)


def mask_line(_logger: Any, _method: str, line: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """A processor of structlog: no contact detail and no credential stands in a log, tracebacks included."""
    for name, value in line.items():
        if isinstance(value, str) and name not in ("timestamp", "level"):
            line[name] = _TOKEN.sub(lambda found: f"{found[1]}…", masked(value))
    return line
