"""What every way out does: it is handed one rendered message and answers with an outcome."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Protocol


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a try ended.

    `accepted`: the other side took it. `temporary`: it said not now, or could not be reached. `permanent`: it said
    never. `unknown`: it had the message and went silent before it answered, so that nobody can say.
    `retry_after` is the wait that it asked for, in seconds.
    """

    kind: Literal["accepted", "temporary", "permanent", "unknown"]
    code: str = ""
    answer: str = ""
    retry_after: float | None = None


@dataclass(frozen=True, slots=True)
class Mail:
    """An email ready for SMTP: envelope addresses and the message's bytes (CRLF line ends)."""

    from_address: str
    to_address: str
    data: bytes


class Way(Protocol):
    """A way out. One instance belongs to one thread, and keeps its connection between deliveries."""

    def deliver(self, mail: Mail, key: str) -> Outcome:
        """Hands one message over. `key` names the send, the same at every try. Never raises for what the other side does."""
        ...

    def close(self) -> None: ...
