"""Why sends need attention, told without what is one send's own, so that those of one cause are counted together."""

from __future__ import annotations

import re
from functools import lru_cache

_OWN = re.compile(
    r"[^\s<>()“”\"']+@[^\s<>()“”\"',;]+"  # an email address
    r"|\+\d[\d ()-]{5,}\d"  # a phone number
    r"|“[^”]{0,200}”"  # what is quoted: a name, a value
    r"|\b(?=[\w-]*\d)[\w-]{6,}\b"  # an id, a queue's number, an order's
    r"|\d+(?:[.,:]\d+)*"  # any other number
)
_CODE = re.compile(r"^([245]\d\d)(?:[ -]([245]\.\d{1,3}\.\d{1,3}))?")


@lru_cache(maxsize=8192)
def general(reason: str) -> str:
    """A reason without addresses, quoted values, ids and numbers, which stand as “…”; an answer's code at its start
    stays (RFC 5321, section 4.2; RFC 3463).
    """
    code = _CODE.match(reason)
    head = code.group(0) if code else ""
    return head + re.sub(r"…(?:[\s,]*…)+", "…", _OWN.sub("…", reason[len(head) :]))
