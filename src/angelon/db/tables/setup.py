"""What a store has set up. A spec is kept as JSON, beside the columns that are searched."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    Boolean,
    Column,
    Index,
    LargeBinary,
    Text,
    UniqueConstraint,
    false,
    text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import Instant, edits, instant, json
from angelon.db.tables.conditions import FREE, GIVEN


class StoreRow(SQLModel, table=True):
    __tablename__ = "store"
    id: int | None = Field(default=None, primary_key=True)
    key: str = Field(unique=True)
    spec: dict[str, Any] = json()
    version: int = 0
    """Goes up with every change to anything the store has set up."""
    edits: int = edits()
    trial: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Where sends go while the store is on trial: `team` or `nobody`; empty where it is not."""


class SourceRow(SQLModel, table=True):
    __tablename__ = "source"
    __table_args__ = (UniqueConstraint("key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = json()
    draft: dict[str, Any] | None = json()
    """The mapping that is being edited, where it is not what is live."""
    drafted_at: dt.datetime | None = instant()
    edits: int = edits()
    gone_at: dt.datetime | None = instant()
    """When it was deleted."""
    created_at: dt.datetime = instant()


class MappingStepRow(SQLModel, table=True):
    """One edit of a mapping's draft, with what the draft was before it: undone newest first, gone once it is live."""

    __tablename__ = "mapping_step"
    __table_args__ = (Index("ix_mapping_step_source", "source_id", "id"),)
    id: int | None = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id")
    at: dt.datetime = instant(nullable=False)
    actor: str
    said: str
    """What was done, for the button that undoes it: `email: path $.buyer.email`."""
    before: dict[str, Any] | None = json()
    """The draft before the edit; None where there was none."""


class VariableRow(SQLModel, table=True):
    __tablename__ = "variable"
    __table_args__ = (UniqueConstraint("store_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    name: str
    spec: dict[str, Any] = json()
    edits: int = edits()


class GatewayRow(SQLModel, table=True):
    __tablename__ = "gateway"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = json()
    edits: int = edits()
    gone_at: dt.datetime | None = instant()
    """When it was deleted."""


class MessageRow(SQLModel, table=True):
    __tablename__ = "message"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    draft: dict[str, Any] | None = json()
    drafted_at: dt.datetime | None = instant()
    live_id: int | None = None
    """The revision that is live."""
    edits: int = edits()
    gone_at: dt.datetime | None = instant()
    """When it was deleted."""


class RouteRow(SQLModel, table=True):
    __tablename__ = "route"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    draft: dict[str, Any] | None = json()
    drafted_at: dt.datetime | None = instant()
    live_id: int | None = None
    edits: int = edits()
    on: bool = False
    since: dt.datetime | None = instant()
    """When it was switched on last; events received before never count."""
    gone_at: dt.datetime | None = instant()
    """When it was deleted; its sends stay, and it can be brought back."""


class RevisionRow(SQLModel, table=True):
    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("kind", "owner_id", "number"),)
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    owner_id: int
    number: int
    spec: dict[str, Any] = json()
    created_at: dt.datetime = instant()
    note: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What has to be remembered of its going live, such as a check that was red."""


class HandlerFolderRow(SQLModel, table=True):
    """The folder of handlers as it was loaded last: what it registers, and what is wrong with its files."""

    __tablename__ = "handler_folder"
    id: int | None = Field(default=None, primary_key=True)
    folder: str
    digest: str
    """What its contents are told apart by."""
    loaded_at: dt.datetime = instant(nullable=False)
    handlers: list[Any] | None = json()
    problems: list[Any] | None = json()
    output: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class ShapeRow(SQLModel, table=True):
    """What a source's deliveries of one name have looked like so far."""

    __tablename__ = "shape"
    source_id: int = Field(foreign_key="source.id", primary_key=True)
    name: str = Field(primary_key=True)
    spec: dict[str, Any] = json()


class FileRow(SQLModel, table=True):
    """A file of the store's library. On a shelf, a name stands once for each order, sku or language that it is kept
    for.
    """

    __tablename__ = "file"
    __table_args__ = (UniqueConstraint("store_id", "shelf", "name", "by", "match"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    shelf: str
    name: str
    type: str
    """Its media type by its content."""
    size: int
    by: str = ""
    match: str = ""
    added_at: dt.datetime = instant(nullable=False)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class ReviewRow(SQLModel, table=True):
    """A chat text handed in for a provider's review."""

    __tablename__ = "review"
    __table_args__ = (UniqueConstraint("gateway_id", "message_id", "locale", "digest"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id", index=True)
    gateway_id: int = Field(foreign_key="gateway.id")
    message_id: int = Field(foreign_key="message.id")
    locale: str
    digest: str
    """SHA-256 of the words, placeholders and category that were handed in."""
    state: str
    reason: str = ""
    reference: str = ""
    text: dict[str, Any] = json()
    submitted_at: dt.datetime = instant(nullable=False)
    decided_at: dt.datetime | None = instant()
    looked_at: dt.datetime | None = instant()


class CheckRow(SQLModel, table=True):
    """A saved event with what must come out of it, and how it came out last."""

    __tablename__ = "check"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = json()
    ran_at: dt.datetime | None = instant()
    passed: bool | None = None
    edits: int = edits()


class ViewRow(SQLModel, table=True):
    """A list as somebody has narrowed it, kept under a name for everybody of the shop."""

    __tablename__ = "view"
    __table_args__ = (UniqueConstraint("store_id", "page", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    page: str
    """`sends`."""
    name: str
    query: str
    """The filters as they stand in the page's address (RFC 3986, section 3.4)."""
    made_by: str = ""


class ChangeRow(SQLModel, table=True):
    """Something that somebody changed: what it was before and after. Never changed itself."""

    __tablename__ = "change"
    __table_args__ = (
        Index("ix_change_store", "store_id", "id"),
        Index("ix_change_thing", "store_id", "kind", "key", "id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    at: dt.datetime = instant(nullable=False)
    actor: str
    """Who did it: “this machine” until there are accounts."""
    action: str
    """What was done, as a verb: saved, published, switched on, deleted …"""
    kind: str
    """What it was done to: source, gateway, variable, message, route, send …"""
    key: str
    before: Any = json()
    after: Any = json()


class RunRow(SQLModel, table=True):
    """A route that somebody ran by hand on chosen orders."""

    __tablename__ = "run"
    __table_args__ = (Index("ix_run_key", "store_id", "key", unique=True),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id", index=True)
    route_id: int = Field(foreign_key="route.id")
    started_at: dt.datetime = instant(nullable=False)
    answers: dict[str, Any] = json()
    results: list[Any] = json()
    """For each order: its id and number, what came of it, why."""
    key: str | None = Field(default=None, sa_column=Column(Text))
    """What its form was given, so that a second click starts nothing."""
    by: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Who started it."""


class ShopTableRow(SQLModel, table=True):
    """A table of the shop's own, by a key: looked up in mappings, or given out row by row."""

    __tablename__ = "shop_table"
    __table_args__ = (UniqueConstraint("store_id", "key", name="uq_shop_table_key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    name: str
    columns: Any = json()
    """The names of its columns in texts; the first is what its rows are found by."""
    once: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether each row is given out once."""
    low: int = 10
    """How few rows are left when somebody is told."""
    version: int = 0
    changed_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    fetch: Any = json()
    """From where it is fetched, as a `TableFetch`; None where it is not."""
    due_at: dt.datetime | None = instant()
    fetched_at: dt.datetime | None = instant()
    """When what the address said was last the table's content."""
    problem: str = ""
    """Why the last fetching changed nothing."""
    edits: int = edits()


class ShopTableItemRow(SQLModel, table=True):
    """A row of a version; of a table that is given out, to which send."""

    __tablename__ = "shop_table_item"
    __table_args__ = (
        UniqueConstraint("table_id", "version", "key", name="uq_shop_table_item"),
        Index("ix_shop_table_item_free", "table_id", "id", sqlite_where=text(FREE), postgresql_where=text(FREE)),
        Index("ix_shop_table_item_send", "send_id", sqlite_where=text(GIVEN), postgresql_where=text(GIVEN)),
    )
    id: int | None = Field(default=None, primary_key=True)
    table_id: int = Field(foreign_key="shop_table.id")
    version: int
    key: str
    cells: Any = json()
    send_id: str | None = Field(default=None, sa_column=Column(Text))
    given_at: dt.datetime | None = instant()
