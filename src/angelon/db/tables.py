"""The tables. A thing that is set up keeps its spec as JSON, beside the columns that are searched."""

from __future__ import annotations

import datetime as dt
import zlib
from typing import Any

import orjson
from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    Text,
    UniqueConstraint,
    false,
    text,
)
from sqlalchemy.types import TypeDecorator
from sqlmodel import Field, SQLModel

WAITING = "state IN ('scheduled', 'retrying')"
SENDING = "state = 'sending'"
DUE = "due_at IS NOT NULL"
"""The inquiries that are not settled."""
TO_PLAN = "planned_at IS NULL AND waits_for = ''"
TO_DECIDE = "decide_at IS NOT NULL"
AWAITING = "waits_for = 'answers'"
BLOCKED = "planned_at IS NULL AND waits_for != ''"
"""The events that are planned next, that are looked at again, that wait for answers, that wait for what says which
order they are about.
"""
PINNED = "pinned"
"""The deliveries that are kept among the samples."""
PROBLEM = "problem != ''"
"""The events that could not be planned."""
LOOKED_AT = "look_at IS NOT NULL"
SAID = "said_order != ''"
TROUBLE = "trouble != ''"
"""The parcels that are looked at again, whose orders are not known yet, that are late or worse."""
FREE = "send_id IS NULL"
GIVEN = "send_id IS NOT NULL"
"""The rows of tables that nobody was given, and those that somebody was."""
OPEN = "state = 'open'"
"""The questions that may still be answered."""
STUCK = "state IN ('held', 'failed')"
"""The sends that wait for their time, that are in a worker's hands, that need a person: spelt out so that a database
can tell that
the index of these serves."""

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
_MICRO = dt.timedelta(microseconds=1)


class Instant(TypeDecorator[dt.datetime]):
    """A moment, kept as whole microseconds since 1970 (UTC): exact, small, and compared alike by every database."""

    impl = BigInteger
    cache_ok = True

    def process_bind_param(self, value: dt.datetime | None, dialect: Any) -> int | None:
        return None if value is None else (value - _EPOCH) // _MICRO

    def process_result_value(self, value: int | None, dialect: Any) -> dt.datetime | None:
        return None if value is None else _EPOCH + dt.timedelta(microseconds=value)

    @staticmethod
    def moment(value: int | dt.datetime) -> dt.datetime:
        """What a union gives, which forgets its columns' types."""
        return value if isinstance(value, dt.datetime) else _EPOCH + dt.timedelta(microseconds=value)


class Json(TypeDecorator[Any]):
    """A JSON value as text. What JSON can't hold is written as text, so that one odd value never keeps a row from being
    stored.
    """

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        if value is None:
            return None
        try:
            return orjson.dumps(value, option=orjson.OPT_NON_STR_KEYS, default=str).decode()
        except (
            TypeError,
            ValueError,
            RecursionError,
        ):  # orjson's errors are TypeErrors: numbers over 64 bits, half surrogates, depth
            return orjson.dumps(_writable(value), option=orjson.OPT_NON_STR_KEYS, default=str).decode()

    def process_result_value(self, value: str | None, dialect: Any) -> Any:
        return None if value is None else orjson.loads(value)


DEEPEST = 100
"""Levels of nesting that are stored as such."""


def _writable(value: Any, depth: int = 0) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, int) and not isinstance(value, bool) and not -(2**63) <= value < 2**64:
        return f"{value:.6e}" if abs(value) < 10**300 else "a number of over 300 digits"
    if isinstance(value, dict | list | tuple) and depth >= DEEPEST:
        return "…"
    if isinstance(value, dict):
        return {_writable(str(key)): _writable(item, depth + 1) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_writable(item, depth + 1) for item in value]
    return value


def _instant(index: bool = False, nullable: bool = True) -> Any:
    return Field(default=None, sa_column=Column(Instant, nullable=nullable, index=index))


def _json(default: Any = None) -> Any:
    return Field(default=default, sa_column=Column(Json))


def _edits() -> Any:
    """How often a row was changed: what somebody has open is older where this has gone up meanwhile."""
    return Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))


class StoreRow(SQLModel, table=True):
    __tablename__ = "store"
    id: int | None = Field(default=None, primary_key=True)
    key: str = Field(unique=True)
    spec: dict[str, Any] = _json()
    version: int = 0
    """Goes up with every change to anything the store has set up."""
    edits: int = _edits()
    trial: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Where sends go while the store is on trial: `team` or `nobody`; empty where it is not."""


class SourceRow(SQLModel, table=True):
    __tablename__ = "source"
    __table_args__ = (UniqueConstraint("key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = _json()
    draft: dict[str, Any] | None = _json()
    """The mapping that is being edited, where it is not what is live."""
    drafted_at: dt.datetime | None = _instant()
    edits: int = _edits()
    gone_at: dt.datetime | None = _instant()
    """When it was deleted."""
    created_at: dt.datetime = _instant()


class MappingStepRow(SQLModel, table=True):
    """One edit of a mapping's draft, with what the draft was before it: undone newest first, gone once it is live."""

    __tablename__ = "mapping_step"
    __table_args__ = (Index("ix_mapping_step_source", "source_id", "id"),)
    id: int | None = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id")
    at: dt.datetime = _instant(nullable=False)
    actor: str
    said: str
    """What was done, for the button that undoes it: `email: path $.buyer.email`."""
    before: dict[str, Any] | None = _json()
    """The draft before the edit; None where there was none."""


class VariableRow(SQLModel, table=True):
    __tablename__ = "variable"
    __table_args__ = (UniqueConstraint("store_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    name: str
    spec: dict[str, Any] = _json()
    edits: int = _edits()


class GatewayRow(SQLModel, table=True):
    __tablename__ = "gateway"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = _json()
    edits: int = _edits()
    gone_at: dt.datetime | None = _instant()
    """When it was deleted."""


class MessageRow(SQLModel, table=True):
    __tablename__ = "message"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    draft: dict[str, Any] | None = _json()
    drafted_at: dt.datetime | None = _instant()
    live_id: int | None = None
    """The revision that is live."""
    edits: int = _edits()
    gone_at: dt.datetime | None = _instant()
    """When it was deleted."""


class RouteRow(SQLModel, table=True):
    __tablename__ = "route"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    draft: dict[str, Any] | None = _json()
    drafted_at: dt.datetime | None = _instant()
    live_id: int | None = None
    edits: int = _edits()
    on: bool = False
    since: dt.datetime | None = _instant()
    """When it was switched on last; events received before never count."""
    gone_at: dt.datetime | None = _instant()
    """When it was deleted; its sends stay, and it can be brought back."""


class RevisionRow(SQLModel, table=True):
    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("kind", "owner_id", "number"),)
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    owner_id: int
    number: int
    spec: dict[str, Any] = _json()
    created_at: dt.datetime = _instant()
    note: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What has to be remembered of its going live, such as a check that was red."""


class SecretRow(SQLModel, table=True):
    """A credential, encrypted under the secret key. Several of one kind may stand while one takes over from another."""

    __tablename__ = "secret"
    id: int | None = Field(default=None, primary_key=True)
    kind: str = Field(index=True)
    """`source` or `gateway`."""
    owner_id: int = Field(index=True)
    sealed: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    created_at: dt.datetime = _instant()
    until: dt.datetime | None = _instant()


class DeliveryRow(SQLModel, table=True):
    """One request as it came in. Its events point to it, however many there are and whatever follows from them."""

    __tablename__ = "delivery"
    __table_args__ = (Index("ix_delivery_hash", "source_id", "body_hash"),)
    id: str = Field(primary_key=True)
    source_id: int = Field(foreign_key="source.id")
    received_at: dt.datetime = _instant(nullable=False)
    content_type: str = ""
    headers: dict[str, Any] = _json()
    body_hash: str = ""
    body: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class EventRow(SQLModel, table=True):
    __tablename__ = "event"
    __table_args__ = (
        UniqueConstraint("source_id", "delivery_key"),
        Index(
            *("ix_event_to_plan", "received_at", "source_id"),
            sqlite_where=text(TO_PLAN),
            postgresql_where=text(TO_PLAN),
        ),
        Index("ix_event_decide", "decide_at", sqlite_where=text(TO_DECIDE), postgresql_where=text(TO_DECIDE)),
        Index("ix_event_awaiting", "order_id", sqlite_where=text(AWAITING), postgresql_where=text(AWAITING)),
        Index("ix_event_blocked", "source_id", sqlite_where=text(BLOCKED), postgresql_where=text(BLOCKED)),
        Index("ix_event_source", "source_id", "received_at"),
        Index("ix_event_type", "type", "received_at"),
        Index("ix_event_delivery_id", "delivery_id"),
        Index("ix_event_pinned", "source_id", "received_at", sqlite_where=text(PINNED), postgresql_where=text(PINNED)),
        Index("ix_event_problem", "received_at", sqlite_where=text(PROBLEM), postgresql_where=text(PROBLEM)),
    )
    id: str = Field(primary_key=True)
    source_id: int = Field(foreign_key="source.id")
    delivery_id: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The delivery that it reads."""
    delivery_key: str
    name: str
    type: str = ""
    received_at: dt.datetime = _instant(nullable=False)
    item: int = 0
    """Which of the delivery's orders, where it carries several."""
    parent_id: str | None = Field(default=None, sa_column=Column(Text, ForeignKey("event.id"), index=True))
    was: str = ""
    now: str = ""
    planned_at: dt.datetime | None = _instant()
    order_id: int | None = Field(default=None, sa_column=Column(BigInteger, index=True))
    decisions: list[Any] | None = _json()
    problem: str = ""
    pinned: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether it is kept among the samples however old it gets."""
    waits_for: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it waits for: nothing; `answers`, where it is planned but for decisions that need one; or `order:` and the
    order's reference, where an answer has to say which order it is about or how that stands, so that it and what comes
    later about the order is not processed before (no reference where only the answer says it).
    """
    decide_at: dt.datetime | None = _instant()
    """When what waits is looked at again: an answer has come."""
    facts: dict[str, Any] | None = _json()
    """What was known when it was planned, for the decisions that wait."""


class InquiryRow(SQLModel, table=True):
    """One thing that is asked elsewhere about an event: an address (a look-up) or a function (a handler). Kept with the
    event once it is settled.
    """

    __tablename__ = "inquiry"
    __table_args__ = (
        Index("ix_inquiry_due", "target", "due_at", sqlite_where=text(DUE), postgresql_where=text(DUE)),
        Index("ix_inquiry_at", "kind", "name", "at"),
        Index("ix_inquiry_problem", "at", sqlite_where=text(PROBLEM), postgresql_where=text(PROBLEM)),
    )
    event_id: str = Field(sa_column=Column(Text, ForeignKey("event.id"), primary_key=True))
    kind: str = Field(sa_column=Column(Text, primary_key=True))
    """`look-up` or `handler`."""
    name: str = Field(sa_column=Column(Text, primary_key=True))
    source_id: int
    target: str = Field(sa_column=Column(Text, nullable=False))
    """Who is asked: the origin of an address (RFC 6454), or `handler:` and the function's name. What goes wrong with
    one target harms that target's inquiries alone.
    """
    due_at: dt.datetime | None = _instant()
    """When it is asked (again); while it is being asked, when another may take it over. None once it is settled."""
    until: dt.datetime = _instant(nullable=False)
    """When it fails, whatever came of it by then."""
    asker: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The worker that is asking just now."""
    tries: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    at: dt.datetime | None = _instant()
    """When it was asked last."""
    took_ms: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    url: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    value: Any = _json()
    """What an address answered; what a handler asked for, as `core.specs.asked.Asked`."""
    output: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What a handler printed."""
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    digest: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The contents of the folder that a handler ran from."""


class TargetHealthRow(SQLModel, table=True):
    """How asking a target has gone of late, where it is not well: as `gateway_health` is for gateways."""

    __tablename__ = "target_health"
    target: str = Field(sa_column=Column(Text, primary_key=True))
    failures: int = 0
    opened_at: dt.datetime | None = _instant()
    probe_at: dt.datetime | None = _instant()
    reason: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class HandlerFolderRow(SQLModel, table=True):
    """The folder of handlers as it was loaded last: what it registers, and what is wrong with its files."""

    __tablename__ = "handler_folder"
    id: int | None = Field(default=None, primary_key=True)
    folder: str
    digest: str
    """What its contents are told apart by."""
    loaded_at: dt.datetime = _instant(nullable=False)
    handlers: list[Any] | None = _json()
    problems: list[Any] | None = _json()
    output: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class ShapeRow(SQLModel, table=True):
    """What a source's deliveries of one name have looked like so far."""

    __tablename__ = "shape"
    source_id: int = Field(foreign_key="source.id", primary_key=True)
    name: str = Field(primary_key=True)
    spec: dict[str, Any] = _json()


class RefusedRow(SQLModel, table=True):
    """A delivery that was turned away, kept for the developer to see."""

    __tablename__ = "refused"
    id: int | None = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id", index=True)
    at: dt.datetime = _instant(nullable=False)
    status: int
    reason: str
    hint: str = ""
    headers: dict[str, Any] = _json()
    body_start: str = ""
    body_bytes: int = 0
    body: bytes | None = Field(default=None, sa_column=Column(LargeBinary))
    """All of it, where it is small: what a sample is made of."""
    signing: dict[str, Any] | None = _json()
    """How it seems to be signed, where its signature was refused: a `Signing`, and whether a secret `verified` it."""


class FetchRow(SQLModel, table=True):
    """How far a source's orders are fetched. One process at a time fetches a source: whoever holds its lease."""

    __tablename__ = "fetch"
    source_id: int = Field(primary_key=True, foreign_key="source.id")
    position: Any = _json()
    due_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    held_until: dt.datetime | None = _instant()
    """Until when the process that fetches just now has it for itself."""
    tried_at: dt.datetime | None = _instant()
    through_at: dt.datetime | None = _instant()
    """When all pages were last gone through."""
    problem: str = ""
    failures: int = 0
    """Failed requests in a row."""
    hour_at: dt.datetime | None = _instant()
    in_hour: int = 0
    """Requests since `hour_at`."""
    log: Any = _json()
    """The newest passes: when, how many requests and orders, how many of these were new, why it ended."""


class KnownItemRow(SQLModel, table=True):
    """What an order that was fetched or imported said last, as digests, so that what comes again is no news."""

    __tablename__ = "known_item"
    source_id: int = Field(primary_key=True, foreign_key="source.id")
    key: str = Field(primary_key=True)
    digest: str
    at: str = ""
    seen_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))


class ImportRow(SQLModel, table=True):
    """A file whose rows are orders: how it is read, and how far it is taken."""

    __tablename__ = "import"
    id: int | None = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id", index=True)
    name: str
    size: int
    created_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    by: str = ""
    """Who gave it, or the folder that it was in."""
    state: str = "looked_at"
    """looked_at, waiting, running, done, stopped, failed"""
    form: Any = _json()
    quiet: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    rows: int = 0
    """Orders that were gone through, those that can't be read among them."""
    new: int = 0
    errors: Any = _json()
    """Rows that were not taken: their number, and why."""
    failed: int = 0
    problem: str = ""
    began_at: dt.datetime | None = _instant()
    ended_at: dt.datetime | None = _instant()
    held_until: dt.datetime | None = _instant()
    told_at: dt.datetime | None = _instant()
    """When what was told was written beside the file in its folder."""


class ImportPartRow(SQLModel, table=True):
    """A piece of a file, packed by zlib: stored in pieces, so that no write takes long."""

    __tablename__ = "import_part"
    import_id: int = Field(primary_key=True, foreign_key="import.id")
    number: int = Field(primary_key=True)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class DownloadRow(SQLModel, table=True):
    """The files of a message that its customer downloads."""

    __tablename__ = "download"
    send_id: str = Field(primary_key=True, foreign_key="send.id")
    store_id: int = Field(foreign_key="store.id")
    files: Any = _json()
    left: int
    """How often they may still be had."""
    had: int = 0
    until: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    last_at: dt.datetime | None = _instant()
    revoked_at: dt.datetime | None = _instant()


class ShopTableRow(SQLModel, table=True):
    """A table of the shop's own, by a key: looked up in mappings, or given out row by row."""

    __tablename__ = "shop_table"
    __table_args__ = (UniqueConstraint("store_id", "key", name="uq_shop_table_key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    name: str
    columns: Any = _json()
    """The names of its columns in texts; the first is what its rows are found by."""
    once: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether each row is given out once."""
    low: int = 10
    """How few rows are left when somebody is told."""
    version: int = 0
    changed_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    fetch: Any = _json()
    """From where it is fetched, as a `TableFetch`; None where it is not."""
    due_at: dt.datetime | None = _instant()
    fetched_at: dt.datetime | None = _instant()
    """When what the address said was last the table's content."""
    problem: str = ""
    """Why the last fetching changed nothing."""
    edits: int = _edits()


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
    cells: Any = _json()
    send_id: str | None = Field(default=None, sa_column=Column(Text))
    given_at: dt.datetime | None = _instant()


class OrderRow(SQLModel, table=True):
    __tablename__ = "order"
    __table_args__ = (
        UniqueConstraint("source_id", "reference"),
        Index("ix_order_placed", "store_id", "placed_at"),
        Index("ix_order_last_event", "store_id", "last_event_at", "id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    source_id: int = Field(foreign_key="source.id")
    reference: str
    number: str = Field(index=True)
    status: str = ""
    seen: list[Any] = _json()
    """Every status with its time."""
    seen_others: dict[str, Any] | None = _json()
    """The same for the order's other statuses, by part (`payment_status`, …)."""
    total: str = ""
    """As people read it."""
    placed_at: dt.datetime = _instant(nullable=False)
    last_event_at: dt.datetime = _instant(nullable=False)
    contact_id: int | None = Field(default=None, foreign_key="contact.id", index=True)
    language: str = ""
    read: dict[str, Any] = _json()
    bought: list[Any] | None = _json()
    """Total and items as events have said them over time (`core.planning.purchases`); None in orders from before."""


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
    look: Any = _json()


class DocumentRow(SQLModel, table=True):
    """An invoice or credit note: numbered, and never changed."""

    __tablename__ = "document"
    __table_args__ = (
        UniqueConstraint("store_id", "series", "year", "number", name="uq_document_number"),
        Index("ix_document_order", "order_id"),
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
    frozen: Any = _json()
    """The document itself (`core.documents.document.Document.plain`)."""
    corrects_id: int | None = Field(default=None, foreign_key="document.id")
    credited: Any = _json()
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
    asked: Any = _json()
    at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))


class OrderAliasRow(SQLModel, table=True):
    """What another source than its first calls an order."""

    __tablename__ = "order_alias"
    source_id: int = Field(foreign_key="source.id", primary_key=True)
    reference: str = Field(primary_key=True)
    order_id: int = Field(foreign_key="order.id", index=True)
    apart: bool = False
    """Whether somebody has said so that it is an order of its own: it is not taken for another's again."""


class ContactRow(SQLModel, table=True):
    """A customer, as the sources of a store know them."""

    __tablename__ = "contact"
    __table_args__ = (UniqueConstraint("store_id", "identity"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    identity: str
    """What they are told apart by: the email address, else the phone number, else the source's own id."""
    name: str = ""
    email: str = ""
    phone: str = ""
    country: str = ""
    language: str = ""
    first_seen: dt.datetime = _instant()


class ContactTagRow(SQLModel, table=True):
    """A word that a handler or a person has put to a customer."""

    __tablename__ = "contact_tag"
    contact_id: int = Field(foreign_key="contact.id", primary_key=True)
    tag: str = Field(primary_key=True)
    set_at: dt.datetime = _instant(nullable=False)
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
    value: Any = _json()
    """Packed."""
    set_at: dt.datetime = _instant(nullable=False)


class SendRow(SQLModel, table=True):
    __tablename__ = "send"
    __table_args__ = (
        Index("ix_send_waiting", "gateway_id", "due_at", sqlite_where=text(WAITING), postgresql_where=text(WAITING)),
        Index("ix_send_sending", "lease_until", sqlite_where=text(SENDING), postgresql_where=text(SENDING)),
        Index("ix_send_stuck", "created_at", sqlite_where=text(STUCK), postgresql_where=text(STUCK)),
        Index(  # of SQLite alone (migration 0029)
            *("ix_send_causes", "store_id", "state", "reason", "gateway_id", "test", "created_at"),
            sqlite_where=text(STUCK),
        ),
        Index(
            "ix_send_fallback",
            "fallback_at",
            sqlite_where=Column("fallback_at").is_not(None),
            postgresql_where=Column("fallback_at").is_not(None),
        ),
        Index("ix_send_reference", "gateway_id", "reference"),
        Index("ix_send_route_order", "route_id", "order_id"),
        Index("ix_send_created", "store_id", "created_at"),
        Index(
            "ix_send_question",
            "question_id",
            sqlite_where=Column("question_id").is_not(None),
            postgresql_where=Column("question_id").is_not(None),
        ),
    )
    id: str = Field(primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    event_id: str | None = Field(default=None, sa_column=Column(Text, ForeignKey("event.id"), index=True))
    order_id: int | None = Field(default=None, sa_column=Column(BigInteger, index=True))
    route_id: int | None = Field(default=None, foreign_key="route.id")
    """None for a test, which no route sends."""
    message_id: int | None = Field(default=None, foreign_key="message.id")
    gateway_id: int | None = Field(default=None, foreign_key="gateway.id")
    revision_id: int | None = None
    """The message's revision: the one planned with until it is rendered, then the one it was rendered from."""
    channel: str
    recipient: str = ""
    recipient_name: str = ""
    locale: str = ""
    format_locale: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """How numbers and days are written; empty where that is as the shop does."""
    state: str
    reason: str = ""
    created_at: dt.datetime = _instant(nullable=False)
    due_at: dt.datetime = _instant(nullable=False)
    lease_until: dt.datetime | None = _instant()
    worker: str = ""
    tries: int = 0
    first_try_at: dt.datetime | None = _instant()
    expires_at: dt.datetime | None = _instant()
    """Until when it may go out; None where its message is good for ever."""
    settled_at: dt.datetime | None = _instant()
    subject: str = ""
    values_: dict[str, Any] | None = Field(default=None, sa_column=Column("values", Json))
    trace: list[Any] | None = _json()
    test: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether somebody of the shop sent it to see it; it counts for nothing."""
    draft: dict[str, Any] | None = _json()
    """The message as it stood when a test was sent."""
    reference: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The provider's own id for it."""
    cost: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it cost, in the store's currency; empty where the gateway has no price."""
    whom: str = Field(default="customer", sa_column=Column(Text, nullable=False, server_default="customer"))
    """Which of the route's recipients it is for: customer, or kind and who."""
    step: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """Which of the route's ways it takes."""
    instead_of: str | None = Field(default=None, sa_column=Column(Text, index=True))
    """The send whose place it takes, or that it tells somebody of."""
    fallback_at: dt.datetime | None = _instant()
    """When what follows is to be looked at, where it is not out by then."""
    run_id: int | None = Field(default=None, sa_column=Column(BigInteger, index=True))
    """The run by hand that made it."""
    question_id: str | None = Field(default=None, sa_column=Column(Text))
    """The question that it asks."""


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
    told: list[Any] | None = _json()
    stage: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What people are told: a stage, or what has happened since."""
    country: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Where it goes (ISO 3166-1)."""
    expected_on: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The day that was told last (ISO 8601)."""
    expected_told_at: dt.datetime | None = _instant()
    created_at: dt.datetime = _instant(nullable=False)
    last_at: dt.datetime = _instant(nullable=False)
    """When somebody last told something of it."""
    picked_at: dt.datetime | None = _instant()
    delivered_at: dt.datetime | None = _instant()
    look_at: dt.datetime | None = _instant()
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


class QuestionRow(SQLModel, table=True):
    """A question about an order that its customer is asked, or was. Once it is closed it stays as it is, but for what
    was said later.
    """

    __tablename__ = "question"
    __table_args__ = (
        *(
            Index(name, *columns, unique=unique, sqlite_where=text(OPEN), postgresql_where=text(OPEN))
            for name, columns, unique in (
                ("ix_question_open", ("order_id", "message_id"), True),
                ("ix_question_look", ("look_at",), False),
            )
        ),
        Index("ix_question_reply", "store_id", "reply_key", "asked_at"),
        Index("ix_question_asked", "store_id", "message_id", "asked_at", "state", "answer"),
    )
    id: str = Field(primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    order_id: int = Field(sa_column=Column(BigInteger, ForeignKey("order.id"), index=True, nullable=False))
    message_id: int = Field(foreign_key="message.id")
    event_id: str = Field(sa_column=Column(Text, nullable=False))
    """The event that it was asked about; what becomes of it follows from that one."""
    asked_at: dt.datetime = _instant(nullable=False)
    open_hours: int
    opened_at: dt.datetime | None = _instant()
    """When it was delivered, or sent where nobody has told of that yet."""
    delivered: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    ends_at: dt.datetime | None = _instant()
    """Until when an answer counts; None as long as it is not out."""
    look_at: dt.datetime = _instant(nullable=False)
    """When it is looked at next, as long as it is open."""
    state: str
    closed_at: dt.datetime | None = _instant()
    why: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Why it was withdrawn, or could not be asked."""
    answer: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The key of the answer."""
    way: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """How it was given: chat, sms, page, or by somebody of the team."""
    by: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Who gave it: an address, or somebody of the team."""
    said: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The answer in its giver's words."""
    unmatched: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The last reply that was no answer."""
    late_answer: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    late_at: dt.datetime | None = _instant()
    """Another answer that came after it was closed, and when."""
    reply_key: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The address whose replies are taken for an answer, as `address_key` writes it."""


class ContentRow(SQLModel, table=True):
    """What a send really said, kept apart since it is large."""

    __tablename__ = "content"
    send_id: str = Field(sa_column=Column(Text, ForeignKey("send.id"), primary_key=True))
    html: str = ""
    """The page as it was sent, where it was stored before pages were compressed."""
    packed: bytes | None = Field(default=None, sa_column=Column(LargeBinary))
    text: str = ""
    about: dict[str, Any] | None = _json()
    """What else it had: an email's files and further addresses, a chat message's header, footer and buttons."""

    @property
    def page(self) -> str:
        """An email's page as it was sent."""
        return zlib.decompress(self.packed).decode() if self.packed else self.html


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
    added_at: dt.datetime = _instant(nullable=False)
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
    text: dict[str, Any] = _json()
    submitted_at: dt.datetime = _instant(nullable=False)
    decided_at: dt.datetime | None = _instant()
    looked_at: dt.datetime | None = _instant()


class AttemptRow(SQLModel, table=True):
    __tablename__ = "attempt"
    id: int | None = Field(default=None, primary_key=True)
    send_id: str = Field(sa_column=Column(Text, ForeignKey("send.id"), index=True, nullable=False))
    number: int
    began_at: dt.datetime = _instant(nullable=False)
    ended_at: dt.datetime = _instant(nullable=False)
    outcome: str
    code: str = ""
    answer: str = ""


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
    since: dt.datetime = _instant(nullable=False)


class ConsentRow(SQLModel, table=True):
    """What the owner of an address has said about being written to by a channel."""

    __tablename__ = "consent"
    __table_args__ = (Index("ix_consent_address", "store_id", "address_key", "channel", "id"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    address_key: str
    channel: str
    granted: bool
    at: dt.datetime = _instant(nullable=False)
    given_at: str = ""
    """Where they said so."""
    words: str = ""
    noted_by: str = ""


class RunRow(SQLModel, table=True):
    """A route that somebody ran by hand on chosen orders."""

    __tablename__ = "run"
    __table_args__ = (Index("ix_run_key", "store_id", "key", unique=True),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id", index=True)
    route_id: int = Field(foreign_key="route.id")
    started_at: dt.datetime = _instant(nullable=False)
    answers: dict[str, Any] = _json()
    results: list[Any] = _json()
    """For each order: its id and number, what came of it, why."""
    key: str | None = Field(default=None, sa_column=Column(Text))
    """What its form was given, so that a second click starts nothing."""
    by: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Who started it."""


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
    created_at: dt.datetime = _instant(nullable=False)
    disabled_at: dt.datetime | None = _instant()
    failures: int = 0
    """Not used since migration 0041, nor is `locked_until`: the version before asks for them while it is replaced."""
    locked_until: dt.datetime | None = _instant()
    second_step: bool = False
    """Whether a code is asked for besides the password."""
    last_step: int = 0
    """The time step of the last code that was used: none is good twice."""
    recovery: list[str] | None = _json()
    """Digests of the recovery codes that are left."""
    subject: str = ""
    """Who they are at the identity provider: its issuer and its own id."""


class SignedInRow(SQLModel, table=True):
    """Where a person is signed in: a browser's cookie, by its digest."""

    __tablename__ = "signed_in"
    id: int | None = Field(default=None, primary_key=True)
    account_id: int = Field(foreign_key="account.id", index=True)
    digest: str = Field(unique=True)
    began_at: dt.datetime = _instant(nullable=False)
    seen_at: dt.datetime = _instant(nullable=False)
    address: str = ""
    agent: str = ""


class AllowanceRow(SQLModel, table=True):
    """How much is left of what may be tried."""

    __tablename__ = "allowance"
    what: str = Field(primary_key=True)
    left: float
    at: dt.datetime = _instant(nullable=False, index=True)
    """When it was last spent."""


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
    began_at: dt.datetime = _instant(nullable=False)
    told_at: dt.datetime | None = _instant()
    gone_at: dt.datetime | None = _instant()
    over_at: dt.datetime | None = _instant()
    over_told_at: dt.datetime | None = _instant()
    how: str = ""
    """By which gateway it was told, or why it could not be."""


class InvitationRow(SQLModel, table=True):
    """A link by which somebody makes their account."""

    __tablename__ = "invitation"
    id: int | None = Field(default=None, primary_key=True)
    digest: str = Field(unique=True)
    email: str
    role: str
    made_at: dt.datetime = _instant(nullable=False)
    made_by: str
    expires_at: dt.datetime = _instant(nullable=False)
    used_at: dt.datetime | None = _instant()


class TokenRow(SQLModel, table=True):
    """A token that another system asks by; the token itself is kept nowhere."""

    __tablename__ = "token"
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    name: str
    digest: str = Field(unique=True)
    """SHA-256 of the token, in hexadecimal: it is 32 random bytes, so no salt is needed."""
    scopes: list[Any] | None = _json()
    created_at: dt.datetime = _instant(nullable=False)
    created_by: str
    last_used_at: dt.datetime | None = _instant()
    expires_at: dt.datetime | None = _instant()
    revoked_at: dt.datetime | None = _instant()


class CheckRow(SQLModel, table=True):
    """A saved event with what must come out of it, and how it came out last."""

    __tablename__ = "check"
    __table_args__ = (UniqueConstraint("store_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    key: str
    spec: dict[str, Any] = _json()
    ran_at: dt.datetime | None = _instant()
    passed: bool | None = None
    edits: int = _edits()


class HeartbeatRow(SQLModel, table=True):
    """A worker's sign of life."""

    __tablename__ = "heartbeat"
    worker: str = Field(primary_key=True)
    at: dt.datetime = _instant(nullable=False)
    role: str = Field(default="plan send", sa_column_kwargs={"server_default": "plan send"})
    """What it is for: `plan`, `send` or both, parted by a space."""
    trouble: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it can't do as it is set up, as a sentence; empty where all is well."""


class GatewayUseRow(SQLModel, table=True):
    """How much of its rate, quota and credit a gateway has used."""

    __tablename__ = "gateway_use"
    gateway_id: int = Field(foreign_key="gateway.id", primary_key=True)
    tokens: float = 0.0
    filled_at: dt.datetime | None = _instant()
    day: str = ""
    """The shop's day that `day_used` is of."""
    day_used: int = 0
    month_used: int = 0
    next_at: dt.datetime | None = _instant()
    """Until when it takes nothing more."""
    waits_for: str = ""
    """What it waits for then: rate, day, month or credit."""
    balance: int | None = Field(default=None, sa_column=Column(BigInteger))
    """Credit left, in millionths of the store's currency."""


class GatewayHealthRow(SQLModel, table=True):
    """How tries at a gateway have gone of late. No row: as far as anybody knows, it works."""

    __tablename__ = "gateway_health"
    gateway_id: int = Field(foreign_key="gateway.id", primary_key=True)
    failures: int = 0
    """Failures of the gateway itself in a row."""
    opened_at: dt.datetime | None = _instant()
    """Since when it is taken to be unreachable, and left alone but for one try now and then; None where it is not."""
    probe_at: dt.datetime | None = _instant()
    """When it is tried again."""
    reason: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))


class EarlyReceiptRow(SQLModel, table=True):
    """A receipt that came before the send that it is about was stored as sent."""

    __tablename__ = "early_receipt"
    __table_args__ = (Index("ix_early_receipt_reference", "gateway_id", "reference"),)
    id: int | None = Field(default=None, primary_key=True)
    gateway_id: int = Field(foreign_key="gateway.id")
    reference: str
    at: dt.datetime = _instant(nullable=False)
    body: Any = _json()


class ChangeRow(SQLModel, table=True):
    """Something that somebody changed: what it was before and after. Never changed itself."""

    __tablename__ = "change"
    __table_args__ = (
        Index("ix_change_store", "store_id", "id"),
        Index("ix_change_thing", "store_id", "kind", "key", "id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    store_id: int = Field(foreign_key="store.id")
    at: dt.datetime = _instant(nullable=False)
    actor: str
    """Who did it: “this machine” until there are accounts."""
    action: str
    """What was done, as a verb: saved, published, switched on, deleted …"""
    kind: str
    """What it was done to: source, gateway, variable, message, route, send …"""
    key: str
    before: Any = _json()
    after: Any = _json()


class SentFileRow(SQLModel, table=True):
    """A file that went out with a mail, by its content: the same file in many mails is kept once."""

    __tablename__ = "sent_file"
    digest: str = Field(primary_key=True)
    """SHA-256, hexadecimal."""
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class ShopOffsetRow(SQLModel, table=True):
    """From when on a store's clocks are how many seconds ahead of UTC: its days are counted by it."""

    __tablename__ = "shop_offset"
    store_id: int = Field(foreign_key="store.id", primary_key=True)
    since: dt.datetime = Field(sa_column=Column(Instant, primary_key=True))
    seconds: int


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
