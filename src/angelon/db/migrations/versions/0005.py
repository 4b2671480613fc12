"""Files, reviews of chat texts, and test sends, which have no route"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

WAITING = sa.text("state IN ('scheduled', 'retrying')")
SENDING = sa.text("state = 'sending'")
STUCK = sa.text("state IN ('held', 'failed')")


def upgrade() -> None:
    op.create_table(
        "file",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("shelf", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("type", sa.String(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("match", sa.String(), nullable=False),
        sa.Column("added_at", Instant(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.UniqueConstraint("store_id", "shelf", "name", "by", "match"),
    )
    op.create_table(
        "review",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False, index=True),
        sa.Column("gateway_id", sa.Integer(), sa.ForeignKey("gateway.id"), nullable=False),
        sa.Column("message_id", sa.Integer(), sa.ForeignKey("message.id"), nullable=False),
        sa.Column("locale", sa.String(), nullable=False),
        sa.Column("mark", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("reference", sa.String(), nullable=False),
        sa.Column("text", Json()),
        sa.Column("submitted_at", Instant(), nullable=False),
        sa.Column("decided_at", Instant()),
        sa.Column("looked_at", Instant()),
        sa.UniqueConstraint("gateway_id", "message_id", "locale", "mark"),
    )
    op.add_column("content", sa.Column("about", Json()))
    for name in ("waiting", "sending", "stuck"):
        op.drop_index(f"ix_send_{name}", "send")
    with op.batch_alter_table("send") as send:
        send.alter_column("event_id", existing_type=sa.Text(), nullable=True)
        send.alter_column("route_id", existing_type=sa.Integer(), nullable=True)
        send.add_column(sa.Column("test", sa.Boolean(), nullable=False, server_default=sa.false()))
        send.add_column(sa.Column("draft", Json()))
        send.add_column(sa.Column("reference", sa.Text(), nullable=False, server_default=""))
        send.add_column(sa.Column("cost", sa.Text(), nullable=False, server_default=""))
    _partial_indexes()


def downgrade() -> None:
    op.execute("DELETE FROM attempt WHERE send_id IN (SELECT id FROM send WHERE route_id IS NULL)")
    op.execute("DELETE FROM content WHERE send_id IN (SELECT id FROM send WHERE route_id IS NULL)")
    op.execute("DELETE FROM send WHERE route_id IS NULL OR event_id IS NULL")
    for name in ("waiting", "sending", "stuck"):
        op.drop_index(f"ix_send_{name}", "send")
    with op.batch_alter_table("send") as send:
        for column in ("cost", "reference", "draft", "test"):
            send.drop_column(column)
        send.alter_column("event_id", existing_type=sa.Text(), nullable=False)
        send.alter_column("route_id", existing_type=sa.Integer(), nullable=False)
    _partial_indexes()
    op.drop_column("content", "about")
    op.drop_table("review")
    op.drop_table("file")


def _partial_indexes() -> None:
    op.create_index("ix_send_waiting", "send", ["due_at"], sqlite_where=WAITING, postgresql_where=WAITING)
    op.create_index("ix_send_sending", "send", ["lease_until"], sqlite_where=SENDING, postgresql_where=SENDING)
    op.create_index("ix_send_stuck", "send", ["created_at"], sqlite_where=STUCK, postgresql_where=STUCK)
