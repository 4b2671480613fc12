"""Plain names for columns; who changed what; versions that two people's edits are told apart by; files as they went"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

RENAMED = (
    ("send", "fall_at", "fallback_at"),
    ("contact", "mark", "identity"),
    ("suppression", "mark", "address_key"),
    ("review", "mark", "digest"),
    ("early_receipt", "told", "body"),
)
EDITED = ("store", "source", "gateway", "variable", "message", "route", "check")
"""Tables whose rows count how often they were changed."""
FALLS, FALLBACK = sa.text("fall_at IS NOT NULL"), sa.text("fallback_at IS NOT NULL")


PINNED = sa.text("pinned")


def upgrade() -> None:
    op.drop_index("ix_send_falls", "send")
    for table, old, new in RENAMED:
        op.execute(f'ALTER TABLE "{table}" RENAME COLUMN {old} TO {new}')
    op.create_index("ix_send_fallback", "send", ["fallback_at"], sqlite_where=FALLBACK, postgresql_where=FALLBACK)
    for table in EDITED:
        op.add_column(table, sa.Column("edits", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("heartbeat", sa.Column("role", sa.Text(), nullable=False, server_default="plan send"))
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("actor", sa.Text(), nullable=False),
        sa.Column("action", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("before", Json()),
        sa.Column("after", Json()),
    )
    op.create_index("ix_change_store", "change", ["store_id", "id"])
    op.create_index("ix_change_thing", "change", ["store_id", "kind", "key", "id"])
    op.create_table(
        "sent_file",
        sa.Column("digest", sa.Text(), primary_key=True),
        sa.Column("data", sa.LargeBinary(), nullable=False),
    )
    op.create_index(
        "ix_event_pinned", "event", ["source_id", "received_at"], sqlite_where=PINNED, postgresql_where=PINNED
    )
    op.create_index("ix_order_last_event", "order", ["store_id", "last_event_at", "id"])
    op.create_index("ix_suppression_since", "suppression", ["store_id", "since", "id"])


def downgrade() -> None:
    op.drop_index("ix_suppression_since", "suppression")
    op.drop_index("ix_order_last_event", "order")
    op.drop_index("ix_event_pinned", "event")
    op.drop_table("sent_file")
    op.drop_table("change")
    op.drop_column("heartbeat", "role")
    for table in EDITED:
        op.drop_column(table, "edits")
    op.drop_index("ix_send_fallback", "send")
    for table, old, new in RENAMED:
        op.execute(f'ALTER TABLE "{table}" RENAME COLUMN {new} TO {old}')
    op.create_index("ix_send_falls", "send", ["fall_at"], sqlite_where=FALLS, postgresql_where=FALLS)
