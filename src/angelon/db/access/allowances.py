"""How often something may be tried, counted where all processes look: what a stranger may guess of passwords, codes and
order numbers. What only keeps one process from too much work is counted in it (`web/api/limits.py`).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

from sqlmodel import Session, col, delete, select

from angelon.db.tables import AllowanceRow


@dataclass(frozen=True, slots=True)
class Allowance:
    """So many tries at once, and one more after so many seconds."""

    burst: int
    after: float


def wait(session: Session, what: str, allowance: Allowance, now: dt.datetime) -> int:
    """Seconds until something may be tried again; 0 where it may be now."""
    short = 1 - _left(session.get(AllowanceRow, what), allowance, now)
    return int(short * allowance.after) + 1 if short > 1e-9 else 0


def spend(session: Session, what: str, allowance: Allowance, now: dt.datetime) -> None:
    """Takes one try, in the caller's transaction."""
    row = session.get(AllowanceRow, what)
    left = max(_left(row, allowance, now) - 1, 0.0)
    if row is None:
        session.add(AllowanceRow(what=what, left=left, at=now))
    else:
        row.left, row.at = left, now
    session.flush()


def give_back(session: Session, what: str) -> None:
    """As if nothing had been tried."""
    session.exec(delete(AllowanceRow).where(col(AllowanceRow.what) == what))


def unused(session: Session, before: dt.datetime, most: int) -> Sequence[str]:
    """What was last tried before a moment."""
    return session.exec(select(AllowanceRow.what).where(AllowanceRow.at < before).limit(most)).all()


def forget(session: Session, found: Sequence[str], before: dt.datetime) -> None:
    """Lets go of what was not tried since."""
    old = col(AllowanceRow.what).in_(found), col(AllowanceRow.at) < before
    session.exec(delete(AllowanceRow).where(*old))


def _left(row: AllowanceRow | None, allowance: Allowance, now: dt.datetime) -> float:
    if row is None:
        return float(allowance.burst)
    return min(float(allowance.burst), row.left + max((now - row.at).total_seconds(), 0.0) / allowance.after)
