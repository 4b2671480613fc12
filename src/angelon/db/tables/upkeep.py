"""How the installation does: processes, gateways, targets, alerts."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import (
    BigInteger,
    Column,
    Float,
    Index,
    Text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import instant


class HeartbeatRow(SQLModel, table=True):
    """A worker's sign of life."""

    __tablename__ = "heartbeat"
    worker: str = Field(primary_key=True)
    at: dt.datetime = instant(nullable=False)
    role: str = Field(default="plan send", sa_column_kwargs={"server_default": "plan send"})
    """What it is for: `plan`, `send` or both, parted by a space."""
    trouble: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it can't do as it is set up, as a sentence; empty where all is well."""
    planned_rate: float = Field(default=0.0, sa_column=Column(Float, nullable=False, server_default="0"))
    """Events that it plans in a second, while events wait; 0 where that is not known."""


class GatewayUseRow(SQLModel, table=True):
    """How much of its rate, quota and credit a gateway has used."""

    __tablename__ = "gateway_use"
    gateway_id: int = Field(foreign_key="gateway.id", primary_key=True)
    tokens: float = 0.0
    filled_at: dt.datetime | None = instant()
    day: str = ""
    """The shop's day that `day_used` is of."""
    day_used: int = 0
    month_used: int = 0
    next_at: dt.datetime | None = instant()
    """Until when it takes nothing more."""
    waits_for: str = ""
    """What it waits for then: rate, day, month or credit."""
    balance: int | None = Field(default=None, sa_column=Column(BigInteger))
    """Credit left, in millionths of the store's currency."""


class TestAnswerRow(SQLModel, table=True):
    """What a provider answered to the last test by a gateway, as JSON."""

    __tablename__ = "test_answer"
    __test__ = False
    gateway_id: int = Field(foreign_key="gateway.id", primary_key=True)
    at: dt.datetime = instant(nullable=False)
    body: str = Field(sa_column=Column(Text, nullable=False))


class GatewayHealthRow(SQLModel, table=True):
    """How tries at a gateway have gone of late. No row: as far as anybody knows, it works."""

    __tablename__ = "gateway_health"
    gateway_id: int = Field(foreign_key="gateway.id", primary_key=True)
    failures: int = 0
    """Failures of the gateway itself in a row."""
    opened_at: dt.datetime | None = instant()
    """Since when it is taken to be unreachable, and left alone but for one try now and then; None where it is not."""
    probe_at: dt.datetime | None = instant()
    """When it is tried again."""
    reason: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class TargetHealthRow(SQLModel, table=True):
    """How asking a target has gone of late, where it is not well: as `gateway_health` is for gateways."""

    __tablename__ = "target_health"
    target: str = Field(sa_column=Column(Text, primary_key=True))
    failures: int = 0
    opened_at: dt.datetime | None = instant()
    probe_at: dt.datetime | None = instant()
    reason: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class NightlyRow(SQLModel, table=True):
    """What is done once a night for the whole installation."""

    __tablename__ = "nightly"
    name: str = Field(sa_column=Column(Text, primary_key=True))
    day: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The newest day that is done (ISO 8601, UTC)."""
    held_until: dt.datetime | None = instant()
    """Until when nobody else begins: a process is at it, or it failed."""
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Why it failed last; empty where it did not."""


class AlertRow(SQLModel, table=True):
    """Trouble with the installation that was seen, for one store."""

    __tablename__ = "alert"
    __table_args__ = (Index("ix_alert_listed", "store_id", "id"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    kind: str
    subject: str
    what: str = Field(sa_column=Column(Text, nullable=False))
    href: str
    began_at: dt.datetime = instant(nullable=False)
    told_at: dt.datetime | None = instant()
    gone_at: dt.datetime | None = instant()
    over_at: dt.datetime | None = instant()
    over_told_at: dt.datetime | None = instant()
    how: str = ""
    """By which gateway it was told, or why it could not be."""
