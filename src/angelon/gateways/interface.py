"""What every way out does: it is handed one rendered message and answers with an outcome."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal, Protocol

from angelon.core.sending.outgoing import Mail, ProviderMessage

__all__ = ["Mail", "Outcome", "ProviderMessage", "Transport"]


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a try ended.

    `accepted`: the other side took it. `temporary`: it said not now, or could not be reached. `permanent`: it said
    never. `unknown`: it had the message and went silent before it answered, so that nobody can say.
    `retry_after` is the wait that it asked for, in seconds; `reference` the other side's own id for what it took.
    `unreachable` says that the fault is the gateway's and would meet any other message as well.
    """

    kind: Literal["accepted", "temporary", "permanent", "unknown"]
    code: str = ""
    answer: str = ""
    retry_after: float | None = None
    reference: str = ""
    unreachable: bool = False
    balance: Decimal | None = None
    """The credit that is left, where the other side tells it."""

    body: bytes = b""
    """What another system answered to a call."""

    @property
    def reason(self) -> str:
        """Its code and its answer in one line."""
        return f"{self.code} {self.answer}".strip()


class Transport(Protocol):
    """A way out. One instance belongs to one thread, and keeps its connection between deliveries."""

    def deliver(self, mail: Any, key: str) -> Outcome:
        """Hands one message over: a Mail to SMTP, a ProviderMessage to a provider. `key` names the send, the same at
        every try.

        Never raises for what the other side does.
        """
        ...

    def close(self) -> None: ...
