"""Parcels, and what of which order is in each."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    BigInteger,
    Column,
    ForeignKey,
    Index,
    Integer,
    Text,
    UniqueConstraint,
    text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import instant, json
from angelon.db.tables.conditions import LOOKED_AT, SAID, TROUBLE


class ParcelRow(SQLModel, table=True):
    """A parcel, and all that was told of it. `told` is `Progress` as it is stored; columns beside follow from that."""

    __tablename__ = "parcel"
    __table_args__ = (
        UniqueConstraint("store_id", "number_key", "carrier", "turn", name="uq_parcel_number"),
        Index("ix_parcel_stage", "store_id", "stage", "last_at", "id"),
        Index("ix_parcel_last", "store_id", "last_at", "id"),
        Index("ix_parcel_look", "look_at", sqlite_where=text(LOOKED_AT), postgresql_where=text(LOOKED_AT)),
        Index("ix_parcel_said", "store_id", "said_order", sqlite_where=text(SAID), postgresql_where=text(SAID)),
        Index("ix_parcel_troubled", "store_id", "trouble", sqlite_where=text(TROUBLE), postgresql_where=text(TROUBLE)),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    carrier: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The carrier's key, else its name as it was told; empty where nobody has said."""
    number: str
    """As it was told; `number_key` is what it is found by."""
    number_key: str
    turn: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    """Counts the parcels of one number: carriers use numbers again."""
    told: list[Any] | None = json()
    stage: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What people are told: a stage, or what has happened since."""
    country: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Where it goes (ISO 3166-1)."""
    expected_on: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The day that was told last (ISO 8601)."""
    expected_told_at: dt.datetime | None = instant()
    created_at: dt.datetime = instant(nullable=False)
    last_at: dt.datetime = instant(nullable=False)
    """When somebody last told something of it."""
    picked_at: dt.datetime | None = instant()
    delivered_at: dt.datetime | None = instant()
    look_at: dt.datetime | None = instant()
    """When it is looked at next: it may be late, count as delivered or be lost then."""
    trouble: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """`late`, `lost` or `failed`, as long as it is."""
    said_order: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The number of the order that it is for, which is not known yet."""
    unknown: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The carrier's last words whose meaning nobody knows."""


class ParcelLineRow(SQLModel, table=True):
    """What of an order is in a parcel; a row without an item says that all of it is."""

    __tablename__ = "parcel_line"
    __table_args__ = (
        UniqueConstraint("order_id", "parcel_id", "item", name="uq_parcel_line"),
        Index("ix_parcel_line_parcel", "parcel_id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    parcel_id: int = Field(foreign_key="parcel.id")
    order_id: int = Field(sa_column=Column(BigInteger, ForeignKey("order.id"), nullable=False))
    item: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The line's sku, else its name."""
    name: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    quantity: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
