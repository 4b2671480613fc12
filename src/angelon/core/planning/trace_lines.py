"""Why something was decided, part by part; and how that is stored. Apart from planning, of which whoever reads the
database needs nothing else.
"""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

Verdict = Literal["yes", "no", "waits", "problem", "open"]


class TraceLine(NamedTuple):
    """One part of a route, what it looked at, and what followed. `open` is a part that was not reached."""

    part: str
    verdict: Verdict
    saw: str
    why: str = ""

    def as_dict(self) -> dict[str, str]:
        """As it is stored: what most lines say, and what is empty, is left out (`whole` puts it back)."""
        return {name: said for name, said in self._asdict().items() if said != _MOST_SAY.get(name)}


_MOST_SAY = {"verdict": "yes", "saw": "", "why": ""}


def whole(stored: Any) -> Any:
    """Lines of a trace, or decisions with theirs, as they were before `as_dict`; what is none of that as it is."""
    for one in stored if isinstance(stored, list) else ():
        if isinstance(one, dict):
            if "part" in one:
                for name, said in _MOST_SAY.items():
                    one.setdefault(name, said)
            elif "trace" in one:
                whole(one["trace"])
    return stored
