"""Customers: what is kept about them, and what they have said about being written to."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    Index,
    UniqueConstraint,
    text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import instant, json
from angelon.db.tables.conditions import SEEN


class ContactRow(SQLModel, table=True):
    """A customer, as the sources of a store know them."""

    __tablename__ = "contact"
    __table_args__ = (
        UniqueConstraint("store_id", "identity"),
        Index("ix_contact_seen", "store_id", "first_seen", "id", sqlite_where=text(SEEN), postgresql_where=text(SEEN)),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    identity: str
    """What they are told apart by: the email address, else the phone number, else the source's own id."""
    name: str = ""
    email: str = ""
    phone: str = ""
    country: str = ""
    language: str = ""
    first_seen: dt.datetime = instant()


class ContactTagRow(SQLModel, table=True):
    """A word that a handler or a person has put to a customer."""

    __tablename__ = "contact_tag"
    __table_args__ = (Index("ix_contact_tag_tag", "tag"),)
    contact_id: int = Field(foreign_key="contact.id", primary_key=True)
    tag: str = Field(primary_key=True)
    set_at: dt.datetime = instant(nullable=False)
    set_by: str = ""
    """The handler's name, or the person's."""


class ContactValueRow(SQLModel, table=True):
    """What an event has said of its customer by a variable that is kept: a row for every change."""

    __tablename__ = "contact_value"
    __table_args__ = (Index("ix_contact_value", "contact_id", "name", "set_at"),)
    id: int | None = Field(default=None, primary_key=True)
    contact_id: int = Field(foreign_key="contact.id")
    name: str
    """The variable's."""
    value: Any = json()
    """Packed."""
    set_at: dt.datetime = instant(nullable=False)


class SuppressionRow(SQLModel, table=True):
    """An address that must not be written to."""

    __tablename__ = "suppression"
    __table_args__ = (
        UniqueConstraint("store_id", "address_key", "scope"),
        Index("ix_suppression_since", "store_id", "since", "id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    address_key: str
    """`email:` or `phone:` and the address in lower case."""
    scope: str = ""
    """What is not sent: everything, `optional` messages, or `notice:` and one message's key."""
    why: str
    origin: str = "person"
    """Where it comes from: one of `permission.ORIGINS`."""
    since: dt.datetime = instant(nullable=False)


class ConsentRow(SQLModel, table=True):
    """What the owner of an address has said about being written to by a channel."""

    __tablename__ = "consent"
    __table_args__ = (Index("ix_consent_address", "store_id", "address_key", "channel", "id"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    address_key: str
    channel: str
    granted: bool
    at: dt.datetime = instant(nullable=False)
    given_at: str = ""
    """Where they said so."""
    words: str = ""
    noted_by: str = ""
