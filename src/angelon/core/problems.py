"""What is wrong, where, and what to do about it: an expected error as a value."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong.

    `where` names the place as a person would find it (a dotted path into a spec, or a part of a page), `what` is a
    whole sentence, `hint` says what to do. An "error" stops what was asked for; a "warning" does not.
    """

    where: str
    what: str
    hint: str = ""
    severity: Literal["error", "warning"] = "error"

    def __post_init__(self) -> None:
        for name in ("where", "what", "hint"):  # half a character that somebody has sent can be quoted nowhere
            text = getattr(self, name)
            if not text.isascii():
                object.__setattr__(self, name, text.encode("utf-8", "replace").decode())

    def __str__(self) -> str:
        return f"{self.where}: {self.said}" if self.where else self.said

    @property
    def said(self) -> str:
        """What is wrong and what to do, without the place: beside the field, or where there is but one."""
        return f"{self.what} {self.hint}".strip()

    def at(self, where: str) -> Problem:
        """The same problem, seen from one level further out."""
        joined = f"{where}.{self.where}" if self.where else where
        return Problem(joined, self.what, self.hint, self.severity)

    def as_dict(self) -> dict[str, str]:
        return asdict(self)


class Invalid(ValueError):
    """Raised where a caller asked for something that can't be done; carries every problem found."""

    is_conflict = False
    """Whether somebody else's change is what keeps it."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(str(p) for p in problems))
        self.problems = problems


class Conflict(Invalid):
    """Raised where what somebody was editing was changed by somebody else meanwhile. Holds both, as plain data."""

    is_conflict = True

    def __init__(self, kind: str, key: str, edits: int, theirs: Any, mine: Any, by: str = "") -> None:
        """`edits` is how often it was changed by now; `by` says who did last, and when."""
        super().__init__(
            [Problem("", f"It was changed meanwhile{by and f' by {by}'}.", "See both, and keep one of them.")]
        )
        self.kind, self.key, self.edits, self.theirs, self.mine, self.by = kind, key, edits, theirs, mine, by


class NotFound(Invalid):
    """Raised where what is asked for is not there (any more)."""

    def __init__(self, what: str) -> None:
        super().__init__([Problem("", what)])
