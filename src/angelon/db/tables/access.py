"""Who may do what: accounts, tokens, credentials, and how often something may be tried."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    Column,
    LargeBinary,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import instant, json


class AccountRow(SQLModel, table=True):
    """A person who signs in."""

    __tablename__ = "account"
    id: int | None = Field(default=None, primary_key=True)
    email: str = Field(unique=True)
    """In lower case."""
    name: str
    password: str
    """Argon2id (RFC 9106), with its parameters and salt."""
    role: str
    created_at: dt.datetime = instant(nullable=False)
    disabled_at: dt.datetime | None = instant()
    failures: int = 0
    """Not used since migration 0041, nor is `locked_until`: the version before asks for them while it is replaced."""
    locked_until: dt.datetime | None = instant()
    second_step: bool = False
    """Whether a code is asked for besides the password."""
    last_step: int = 0
    """The time step of the last code that was used: none is good twice."""
    recovery: list[str] | None = json()
    """Digests of the recovery codes that are left."""
    subject: str = ""
    """Who they are at the identity provider: its issuer and its own id."""


class SignedInRow(SQLModel, table=True):
    """Where a person is signed in: a browser's cookie, by its digest."""

    __tablename__ = "signed_in"
    id: int | None = Field(default=None, primary_key=True)
    account_id: int = Field(foreign_key="account.id", index=True)
    digest: str = Field(unique=True)
    began_at: dt.datetime = instant(nullable=False)
    seen_at: dt.datetime = instant(nullable=False)
    address: str = ""
    agent: str = ""


class InvitationRow(SQLModel, table=True):
    """A link by which somebody makes their account."""

    __tablename__ = "invitation"
    id: int | None = Field(default=None, primary_key=True)
    digest: str = Field(unique=True)
    email: str
    role: str
    made_at: dt.datetime = instant(nullable=False)
    made_by: str
    expires_at: dt.datetime = instant(nullable=False)
    used_at: dt.datetime | None = instant()


class TokenRow(SQLModel, table=True):
    """A token that another system asks by; the token itself is kept nowhere."""

    __tablename__ = "token"
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    name: str
    digest: str = Field(unique=True)
    """SHA-256 of the token, in hexadecimal: it is 32 random bytes, so no salt is needed."""
    scopes: list[Any] | None = json()
    created_at: dt.datetime = instant(nullable=False)
    created_by: str
    last_used_at: dt.datetime | None = instant()
    expires_at: dt.datetime | None = instant()
    revoked_at: dt.datetime | None = instant()


class SecretRow(SQLModel, table=True):
    """A credential, encrypted under the secret key. Several of one kind may stand while one takes over from another."""

    __tablename__ = "secret"
    id: int | None = Field(default=None, primary_key=True)
    kind: str = Field(index=True)
    """`source` or `gateway`."""
    owner_id: int = Field(index=True)
    sealed: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    created_at: dt.datetime = instant()
    until: dt.datetime | None = instant()


class AllowanceRow(SQLModel, table=True):
    """How much is left of what may be tried."""

    __tablename__ = "allowance"
    what: str = Field(primary_key=True)
    left: float
    at: dt.datetime = instant(nullable=False, index=True)
    """When it was last spent."""
