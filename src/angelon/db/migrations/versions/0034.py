"""What customers are asked, and what has become of it; which question a send asks"""

import sqlalchemy as sa
from alembic import op

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None

OPEN = sa.text("state = 'open'")


def upgrade() -> None:
    op.add_column("send", sa.Column("question_id", sa.Text))
    asks = sa.text("question_id IS NOT NULL")
    op.create_index("ix_send_question", "send", ["question_id"], sqlite_where=asks, postgresql_where=asks)
    texts = ("why", "answer", "way", "by", "said", "unmatched", "late_answer", "reply_key")
    op.create_table(
        "question",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        sa.Column("order_id", sa.BigInteger, sa.ForeignKey("order.id"), nullable=False, index=True),
        sa.Column("message_id", sa.Integer, sa.ForeignKey("message.id"), nullable=False),
        sa.Column("event_id", sa.Text, nullable=False),
        sa.Column("asked_at", sa.BigInteger, nullable=False),
        sa.Column("open_hours", sa.Integer, nullable=False),
        sa.Column("opened_at", sa.BigInteger),
        sa.Column("delivered", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("ends_at", sa.BigInteger),
        sa.Column("look_at", sa.BigInteger, nullable=False),
        sa.Column("state", sa.String, nullable=False),
        sa.Column("closed_at", sa.BigInteger),
        sa.Column("late_at", sa.BigInteger),
        *(sa.Column(name, sa.Text, nullable=False, server_default="") for name in texts),
    )
    for name, columns, unique in (
        ("ix_question_open", ["order_id", "message_id"], True),
        ("ix_question_look", ["look_at"], False),
    ):
        op.create_index(name, "question", columns, unique=unique, sqlite_where=OPEN, postgresql_where=OPEN)
    op.create_index("ix_question_reply", "question", ["store_id", "reply_key", "asked_at"])
    op.create_index("ix_question_asked", "question", ["store_id", "message_id", "asked_at", "state", "answer"])
