"""What is worked out from the rest and can be made anew."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import (
    BigInteger,
    Column,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import Instant, instant


class ShopOffsetRow(SQLModel, table=True):
    """From when on a store's clocks are how many seconds ahead of UTC: its days are counted by it."""

    __tablename__ = "shop_offset"
    store_id: int = Field(foreign_key="store.id", primary_key=True)
    since: dt.datetime = Field(sa_column=Column(Instant, primary_key=True))
    seconds: int


class StatusWordRow(SQLModel, table=True):
    """A word that a status of a source's orders has had, in the store's own words; `part` is `status`,
    `payment_status`, ….
    """

    __tablename__ = "status_word"
    source_id: int = Field(foreign_key="source.id", primary_key=True)
    part: str = Field(primary_key=True)
    word: str = Field(primary_key=True)
    first_seen: dt.datetime = instant(nullable=False)


class SendCountRow(SQLModel, table=True):
    """How many sends were made on a day of the shop (days since 1970), by all that pages ask for; 0 for none."""

    __tablename__ = "send_count"
    store_id: int = Field(primary_key=True)
    day: int = Field(primary_key=True)
    route_id: int = Field(primary_key=True)
    message_id: int = Field(primary_key=True)
    gateway_id: int = Field(primary_key=True)
    channel: str = Field(primary_key=True)
    state: str = Field(primary_key=True)
    test: bool = Field(primary_key=True)
    number: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    retried: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """Those that needed more than one try."""
    cost: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """What they cost, in millionths of the store's currency."""


class OrderCountRow(SQLModel, table=True):
    """How many orders were placed on a day of the shop."""

    __tablename__ = "order_count"
    store_id: int = Field(primary_key=True)
    day: int = Field(primary_key=True)
    number: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))


class EventCountRow(SQLModel, table=True):
    """How many events of a type came on a day of the shop, and how many orders had their first of the type then."""

    __tablename__ = "event_count"
    source_id: int = Field(primary_key=True)
    day: int = Field(primary_key=True)
    type: str = Field(primary_key=True)
    events: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    orders: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))


class DecisionCountRow(SQLModel, table=True):
    """How many events that came on a day of the shop a route has not sent for, by what settled it."""

    __tablename__ = "decision_count"
    store_id: int = Field(primary_key=True)
    day: int = Field(primary_key=True)
    route: str = Field(primary_key=True)
    """Its key."""
    outcome: str = Field(primary_key=True)
    part: str = Field(primary_key=True)
    """The part of the route that said no."""
    number: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))


class SearchDueRow(SQLModel, table=True):
    """What has changed and is to be taken into the search's index."""

    __tablename__ = "search_due"
    kind: str = Field(primary_key=True)
    ref: str = Field(primary_key=True)


class SearchOrderRow(SQLModel, table=True):
    """The words that an order is found by; so are the tables of people and sends."""

    __tablename__ = "search_order"
    id: int | None = Field(default=None, primary_key=True)
    ref: str = Field(unique=True)
    store_id: int
    words: str


class SearchPersonRow(SQLModel, table=True):
    __tablename__ = "search_person"
    id: int | None = Field(default=None, primary_key=True)
    ref: str = Field(unique=True)
    store_id: int
    words: str


class SearchSendRow(SQLModel, table=True):
    __tablename__ = "search_send"
    id: int | None = Field(default=None, primary_key=True)
    ref: str = Field(unique=True)
    store_id: int
    words: str
