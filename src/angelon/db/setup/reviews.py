"""Reviews of chat texts: handed in, decided, looked up by what a text says."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from sqlmodel import Session, col, or_, select

from angelon.db.setup.specs import touch
from angelon.db.tables import ReviewRow


def of_message(session: Session, message_id: int) -> list[ReviewRow]:
    """Newest first."""
    return list(
        session.exec(
            select(ReviewRow)
            .where(ReviewRow.message_id == message_id)
            .order_by(col(ReviewRow.submitted_at).desc(), col(ReviewRow.id).desc())
        )
    )


def references(session: Session, store_id: int) -> set[str]:
    """What providers call the texts that were handed in from here."""
    return set(session.exec(select(ReviewRow.reference).where(ReviewRow.store_id == store_id)))


def states(session: Session, message_id: int) -> dict[tuple[str, str], str]:
    """(locale, mark) to the best state that any gateway's review of it has reached."""
    found: dict[tuple[str, str], str] = {}
    order = ("approved", "submitted", "rejected")
    for row in of_message(session, message_id):
        held = found.get((row.locale, row.digest))
        if held is None or order.index(row.state) < order.index(held):
            found[row.locale, row.digest] = row.state
    return found


def note(
    session: Session,
    store_id: int,
    gateway_id: int,
    message_id: int,
    locale: str,
    digest: str,
    text: Mapping[str, Any],
    state: str,
    reason: str,
    reference: str,
    now: dt.datetime,
) -> ReviewRow:
    """Keeps that a text was handed in, and what was answered. The same text again takes the place of its last
    review.
    """
    row = session.exec(
        select(ReviewRow).where(
            ReviewRow.gateway_id == gateway_id,
            ReviewRow.message_id == message_id,
            ReviewRow.locale == locale,
            ReviewRow.digest == digest,
        )
    ).first()
    if row is None:
        row = ReviewRow(
            store_id=store_id,
            gateway_id=gateway_id,
            message_id=message_id,
            locale=locale,
            digest=digest,
            state=state,
            submitted_at=now,
        )
        session.add(row)
    row.text, row.submitted_at, row.reference = dict(text), now, reference
    decide(session, row, state, reason, now)
    return row


def decide(session: Session, row: ReviewRow, state: str, reason: str, now: dt.datetime) -> None:
    row.state, row.reason, row.looked_at = state, reason[:1000], now
    row.decided_at = now if state in ("approved", "rejected") else None
    touch(session, row.store_id)
    session.flush()


def waiting(session: Session, asked_before: dt.datetime, limit: int = 50) -> list[ReviewRow]:
    """Texts that wait for their provider's answer, and were last asked about before a moment."""
    return list(
        session.exec(
            select(ReviewRow)
            .where(
                ReviewRow.state == "submitted",
                or_(col(ReviewRow.looked_at).is_(None), col(ReviewRow.looked_at) < asked_before),
            )
            .order_by(col(ReviewRow.looked_at))
            .limit(limit)
        )
    )
