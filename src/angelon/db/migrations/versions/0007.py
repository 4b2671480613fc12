"""A delivery's body is kept once; gateways' health, early receipts, runs that are started once"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

WAITING = sa.text("state IN ('scheduled', 'retrying')")
PROBLEM = sa.text("problem != ''")


def upgrade() -> None:
    op.create_table(
        "delivery",
        sa.Column("id", sa.Text(), primary_key=True),
        sa.Column("source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False),
        sa.Column("received_at", Instant(), nullable=False),
        sa.Column("content_type", sa.Text(), nullable=False, server_default=""),
        sa.Column("headers", Json()),
        sa.Column("body_hash", sa.Text(), nullable=False, server_default=""),
        sa.Column("body", sa.LargeBinary(), nullable=False),
    )
    op.add_column("event", sa.Column("delivery_id", sa.Text(), nullable=False, server_default=""))
    op.add_column("event", sa.Column("asker", sa.Text(), nullable=False, server_default=""))
    op.execute("UPDATE event SET delivery_id = id WHERE parent_id IS NULL AND item = 0")
    op.execute(
        "UPDATE event SET delivery_id = COALESCE((SELECT first.id FROM event AS first WHERE first.source_id = event.source_id AND first.received_at = event.received_at "
        "AND first.item = 0 AND first.parent_id IS NULL AND first.body = event.body LIMIT 1), id) WHERE parent_id IS NULL AND item > 0"
    )
    op.execute(
        "UPDATE event SET delivery_id = (SELECT parent.delivery_id FROM event AS parent WHERE parent.id = "
        "event.parent_id) WHERE parent_id IS NOT NULL"
    )
    op.execute(
        "INSERT INTO delivery (id, source_id, received_at, content_type, headers, body_hash, body) "
        "SELECT id, source_id, received_at, content_type, headers, body_hash, body FROM event WHERE delivery_id = id"
    )
    for column in ("body", "headers", "content_type", "body_hash"):
        op.drop_column("event", column)
    op.create_index("ix_delivery_hash", "delivery", ["source_id", "body_hash"])
    op.create_index("ix_event_delivery_id", "event", ["delivery_id"])
    op.create_index("ix_event_problem", "event", ["received_at"], sqlite_where=PROBLEM, postgresql_where=PROBLEM)
    op.drop_index("ix_send_waiting", "send")
    op.create_index("ix_send_waiting", "send", ["gateway_id", "due_at"], sqlite_where=WAITING, postgresql_where=WAITING)
    op.create_table(
        "gateway_health",
        sa.Column("gateway_id", sa.Integer(), sa.ForeignKey("gateway.id"), primary_key=True),
        sa.Column("failures", sa.Integer(), nullable=False),
        sa.Column("opened_at", Instant()),
        sa.Column("probe_at", Instant()),
        sa.Column("reason", sa.Text(), nullable=False, server_default=""),
    )
    op.create_table(
        "early_receipt",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("gateway_id", sa.Integer(), sa.ForeignKey("gateway.id"), nullable=False),
        sa.Column("reference", sa.Text(), nullable=False),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("told", Json()),
    )
    op.create_index("ix_early_receipt_reference", "early_receipt", ["gateway_id", "reference"])
    op.add_column("run", sa.Column("key", sa.Text()))
    op.create_index("ix_run_key", "run", ["store_id", "key"], unique=True)


def downgrade() -> None:
    op.drop_index("ix_run_key", "run")
    op.drop_column("run", "key")
    op.drop_table("early_receipt")
    op.drop_table("gateway_health")
    op.drop_index("ix_send_waiting", "send")
    op.create_index("ix_send_waiting", "send", ["due_at"], sqlite_where=WAITING, postgresql_where=WAITING)
    op.drop_index("ix_event_problem", "event")
    op.drop_index("ix_event_delivery_id", "event")
    op.add_column("event", sa.Column("body_hash", sa.Text(), nullable=False, server_default=""))
    op.add_column("event", sa.Column("content_type", sa.Text(), nullable=False, server_default=""))
    op.add_column("event", sa.Column("headers", Json()))
    op.add_column("event", sa.Column("body", sa.LargeBinary(), nullable=False, server_default=""))
    for column in ("body_hash", "content_type", "headers"):
        op.execute(f"UPDATE event SET {column} = (SELECT {column} FROM delivery WHERE delivery.id = event.delivery_id)")  # noqa: S608 - our own names
    op.execute(
        "UPDATE event SET body = (SELECT body FROM delivery WHERE delivery.id = event.delivery_id) WHERE parent_id "
        "IS NULL"
    )
    op.drop_column("event", "asker")
    op.drop_column("event", "delivery_id")
    op.drop_table("delivery")
