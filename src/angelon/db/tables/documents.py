"""Documents: their numbers, files and what is held."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Index,
    LargeBinary,
    UniqueConstraint,
    false,
    text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import Instant, json
from angelon.db.tables.conditions import CORRECTS


class DocumentSeriesRow(SQLModel, table=True):
    """The last number of a series of documents in a year; year 0 where it goes on over years."""

    __tablename__ = "document_series"
    store_id: int = Field(foreign_key="store.id", primary_key=True)
    series: str = Field(primary_key=True)
    year: int = Field(primary_key=True)
    last: int


class DocumentLookRow(SQLModel, table=True):
    """A letterhead as documents were made in it, with its picture."""

    __tablename__ = "document_look"
    store_id: int = Field(foreign_key="store.id", primary_key=True)
    digest: str = Field(primary_key=True)
    look: Any = json()


class DocumentRow(SQLModel, table=True):
    """An invoice or credit note: numbered, and never changed."""

    __tablename__ = "document"
    __table_args__ = (
        UniqueConstraint("store_id", "series", "year", "number", name="uq_document_number"),
        Index("ix_document_order", "order_id"),
        Index("ix_document_corrects_id", "corrects_id", sqlite_where=text(CORRECTS), postgresql_where=text(CORRECTS)),
        Index("ix_document_listed", "store_id", "id"),
        *(Index(f"ix_document_{column}", "store_id", column) for column in ("name", "day")),
        *(Index(f"ix_document_{column}", "store_id", column, "id") for column in ("kind", "country", "scheme")),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    order_id: int | None = Field(default=None, foreign_key="order.id")
    kind: str
    series: str
    name: str
    """Its number, as it is printed."""
    asked: str
    """A digest of for whom it was made: the same is not made twice."""
    year: int
    number: int
    day: str
    """ISO 8601, by the shop's clock."""
    currency: str
    country: str
    """Whose tax it is under."""
    scheme: str
    net: int = Field(sa_column=Column(BigInteger, nullable=False))
    """Amounts in the currency's smallest unit."""
    tax: int = Field(sa_column=Column(BigInteger, nullable=False))
    gross: int = Field(sa_column=Column(BigInteger, nullable=False))
    buyer: str = ""
    email: str = ""
    """To whom it goes, where whoever asked for it has typed that."""
    by: str = ""
    look: str = ""
    """The digest of its letterhead."""
    frozen: Any = json()
    """The document itself (`core.documents.document.Document.plain`)."""
    corrects_id: int | None = Field(default=None, foreign_key="document.id")
    credited: Any = json()
    """Of a credit note: gross and net by item of the invoice."""
    over: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Of an invoice: whether all of it was taken back."""
    created_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))


class DocumentFileRow(SQLModel, table=True):
    """A document as a file, made from what is frozen of it."""

    __tablename__ = "document_file"
    document_id: int = Field(foreign_key="document.id", primary_key=True)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class DocumentHeldRow(SQLModel, table=True):
    """An order of which an invoice was wanted and could not be made."""

    __tablename__ = "document_held"
    order_id: int = Field(foreign_key="order.id", primary_key=True)
    store_id: int = Field(foreign_key="store.id", index=True)
    why: str = ""
    hint: str = ""
    by: str = ""
    asked: Any = json()
    at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
