"""What a change of a route does to what would have been said: the same, new, gone, changed. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from angelon.core.planning.plan import Decision, PlannedSend

Kind = Literal["same", "new", "gone", "changed"]


@dataclass(frozen=True, slots=True)
class Change:
    """One event before and after. `parts` names what differs of a changed send."""

    kind: Kind
    was: PlannedSend | None
    now: PlannedSend | None
    parts: list[str] = field(default_factory=list)
    why: str = ""


def compare(was: Decision, now: Decision) -> list[Change]:
    """What comes of an event by one decision and by another, send by send; recipients are told apart by whom they are
    for.
    """
    before, after = _by_person(was), _by_person(now)
    found = []
    for person in dict.fromkeys([*before, *after]):
        old, new = before.get(person), after.get(person)
        spoke, speaks = _speaks(old), _speaks(new)
        if old is not None and new is not None and (spoke or speaks):
            if spoke and speaks:
                parts = _differs(old, new)
                found.append(Change("changed" if parts else "same", old, new, parts))
            else:
                found.append(
                    Change(
                        "new" if speaks else "gone",
                        old if spoke else None,
                        new if speaks else None,
                        why=_why(was if speaks else now, old if speaks else new),
                    )
                )
        elif spoke:
            found.append(Change("gone", old, None, why=now.reason))
        elif speaks:
            found.append(Change("new", None, new, why=was.reason))
    return found


def _by_person(decision: Decision) -> dict[tuple[str, int], PlannedSend]:
    found: dict[tuple[str, int], PlannedSend] = {}
    for send in decision.sends:
        number = sum(1 for to, _ in found if to == send.to)
        found[send.to, number] = send
    return found


def _speaks(send: PlannedSend | None) -> bool:
    return send is not None and send.state.value in ("scheduled", "held")


def _why(decision: Decision, send: PlannedSend | None) -> str:
    return (send.reason if send else "") or decision.reason


def _differs(old: PlannedSend, new: PlannedSend) -> list[str]:
    pairs = {
        "recipient": (old.recipient, new.recipient),
        "channel": (old.channel, new.channel),
        "gateway": (old.gateway, new.gateway),
        "message": (old.message, new.message),
        "language": (old.locale, new.locale),
        "time": (old.due_at, new.due_at),
        "state": (old.state, new.state),
        "values": (old.values, new.values),
    }
    if "held" in (old.state.value, new.state.value):
        del pairs["time"]  # when it goes out, if it does, is open
    return [name for name, (a, b) in pairs.items() if a != b]
