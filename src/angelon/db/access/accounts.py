"""Accounts of people, where they are signed in, and invitations."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from sqlmodel import Session, col, delete, func, select

from angelon.db.setup import changes, specs
from angelon.db.tables import AccountRow, InvitationRow, SignedInRow


def record(
    session: Session, now: dt.datetime, by: str, action: str, name: str, before: Any = None, after: Any = None
) -> None:
    """Kept among the changes of the oldest store, where there is one: accounts are the installation's."""
    stores = specs.stores(session)
    if stores:
        changes.add(session, stores[0].id or 0, now, by, action, "account", name, before, after)


def by_subject(session: Session, subject: str) -> AccountRow | None:
    """Who somebody at the identity provider is here."""
    return session.exec(select(AccountRow).where(AccountRow.subject == subject)).first() if subject else None


def invitation_for(session: Session, email: str, now: dt.datetime) -> InvitationRow | None:
    """The newest invitation of an address that can still be taken up."""
    return next((row for row in invitations(session, now) if row.email == email), None)


def there_are_any(session: Session) -> bool:
    return session.exec(select(AccountRow.id).limit(1)).first() is not None


def listed(session: Session) -> Sequence[AccountRow]:
    """Oldest first, disabled ones too."""
    return session.exec(select(AccountRow).order_by(col(AccountRow.id))).all()


def get(session: Session, account_id: int) -> AccountRow | None:
    return session.get(AccountRow, account_id)


def by_email(session: Session, email: str) -> AccountRow | None:
    return session.exec(select(AccountRow).where(AccountRow.email == email.strip().lower())).first()


def owners(session: Session) -> int:
    """How many owners there are who may sign in."""
    statement = select(func.count()).where(AccountRow.role == "owner", col(AccountRow.disabled_at).is_(None))
    return int(session.exec(statement).one())


def signed_in(
    session: Session, digest: str, since: dt.datetime, begun_since: dt.datetime
) -> tuple[SignedInRow, AccountRow] | None:
    """A browser's cookie with its person, where it was seen and begun since two moments and the person may sign in."""
    statement = (
        select(SignedInRow, AccountRow)
        .join(AccountRow, col(AccountRow.id) == col(SignedInRow.account_id))
        .where(
            SignedInRow.digest == digest,
            SignedInRow.seen_at >= since,
            SignedInRow.began_at >= begun_since,
            col(AccountRow.disabled_at).is_(None),
        )
    )
    return session.exec(statement).first()


def browsers(session: Session, account_id: int) -> Sequence[SignedInRow]:
    """Where a person is signed in, seen last first."""
    own = SignedInRow.account_id == account_id
    return session.exec(select(SignedInRow).where(own).order_by(col(SignedInRow.seen_at).desc())).all()


def sign_out(session: Session, account_id: int, only: int | None = None, leave: int | None = None) -> None:
    """Ends where a person is signed in: everywhere, in one browser, or everywhere but there."""
    statement = delete(SignedInRow).where(col(SignedInRow.account_id) == account_id)
    if only is not None:
        statement = statement.where(col(SignedInRow.id) == only)
    if leave is not None:
        statement = statement.where(col(SignedInRow.id) != leave)
    session.exec(statement)


def invitations(session: Session, now: dt.datetime) -> Sequence[InvitationRow]:
    """Those that can still be taken up, newest first."""
    open_ = (col(InvitationRow.used_at).is_(None), InvitationRow.expires_at > now)
    return session.exec(select(InvitationRow).where(*open_).order_by(col(InvitationRow.id).desc())).all()


def invitation(session: Session, digest: str, now: dt.datetime) -> InvitationRow | None:
    """The invitation of a link, where it can still be taken up."""
    row = session.exec(select(InvitationRow).where(InvitationRow.digest == digest)).first()
    return row if row is not None and row.used_at is None and row.expires_at > now else None
