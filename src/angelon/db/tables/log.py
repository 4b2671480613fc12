"""What came in, what became of it, and what went out."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    SmallInteger,
    Text,
    UniqueConstraint,
    false,
    text,
)
from sqlmodel import Field, SQLModel

from angelon.db.tables.columns import Instant, PackedJson, decisions, instant, json, packed_traces, packed_value
from angelon.db.tables.conditions import (
    AWAITING,
    BLOCKED,
    DUE,
    FIRST,
    IN_LANE,
    KNOWN_BY_BODY,
    OPEN,
    PINNED,
    PROBLEM,
    SENDING,
    STUCK,
    TO_DECIDE,
    TO_PLAN,
    WAITING,
)
from angelon.db.tables.packed import Body


def where_there(name: str, column: str) -> Index:
    """An index of the rows that have a value there, where most have none."""
    there = text(f"{column} IS NOT NULL")
    return Index(name, column, sqlite_where=there, postgresql_where=there)


class DeliveryRow(SQLModel, table=True):
    """One request as it came in. Its events point to it, however many there are and whatever follows from them."""

    __tablename__ = "delivery"
    __table_args__ = (
        Index(
            *("ix_delivery_hash", "source_id", "body_hash"),
            sqlite_where=text(KNOWN_BY_BODY),
            postgresql_where=text(KNOWN_BY_BODY),
        ),
    )
    id: str = Field(primary_key=True)
    source_id: int = Field(foreign_key="source.id")
    received_at: dt.datetime = instant(nullable=False)
    content_type: str = ""
    headers: dict[str, Any] = json()
    body_hash: str = ""
    body: bytes = Field(sa_column=Column(Body, nullable=False))


class BodyPatternRow(SQLModel, table=True):
    """What bodies of one kind have in common (`db/log/bodies.py`)."""

    __tablename__ = "body_pattern"
    id: int = Field(sa_column=Column(BigInteger, primary_key=True, autoincrement=False))
    """A part of its digest."""
    source_id: int
    name: str
    """What the source calls the event."""
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    made_at: dt.datetime = instant(nullable=False)


class EventRow(SQLModel, table=True):
    __tablename__ = "event"
    __table_args__ = (
        UniqueConstraint("source_id", "delivery_key"),
        Index(
            *("ix_event_to_plan", "received_at", "source_id"),
            sqlite_where=text(TO_PLAN),
            postgresql_where=text(TO_PLAN),
        ),
        Index("ix_event_lane", "lane", "received_at", sqlite_where=text(IN_LANE), postgresql_where=text(IN_LANE)),
        Index("ix_event_decide", "decide_at", sqlite_where=text(TO_DECIDE), postgresql_where=text(TO_DECIDE)),
        Index("ix_event_awaiting", "order_id", sqlite_where=text(AWAITING), postgresql_where=text(AWAITING)),
        Index("ix_event_blocked", "source_id", sqlite_where=text(BLOCKED), postgresql_where=text(BLOCKED)),
        Index("ix_event_source", "source_id", "received_at"),
        Index("ix_event_type", "type", "received_at"),
        Index("ix_event_delivery_id", "delivery_id", sqlite_where=text(FIRST), postgresql_where=text(FIRST)),
        where_there("ix_event_parent_id", "parent_id"),
        where_there("ix_event_order_id", "order_id"),
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
    received_at: dt.datetime = instant(nullable=False)
    item: int = 0
    """Which of the delivery's orders, where it carries several."""
    parent_id: str | None = Field(default=None, sa_column=Column(Text, ForeignKey("event.id")))
    was: str = ""
    now: str = ""
    planned_at: dt.datetime | None = instant()
    order_id: int | None = Field(default=None, sa_column=Column(BigInteger))
    decisions: list[Any] | None = decisions()
    problem: str = ""
    pinned: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether it is kept among the samples however old it gets."""
    waits_for: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it waits for: nothing; `answers`, where it is planned but for decisions that need one; or `order:` and the
    order's reference, where an answer has to say which order it is about or how that stands, so that it and what comes
    later about the order is not processed before (no reference where only the answer says it).
    """
    decide_at: dt.datetime | None = instant()
    """When what waits is looked at again: an answer has come."""
    facts: dict[str, Any] | None = json()
    """What was known when it was planned, for the decisions that wait."""
    lane: int | None = Field(default=None, sa_column=Column(SmallInteger))
    """The lane in which it is planned where several processes plan (`core/planning/lanes.py`), on PostgreSQL."""


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
    due_at: dt.datetime | None = instant()
    """When it is asked (again); while it is being asked, when another may take it over. None once it is settled."""
    until: dt.datetime = instant(nullable=False)
    """When it fails, whatever came of it by then."""
    asker: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The worker that is asking just now."""
    tries: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    at: dt.datetime | None = instant()
    """When it was asked last."""
    took_ms: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    url: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    value: Any = json()
    """What an address answered; what a handler asked for, as `core.specs.asked.Asked`."""
    output: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What a handler printed."""
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    digest: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The contents of the folder that a handler ran from."""


class RefusedRow(SQLModel, table=True):
    """A delivery that was turned away, kept for the developer to see."""

    __tablename__ = "refused"
    id: int | None = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id", index=True)
    at: dt.datetime = instant(nullable=False)
    status: int
    reason: str
    hint: str = ""
    headers: dict[str, Any] = json()
    body_start: str = ""
    body_bytes: int = 0
    body: bytes | None = Field(default=None, sa_column=Column(LargeBinary))
    """All of it, where it is small: what a sample is made of."""
    signing: dict[str, Any] | None = json()
    """How it seems to be signed, where its signature was refused: a `Signing`, and whether a secret `verified` it."""


class FetchRow(SQLModel, table=True):
    """How far a source's orders are fetched. One process at a time fetches a source: whoever holds its lease."""

    __tablename__ = "fetch"
    source_id: int = Field(primary_key=True, foreign_key="source.id")
    position: Any = json()
    due_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    held_until: dt.datetime | None = instant()
    """Until when the process that fetches just now has it for itself."""
    tried_at: dt.datetime | None = instant()
    through_at: dt.datetime | None = instant()
    """When all pages were last gone through."""
    problem: str = ""
    failures: int = 0
    """Failed requests in a row."""
    hour_at: dt.datetime | None = instant()
    in_hour: int = 0
    """Requests since `hour_at`."""
    log: Any = json()
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
    form: Any = json()
    quiet: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    rows: int = 0
    """Orders that were gone through, those that can't be read among them."""
    new: int = 0
    errors: Any = json()
    """Rows that were not taken: their number, and why."""
    failed: int = 0
    problem: str = ""
    began_at: dt.datetime | None = instant()
    ended_at: dt.datetime | None = instant()
    held_until: dt.datetime | None = instant()
    told_at: dt.datetime | None = instant()
    """When what was told was written beside the file in its folder."""


class ImportPartRow(SQLModel, table=True):
    """A piece of a file, packed by zlib: stored in pieces, so that no write takes long."""

    __tablename__ = "import_part"
    import_id: int = Field(primary_key=True, foreign_key="import.id")
    number: int = Field(primary_key=True)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


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
    seen: list[Any] = packed_value()
    """Every status with its time."""
    seen_others: dict[str, Any] | None = json()
    """The same for the order's other statuses, by part (`payment_status`, …)."""
    total: str = ""
    """As people read it."""
    placed_at: dt.datetime = instant(nullable=False)
    last_event_at: dt.datetime = instant(nullable=False)
    contact_id: int | None = Field(default=None, foreign_key="contact.id", index=True)
    language: str = ""
    read: dict[str, Any] = packed_value()
    bought: list[Any] | None = packed_value()
    """Total and items as events have said them over time (`core.planning.purchases`); None in orders from before."""


class OrderAliasRow(SQLModel, table=True):
    """What another source than its first calls an order."""

    __tablename__ = "order_alias"
    source_id: int = Field(foreign_key="source.id", primary_key=True)
    reference: str = Field(primary_key=True)
    order_id: int = Field(foreign_key="order.id", index=True)
    apart: bool = False
    """Whether somebody has said so that it is an order of its own: it is not taken for another's again."""


class SendRow(SQLModel, table=True):
    __tablename__ = "send"
    __table_args__ = (
        Index(
            *("ix_send_waiting", "gateway_id", "turn", "due_at"),
            sqlite_where=text(WAITING),
            postgresql_where=text(WAITING),
        ),
        Index("ix_send_sending", "lease_until", sqlite_where=text(SENDING), postgresql_where=text(SENDING)),
        Index("ix_send_stuck", "created_at", sqlite_where=text(STUCK), postgresql_where=text(STUCK)),
        Index(  # of SQLite alone (migration 0029)
            *("ix_send_causes", "store_id", "state", "reason", "gateway_id", "test", "created_at"),
            sqlite_where=text(STUCK),
        ),
        where_there("ix_send_fallback", "fallback_at"),
        Index("ix_send_reference", "gateway_id", "reference"),
        Index("ix_send_route_order", "route_id", "order_id"),
        Index("ix_send_created", "store_id", "created_at"),
        where_there("ix_send_question", "question_id"),
        where_there("ix_send_instead_of", "instead_of"),
        where_there("ix_send_run_id", "run_id"),
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
    created_at: dt.datetime = instant(nullable=False)
    due_at: dt.datetime = instant(nullable=False)
    lease_until: dt.datetime | None = instant()
    worker: str = ""
    tries: int = 0
    first_try_at: dt.datetime | None = instant()
    turn: int = Field(default=1, sa_column=Column(SmallInteger, nullable=False, server_default="1"))
    """Which sends of its gateway it goes before (`core/planning/turns.py`)."""
    expires_at: dt.datetime | None = instant()
    """Until when it may go out; None where its message is good for ever."""
    settled_at: dt.datetime | None = instant()
    subject: str = ""
    values_: dict[str, Any] | None = Field(default=None, sa_column=Column("values", PackedJson))
    trace: list[Any] | None = packed_traces()
    test: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    """Whether somebody of the shop sent it to see it; it counts for nothing."""
    draft: dict[str, Any] | None = json()
    """The message as it stood when a test was sent."""
    reference: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The provider's own id for it."""
    cost: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What it cost, in the store's currency; empty where the gateway has no price."""
    whom: str = Field(default="customer", sa_column=Column(Text, nullable=False, server_default="customer"))
    """Which of the route's recipients it is for: customer, or kind and who."""
    step: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """Which of the route's ways it takes."""
    instead_of: str | None = Field(default=None, sa_column=Column(Text))
    """The send whose place it takes, or that it tells somebody of."""
    fallback_at: dt.datetime | None = instant()
    """When what follows is to be looked at, where it is not out by then."""
    run_id: int | None = Field(default=None, sa_column=Column(BigInteger))
    """The run by hand that made it."""
    question_id: str | None = Field(default=None, sa_column=Column(Text))
    """The question that it asks."""


class ContentRow(SQLModel, table=True):
    """What a send really said, kept apart since it is large."""

    __tablename__ = "content"
    send_id: str = Field(sa_column=Column(Text, ForeignKey("send.id"), primary_key=True))
    html: str = ""
    """The page as it was sent, where it was stored before pages were compressed."""
    packed: bytes | None = Field(default=None, sa_column=Column(LargeBinary))
    """Of an email its page and, since December, its text and most of what else it had."""
    pattern_id: int | None = Field(default=None, sa_column=Column(BigInteger))
    """What the page was filled from, and all that is packed by; empty for one that was packed alone (zlib)."""
    text: str = ""
    """Empty where it is the send's subject, word for word."""
    about: dict[str, Any] | None = packed_value()
    """What else it had: an email's files, a chat message's header, footer and buttons."""


class ArchivePackRow(SQLModel, table=True):
    """A file of the archive (`db/log/archive.py`)."""

    __tablename__ = "archive_pack"
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(sa_column=Column(Text, nullable=False))
    made_at: dt.datetime = instant(nullable=False)


class ArchivedRow(SQLModel, table=True):
    """What a send said, where it is in the archive."""

    __tablename__ = "archived"
    send_id: str = Field(sa_column=Column(Text, ForeignKey("send.id"), primary_key=True))
    pack_id: int = Field(sa_column=Column(BigInteger, nullable=False, index=True))
    start: int = Field(sa_column=Column(BigInteger, nullable=False))
    """Its first byte in the pack."""
    size: int = Field(sa_column=Column(BigInteger, nullable=False))
    key: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    """What it is sealed by; without it nobody reads it."""
    pattern_id: int | None = Field(default=None, sa_column=Column(BigInteger))
    files: list[str] | None = json()
    """The digests of its files."""


class PagePatternRow(SQLModel, table=True):
    """What pages are filled from (`db/log/page_patterns.py`)."""

    __tablename__ = "page_pattern"
    id: int = Field(sa_column=Column(BigInteger, primary_key=True, autoincrement=False))
    """A part of its digest."""
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    """The pattern, compressed (zstd)."""
    used_at: dt.datetime = instant(nullable=False)


class AttemptRow(SQLModel, table=True):
    __tablename__ = "attempt"
    id: int | None = Field(default=None, primary_key=True)
    send_id: str = Field(sa_column=Column(Text, ForeignKey("send.id"), index=True, nullable=False))
    number: int
    began_at: dt.datetime = instant(nullable=False)
    ended_at: dt.datetime = instant(nullable=False)
    outcome: str
    code: str = ""
    answer: str = ""


class EarlyReceiptRow(SQLModel, table=True):
    """A receipt that came before the send that it is about was stored as sent."""

    __tablename__ = "early_receipt"
    __table_args__ = (Index("ix_early_receipt_reference", "gateway_id", "reference"),)
    id: int | None = Field(default=None, primary_key=True)
    gateway_id: int = Field(foreign_key="gateway.id")
    reference: str
    at: dt.datetime = instant(nullable=False)
    body: Any = json()


class SentFileRow(SQLModel, table=True):
    """A file that went out with a mail, by its content: the same file in many mails is kept once."""

    __tablename__ = "sent_file"
    digest: str = Field(primary_key=True)
    """SHA-256, hexadecimal."""
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    used_at: dt.datetime = Field(sa_column=Column(Instant, nullable=False, server_default="0"))


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
    asked_at: dt.datetime = instant(nullable=False)
    open_hours: int
    opened_at: dt.datetime | None = instant()
    """When it was delivered, or sent where nobody has told of that yet."""
    delivered: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default=false()))
    ends_at: dt.datetime | None = instant()
    """Until when an answer counts; None as long as it is not out."""
    look_at: dt.datetime = instant(nullable=False)
    """When it is looked at next, as long as it is open."""
    state: str
    closed_at: dt.datetime | None = instant()
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
    late_at: dt.datetime | None = instant()
    """Another answer that came after it was closed, and when."""
    reply_key: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """The address whose replies are taken for an answer, as `address_key` writes it."""


class DownloadRow(SQLModel, table=True):
    """The files of a message that its customer downloads."""

    __tablename__ = "download"
    send_id: str = Field(primary_key=True, foreign_key="send.id")
    store_id: int = Field(foreign_key="store.id")
    files: Any = json()
    left: int
    """How often they may still be had."""
    had: int = 0
    until: dt.datetime = Field(sa_column=Column(Instant, nullable=False))
    last_at: dt.datetime | None = instant()
    revoked_at: dt.datetime | None = instant()
