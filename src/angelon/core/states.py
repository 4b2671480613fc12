"""The states of a send, and the one table of moves between them."""

from __future__ import annotations

from enum import StrEnum


class State(StrEnum):
    SCHEDULED = "scheduled"
    SENDING = "sending"
    SENT = "sent"
    DELIVERED = "delivered"
    READ = "read"
    RETRYING = "retrying"
    HELD = "held"
    FAILED = "failed"
    SKIPPED = "skipped"
    CANCELLED = "cancelled"


OUT = (State.SENT, State.DELIVERED, State.READ)
"""The states of what a gateway has taken."""

MOVES: dict[State, frozenset[State]] = {
    State.SCHEDULED: frozenset({State.SENDING, State.HELD, State.SKIPPED, State.CANCELLED}),
    State.SENDING: frozenset({State.SENT, State.SCHEDULED, State.RETRYING, State.FAILED, State.HELD, State.SKIPPED}),
    State.RETRYING: frozenset(
        {State.SENDING, State.SCHEDULED, State.HELD, State.FAILED, State.CANCELLED, State.SKIPPED}
    ),
    State.SENT: frozenset({State.DELIVERED, State.READ, State.FAILED}),
    State.DELIVERED: frozenset({State.READ}),
    State.READ: frozenset(),
    State.HELD: frozenset({State.SCHEDULED, State.CANCELLED, State.SKIPPED, State.FAILED}),
    State.FAILED: frozenset({State.SCHEDULED, State.CANCELLED}),
    State.SKIPPED: frozenset({State.SCHEDULED}),
    State.CANCELLED: frozenset({State.SCHEDULED}),
}

MEANING: dict[State, str] = {
    State.SCHEDULED: "waits for its time",
    State.SENDING: "is on its way to the gateway",
    State.SENT: "the gateway took it",
    State.DELIVERED: "the gateway says that it arrived",
    State.READ: "the gateway says that it was opened",
    State.RETRYING: "a try failed; another follows",
    State.HELD: "a person must act",
    State.FAILED: "failed",
    State.SKIPPED: "a limit applies",
    State.CANCELLED: "a person took it back, or took it as settled",
}

DUE: tuple[State, ...] = (State.SCHEDULED, State.RETRYING)
"""The states from which a worker picks sends up."""


class WrongMove(ValueError):
    """A move that the table does not have."""


def move(was: State, now: State) -> State:
    """The state after a move. Raises WrongMove where the table does not allow it."""
    if now not in MOVES[was]:
        raise WrongMove(f"A send that is {was} can't become {now}.")
    return now


def sources_by_hand(now: State) -> tuple[State, ...]:
    """The states from which a person may make a send `now`: never from a worker's hands."""
    return tuple(state for state in sources_of(now) if state is not State.SENDING)


def sources_of(now: State) -> tuple[State, ...]:
    """The states that may become `now`."""
    return tuple(state for state, targets in MOVES.items() if now in targets)
