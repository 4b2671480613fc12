"""The tables of the first release, as commit 2861317 had them; who has older ones restores a backup with that one first"""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from alembic import op

from angelon.db.log import partitions
from angelon.db.tables import Instant, Json

revision = "0029"
down_revision = None
branch_labels = None
depends_on = None


def _kind(type_: Any) -> Any:
    def column(name: str, *, null: bool = False, default: str | None = None, key: bool = False, to: str = "") -> Any:
        points = (sa.ForeignKey(to),) if to else ()
        stands = sa.false() if isinstance(type_, sa.Boolean) and default else default
        return sa.Column(name, type_, *points, nullable=null, server_default=stands, primary_key=key)

    return column


text, json, instant, data = _kind(sa.Text()), _kind(Json()), _kind(Instant()), _kind(sa.LargeBinary())
number, big, flag, real = _kind(sa.Integer()), _kind(sa.BigInteger()), _kind(sa.Boolean()), _kind(sa.Float())
wide = _kind(sa.BigInteger().with_variant(sa.Integer(), "sqlite"))
"""Wide on PostgreSQL, whose integers end at two thousand million; those of SQLite are wide already."""


def index(name: str, table: str, columns: list[str], *, unique: bool = False, where: str = "") -> None:
    only = sa.text(where) if where else None
    op.create_index(name, table, columns, unique=unique, sqlite_where=only, postgresql_where=only)


def upgrade() -> None:
    sqlite = op.get_bind().dialect.name == "sqlite"
    op.create_table(
        "account",
        number("id", key=True),
        text("email"),
        text("name"),
        text("password"),
        text("role"),
        instant("created_at"),
        instant("disabled_at", null=True),
        number("failures", default="0"),
        instant("locked_until", null=True),
        flag("second_step", default="0"),
        number("last_step", default="0"),
        json("recovery", null=True),
        text("subject", default=""),
        sa.UniqueConstraint("email"),
    )
    op.create_table(
        "decision_count",
        number("store_id", key=True),
        number("day", key=True),
        text("route", key=True),
        text("outcome", key=True),
        text("part", key=True),
        big("number", default="0"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "event_count",
        number("source_id", key=True),
        number("day", key=True),
        text("type", key=True),
        big("events", default="0"),
        big("orders", default="0"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "handler_folder",
        number("id", key=True),
        text("folder"),
        text("digest"),
        instant("loaded_at"),
        json("handlers", null=True),
        json("problems", null=True),
        text("output", default=""),
    )
    op.create_table(
        "heartbeat",
        text("worker", key=True),
        instant("at"),
        text("role", default="plan send"),
    )
    op.create_table(
        "invitation",
        number("id", key=True),
        text("digest"),
        text("email"),
        text("role"),
        instant("made_at"),
        text("made_by"),
        instant("expires_at"),
        instant("used_at", null=True),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "order_count",
        number("store_id", key=True),
        number("day", key=True),
        big("number", default="0"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "revision",
        number("id", key=True),
        text("kind"),
        number("owner_id"),
        number("number"),
        json("spec", null=True),
        instant("created_at", null=True),
        text("note", default=""),
        sa.UniqueConstraint("kind", "owner_id", "number"),
    )
    op.create_table(
        "search_due",
        text("kind", key=True),
        text("ref", key=True),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "search_order",
        wide("id", key=True),
        text("ref"),
        number("store_id"),
        text("words"),
        sa.UniqueConstraint("ref"),
    )
    op.create_table(
        "search_person",
        wide("id", key=True),
        text("ref"),
        number("store_id"),
        text("words"),
        sa.UniqueConstraint("ref"),
    )
    op.create_table(
        "search_send",
        wide("id", key=True),
        text("ref"),
        number("store_id"),
        text("words"),
        sa.UniqueConstraint("ref"),
    )
    op.create_table(
        "secret",
        number("id", key=True),
        text("kind"),
        number("owner_id"),
        data("sealed"),
        instant("created_at", null=True),
        instant("until", null=True),
    )
    index("ix_secret_kind", "secret", ["kind"])
    index("ix_secret_owner_id", "secret", ["owner_id"])
    op.create_table(
        "send_count",
        number("store_id", key=True),
        number("day", key=True),
        number("route_id", key=True),
        number("message_id", key=True),
        number("gateway_id", key=True),
        text("channel", key=True),
        text("state", key=True),
        flag("test", key=True),
        big("number", default="0"),
        big("retried", default="0"),
        big("cost", default="0"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "sent_file",
        text("digest", key=True),
        data("data"),
    )
    op.create_table(
        "store",
        number("id", key=True),
        text("key"),
        json("spec", null=True),
        number("version"),
        number("edits", default="0"),
        sa.UniqueConstraint("key"),
    )
    op.create_table(
        "change",
        wide("id", key=True),
        number("store_id", to="store.id"),
        instant("at"),
        text("actor"),
        text("action"),
        text("kind"),
        text("key"),
        json("before", null=True),
        json("after", null=True),
    )
    index("ix_change_store", "change", ["store_id", "id"])
    index("ix_change_thing", "change", ["store_id", "kind", "key", "id"])
    op.create_table(
        "check",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("key"),
        json("spec", null=True),
        instant("ran_at", null=True),
        flag("passed", null=True),
        number("edits", default="0"),
        sa.UniqueConstraint("store_id", "key"),
    )
    op.create_table(
        "consent",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("address_key"),
        text("channel"),
        flag("granted"),
        instant("at"),
        text("given_at"),
        text("words"),
        text("noted_by"),
    )
    index("ix_consent_address", "consent", ["store_id", "address_key", "channel", "id"])
    op.create_table(
        "contact",
        wide("id", key=True),
        number("store_id", to="store.id"),
        text("identity"),
        text("name"),
        text("email"),
        text("phone"),
        text("country"),
        text("language"),
        instant("first_seen", null=True),
        sa.UniqueConstraint("store_id", "identity"),
    )
    op.create_table(
        "file",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("shelf"),
        text("name"),
        text("type"),
        number("size"),
        text("by"),
        text("match"),
        instant("added_at"),
        data("data"),
        sa.UniqueConstraint("store_id", "shelf", "name", "by", "match"),
    )
    op.create_table(
        "gateway",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("key"),
        json("spec", null=True),
        number("edits", default="0"),
        instant("gone_at", null=True),
        sa.UniqueConstraint("store_id", "key"),
    )
    op.create_table(
        "message",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("key"),
        json("draft", null=True),
        instant("drafted_at", null=True),
        number("live_id", null=True),
        number("edits", default="0"),
        instant("gone_at", null=True),
        sa.UniqueConstraint("store_id", "key"),
    )
    op.create_table(
        "route",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("key"),
        json("draft", null=True),
        instant("drafted_at", null=True),
        number("live_id", null=True),
        flag("on"),
        instant("since", null=True),
        instant("gone_at", null=True),
        number("edits", default="0"),
        sa.UniqueConstraint("store_id", "key"),
    )
    op.create_table(
        "shop_offset",
        number("store_id", to="store.id", key=True),
        instant("since", key=True),
        number("seconds"),
    )
    op.create_table(
        "signed_in",
        number("id", key=True),
        number("account_id", to="account.id"),
        text("digest"),
        instant("began_at"),
        instant("seen_at"),
        text("address"),
        text("agent"),
        sa.UniqueConstraint("digest"),
    )
    index("ix_signed_in_account_id", "signed_in", ["account_id"])
    op.create_table(
        "source",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("key"),
        json("spec", null=True),
        instant("created_at", null=True),
        number("edits", default="0"),
        json("draft", null=True),
        instant("drafted_at", null=True),
        instant("gone_at", null=True),
        sa.UniqueConstraint("key"),
    )
    op.create_table(
        "suppression",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("address_key"),
        text("scope", default=""),
        text("why"),
        text("origin", default="person"),
        instant("since"),
        sa.UniqueConstraint("store_id", "address_key", "scope"),
    )
    index("ix_suppression_since", "suppression", ["store_id", "since", "id"])
    op.create_table(
        "token",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("name"),
        text("digest"),
        json("scopes", null=True),
        instant("created_at"),
        text("created_by"),
        instant("last_used_at", null=True),
        instant("expires_at", null=True),
        instant("revoked_at", null=True),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "variable",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("name"),
        json("spec", null=True),
        number("edits", default="0"),
        sa.UniqueConstraint("store_id", "name"),
    )
    op.create_table(
        "view",
        number("id", key=True),
        number("store_id", to="store.id"),
        text("page"),
        text("name"),
        text("query"),
        text("made_by"),
        sa.UniqueConstraint("store_id", "page", "name"),
    )
    op.create_table(
        "contact_tag",
        wide("contact_id", to="contact.id", key=True),
        text("tag", key=True),
        instant("set_at"),
        text("set_by", default=""),
    )
    op.create_table(
        "contact_value",
        wide("id", key=True),
        wide("contact_id", to="contact.id"),
        text("name"),
        json("value", null=True),
        instant("set_at"),
    )
    index("ix_contact_value", "contact_value", ["contact_id", "name", "set_at"])
    op.create_table(
        "delivery",
        text("id", key=True),
        number("source_id", to="source.id"),
        instant("received_at"),
        text("content_type", default=""),
        json("headers", null=True),
        text("body_hash", default=""),
        data("body"),
    )
    index("ix_delivery_hash", "delivery", ["source_id", "body_hash"])
    op.create_table(
        "early_receipt",
        wide("id", key=True),
        number("gateway_id", to="gateway.id"),
        text("reference"),
        instant("at"),
        json("body", null=True),
    )
    index("ix_early_receipt_reference", "early_receipt", ["gateway_id", "reference"])
    op.create_table(
        "event",
        text("id", key=True),
        number("source_id", to="source.id"),
        text("delivery_key"),
        text("name"),
        text("type"),
        instant("received_at"),
        number("item"),
        text("parent_id", to="event.id", null=True),
        text("was"),
        text("now"),
        instant("planned_at", null=True),
        wide("order_id", null=True),
        json("decisions", null=True),
        text("problem"),
        flag("pinned", default="0"),
        instant("waits_until", null=True),
        text("delivery_id", default=""),
        text("asker", default=""),
        sa.UniqueConstraint("source_id", "delivery_key"),
    )
    index("ix_event_delivery_id", "event", ["delivery_id"])
    index("ix_event_order_id", "event", ["order_id"])
    index("ix_event_parent_id", "event", ["parent_id"])
    index("ix_event_pinned", "event", ["source_id", "received_at"], where="pinned")
    index("ix_event_problem", "event", ["received_at"], where="problem != ''")
    index("ix_event_source", "event", ["source_id", "received_at"])
    index("ix_event_type", "event", ["type", "received_at"])
    index("ix_event_unplanned", "event", ["received_at"], where="planned_at IS NULL")
    index("ix_event_waits", "event", ["waits_until"], where="waits_until IS NOT NULL")
    op.create_table(
        "gateway_health",
        number("gateway_id", to="gateway.id", key=True),
        number("failures"),
        instant("opened_at", null=True),
        instant("probe_at", null=True),
        text("reason", default=""),
    )
    op.create_table(
        "gateway_use",
        number("gateway_id", to="gateway.id", key=True),
        real("tokens", default="0"),
        instant("filled_at", null=True),
        text("day", default=""),
        number("day_used", default="0"),
        number("month_used", default="0"),
        instant("next_at", null=True),
        text("waits_for", default=""),
        big("balance", null=True),
    )
    op.create_table(
        "mapping_step",
        number("id", key=True),
        number("source_id", to="source.id"),
        instant("at"),
        text("actor"),
        text("said"),
        json("before", null=True),
    )
    index("ix_mapping_step_source", "mapping_step", ["source_id", "id"])
    op.create_table(
        "order",
        wide("id", key=True),
        number("store_id", to="store.id"),
        number("source_id", to="source.id"),
        text("reference"),
        text("number"),
        text("status"),
        json("seen", null=True),
        text("total"),
        instant("placed_at"),
        instant("last_event_at"),
        wide("contact_id", to="contact.id", null=True),
        text("language"),
        json("read", null=True),
        json("seen_others", null=True),
        json("bought", null=True),
        sa.UniqueConstraint("source_id", "reference"),
    )
    index("ix_order_contact_id", "order", ["contact_id"])
    index("ix_order_last_event", "order", ["store_id", "last_event_at", "id"])
    index("ix_order_number", "order", ["number"])
    index("ix_order_placed", "order", ["store_id", "placed_at"])
    op.create_table(
        "refused",
        wide("id", key=True),
        number("source_id", to="source.id"),
        instant("at"),
        number("status"),
        text("reason"),
        text("mend"),
        json("headers", null=True),
        text("body_start"),
        number("body_bytes"),
        data("body", null=True),
        json("signing", null=True),
    )
    index("ix_refused_source_id", "refused", ["source_id"])
    op.create_table(
        "review",
        number("id", key=True),
        number("store_id", to="store.id"),
        number("gateway_id", to="gateway.id"),
        number("message_id", to="message.id"),
        text("locale"),
        text("digest"),
        text("state"),
        text("reason"),
        text("reference"),
        json("text", null=True),
        instant("submitted_at"),
        instant("decided_at", null=True),
        instant("looked_at", null=True),
        sa.UniqueConstraint("gateway_id", "message_id", "locale", "digest"),
    )
    index("ix_review_store_id", "review", ["store_id"])
    op.create_table(
        "run",
        number("id", key=True),
        number("store_id", to="store.id"),
        number("route_id", to="route.id"),
        instant("started_at"),
        json("answers", null=True),
        json("results", null=True),
        text("key", null=True),
    )
    index("ix_run_key", "run", ["store_id", "key"], unique=True)
    index("ix_run_store_id", "run", ["store_id"])
    op.create_table(
        "shape",
        number("source_id", to="source.id", key=True),
        text("name", key=True),
        json("spec", null=True),
    )
    op.create_table(
        "answer",
        text("event_id", to="event.id", key=True),
        text("name", key=True),
        number("tries"),
        instant("at"),
        text("url"),
        json("value", null=True),
        text("problem"),
    )
    index("ix_answer_problem", "answer", ["at"], where="problem != ''")
    op.create_table(
        "handler_run",
        text("event_id", to="event.id", key=True),
        text("handler", key=True),
        instant("at"),
        number("tries"),
        number("took_ms"),
        json("asked", null=True),
        text("output"),
        text("problem"),
        text("digest"),
    )
    index("ix_handler_run_at", "handler_run", ["handler", "at"])
    op.create_table(
        "send",
        text("id", key=True),
        number("store_id", to="store.id"),
        text("event_id", to="event.id", null=True),
        wide("order_id", null=True),
        number("route_id", to="route.id", null=True),
        number("message_id", to="message.id", null=True),
        number("gateway_id", to="gateway.id", null=True),
        number("revision_id", null=True),
        text("channel"),
        text("recipient"),
        text("recipient_name"),
        text("locale"),
        text("state"),
        text("reason"),
        instant("created_at"),
        instant("due_at"),
        instant("lease_until", null=True),
        text("worker"),
        number("tries"),
        instant("first_try_at", null=True),
        instant("settled_at", null=True),
        text("subject"),
        json("values", null=True),
        json("trace", null=True),
        flag("test", default="0"),
        json("draft", null=True),
        text("reference", default=""),
        text("cost", default=""),
        text("whom", default="customer"),
        big("step", default="0"),
        text("instead_of", null=True),
        instant("fallback_at", null=True),
        big("run_id", null=True),
        instant("expires_at", null=True),
    )
    if sqlite:  # a reason may be longer than PostgreSQL takes into an index
        index(
            "ix_send_causes",
            "send",
            ["store_id", "state", "reason", "gateway_id", "test", "created_at"],
            where="state IN ('held', 'failed')",
        )
    index("ix_send_created", "send", ["store_id", "created_at"])
    index("ix_send_event_id", "send", ["event_id"])
    index("ix_send_fallback", "send", ["fallback_at"], where="fallback_at IS NOT NULL")
    index("ix_send_instead_of", "send", ["instead_of"])
    index("ix_send_order_id", "send", ["order_id"])
    index("ix_send_reference", "send", ["gateway_id", "reference"])
    index("ix_send_route_order", "send", ["route_id", "order_id"])
    index("ix_send_run_id", "send", ["run_id"])
    index("ix_send_sending", "send", ["lease_until"], where="state = 'sending'")
    index("ix_send_stuck", "send", ["created_at"], where="state IN ('held', 'failed')")
    index("ix_send_waiting", "send", ["gateway_id", "due_at"], where="state IN ('scheduled', 'retrying')")
    op.create_table(
        "attempt",
        wide("id", key=True),
        text("send_id", to="send.id"),
        number("number"),
        instant("began_at"),
        instant("ended_at"),
        text("outcome"),
        text("code"),
        text("answer"),
    )
    index("ix_attempt_send_id", "attempt", ["send_id"])
    op.create_table(
        "content",
        text("send_id", to="send.id", key=True),
        text("html"),
        text("text"),
        json("about", null=True),
        data("packed", null=True),
    )

    for kind in ("order", "person", "send"):
        if sqlite:
            op.execute(
                f"CREATE VIRTUAL TABLE words_{kind} USING fts5(words, content='search_{kind}', content_rowid='id', "
                "detail=none, columnsize=0, tokenize='unicode61 remove_diacritics 2')"
            )
    if not sqlite:
        _by_month()


def _by_month() -> None:
    """On PostgreSQL, what sends said has a partition for each month."""
    op.execute("ALTER TABLE content RENAME TO content_before")
    op.execute("CREATE TABLE content (LIKE content_before INCLUDING DEFAULTS) PARTITION BY RANGE (send_id)")
    op.execute("ALTER TABLE content ADD CONSTRAINT content_of_send PRIMARY KEY (send_id)")
    op.execute("ALTER TABLE content ADD CONSTRAINT content_send FOREIGN KEY (send_id) REFERENCES send (id)")
    op.execute("CREATE TABLE content_rest PARTITION OF content DEFAULT")
    partitions.ahead(op.get_bind(), dt.datetime.now(dt.UTC))
    op.execute("DROP TABLE content_before")
