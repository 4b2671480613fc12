"""Tokens for the API: made, shown once, revoked."""

from __future__ import annotations

import datetime as dt
import hashlib
import secrets
from collections.abc import Sequence

from sqlmodel import Session

from angelon.client.models import SCOPES
from angelon.core.problems import Invalid, Problem
from angelon.db.access import tokens
from angelon.db.tables import TokenRow
from angelon.engine.installation import Installation
from angelon.engine.operations.upkeep import refuse_twin
from angelon.engine.unit import Work, found

PREFIX = "angelon_"
"""What every token begins with, so that one that was published by mistake is found."""
LONGEST_DAYS = 3660


def digest_of(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def create(work: Work, name: str, scopes: Sequence[str], days: int = 0) -> str:
    """A new token, valid for so many days (0: until it is revoked); gives it, which is the only time that it is seen.
    Raises Invalid.
    """
    name = " ".join(name.split())
    if not name or len(name) > 100:
        raise Invalid([Problem("name", "Give the token a name of up to 100 letters.", "Such as Warehouse system.")])
    refuse_twin(name, (row.name for row in _valid(work)), "token")
    unknown = sorted(set(scopes) - SCOPES.keys())
    if unknown or not scopes:
        what = f"There is no scope “{unknown[0]}”." if unknown else "The token may do nothing yet."
        raise Invalid([Problem("scopes", what, f"Choose among {', '.join(SCOPES)}.")])
    if not 0 <= days <= LONGEST_DAYS:
        raise Invalid([Problem("days", f"A token is valid for 1 to {LONGEST_DAYS:,} days.", "0 has it not expire.")])
    token = PREFIX + secrets.token_urlsafe(32)
    row = TokenRow(
        store_id=work.store_id,
        name=name,
        digest=digest_of(token),
        scopes=[scope for scope in SCOPES if scope in scopes],
        created_at=work.now,
        created_by=work.actor.name,
        expires_at=work.now + dt.timedelta(days=days) if days else None,
    )
    work.session.add(row)
    work.session.flush()
    work.record("created", "token", name, None, {"scopes": row.scopes, "days": days})
    return token


def _valid(work: Work) -> list[TokenRow]:
    return [row for row in tokens.listed(work.session, work.store_id) if row.revoked_at is None]


class NotValid(ValueError):
    """A token that is unknown, revoked or expired; says which."""


def valid(session: Session, token: str, now: dt.datetime) -> TokenRow:
    """The row of a token that may be used now. Raises NotValid."""
    row = tokens.by_digest(session, digest_of(token.strip()))
    if row is None:
        raise NotValid("is unknown")
    if row.revoked_at is not None:
        raise NotValid("is revoked")
    if row.expires_at is not None and row.expires_at <= now:
        raise NotValid("has expired")
    return row


USED_EVERY = dt.timedelta(minutes=1)
"""How exactly it is kept when a token was used last."""


def note_use(installation: Installation, row: TokenRow) -> None:
    """Keeps that a token is used now."""
    now = installation.clock.now()
    if row.last_used_at is None or now - row.last_used_at > USED_EVERY:
        with installation.database.writing() as session:
            tokens.used(session, row.id or 0, now)


def revoke(work: Work, token_id: int) -> str:
    """Ends a token at once; gives its name. Raises NotFound."""
    row: TokenRow = found(tokens.get(work.session, work.store_id, token_id), "There is no such token.")
    if row.revoked_at is None:
        row.revoked_at = work.now
        work.record("revoked", "token", row.name)
    return row.name
