"""Behind a backlog, which events of a store may be planned side by side: never those of one order."""

from __future__ import annotations

import zlib

LANES = 16
"""How many there are, over all stores: more than processes that plan for one store are of use."""


def lane_of(whose: str) -> int:
    """The lane of what these events have in common, from 0: the same wherever and whenever it is asked."""
    return zlib.crc32(whose.encode()) % LANES
