"""Trouble with the installation itself, as it was seen and told."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from sqlmodel import Session, col, delete, func, or_, select

from angelon.core.alerts import URGENT, Known, Trouble
from angelon.db.tables import AlertRow

KEPT_FOR = dt.timedelta(days=90)


def _settled() -> object:
    """Over, and told so or never told: nothing follows any more."""
    return col(AlertRow.over_at).is_not(None) & or_(
        col(AlertRow.told_at).is_(None), col(AlertRow.over_told_at).is_not(None)
    )


def known(session: Session, store_id: int) -> list[Known]:
    """What is not settled, oldest first."""
    rows = session.exec(select(AlertRow).where(AlertRow.store_id == store_id, ~_settled()).order_by(col(AlertRow.id)))  # type: ignore[operator]
    return [_known(row) for row in rows]


def _known(row: AlertRow) -> Known:
    trouble = Trouble(row.kind, row.subject, row.what, row.href)  # type: ignore[arg-type]
    return Known(trouble, row.began_at, row.told_at, row.gone_at, row.over_at, row.id)


def listed(session: Session, store_id: int, most: int) -> Sequence[AlertRow]:
    """The newest of those that were told, or are not over yet."""
    shown = or_(col(AlertRow.told_at).is_not(None), col(AlertRow.over_at).is_(None))
    return session.exec(
        select(AlertRow).where(AlertRow.store_id == store_id, shown).order_by(col(AlertRow.id).desc()).limit(most)
    ).all()


def save(session: Session, store_id: int, found: Sequence[Known]) -> None:
    """Keeps what a look has found; what was never told and is over goes."""
    for one in found:
        row = session.get(AlertRow, one.id) if one.id is not None else None
        if one.over_at is not None and one.told_at is None:
            if row is not None:
                session.delete(row)
            continue
        if row is None:
            about = one.trouble
            row = AlertRow(
                store_id=store_id, kind=about.kind, subject=about.subject, what="", href="", began_at=one.began_at
            )
            session.add(row)
        row.what, row.href = one.trouble.what, one.trouble.href
        row.gone_at, row.over_at = one.gone_at, one.over_at
    session.flush()


def told(session: Session, begun: Sequence[int], over: Sequence[int], now: dt.datetime, how: str) -> None:
    """These were told."""
    for ids, name in ((begun, "told_at"), (over, "over_told_at")):
        for row in session.exec(select(AlertRow).where(col(AlertRow.id).in_(ids))) if ids else ():
            setattr(row, name, now)
            row.how = how


def not_told(session: Session, ids: Sequence[int], why: str) -> None:
    for row in session.exec(select(AlertRow).where(col(AlertRow.id).in_(ids))):
        row.how = why


def last_calm(session: Session, store_id: int) -> dt.datetime | None:
    """When something was told that is not urgent."""
    calm = (AlertRow.store_id == store_id, col(AlertRow.kind).not_in(sorted(URGENT)))
    found = session.exec(select(func.max(AlertRow.told_at), func.max(AlertRow.over_told_at)).where(*calm)).one()
    return max((at for at in found if at is not None), default=None)


def any_before(session: Session, before: dt.datetime) -> bool:
    return session.exec(select(AlertRow.id).where(col(AlertRow.over_at) < before).limit(1)).first() is not None


def forget(session: Session, before: dt.datetime) -> None:
    session.exec(delete(AlertRow).where(col(AlertRow.over_at) < before))
