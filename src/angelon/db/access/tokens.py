"""Tokens for the API: found by their digest, never by themselves."""

from __future__ import annotations

import datetime as dt

from sqlmodel import Session, col, select

from angelon.db.tables import TokenRow


def listed(session: Session, store_id: int) -> list[TokenRow]:
    """Newest first, revoked ones too."""
    return list(session.exec(select(TokenRow).where(TokenRow.store_id == store_id).order_by(col(TokenRow.id).desc())))


def by_digest(session: Session, digest: str) -> TokenRow | None:
    return session.exec(select(TokenRow).where(TokenRow.digest == digest)).first()


def get(session: Session, store_id: int, token_id: int) -> TokenRow | None:
    row = session.get(TokenRow, token_id)
    return row if row is not None and row.store_id == store_id else None


def used(session: Session, token_id: int, now: dt.datetime) -> None:
    """Notes that a token was used."""
    row = session.get(TokenRow, token_id)
    if row is not None:
        row.last_used_at = now
