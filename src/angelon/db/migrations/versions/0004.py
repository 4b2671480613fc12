"""Indexes of the sends that wait, that are in hand, that are stuck: a claim costs the same however many there are"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

WAITING = sa.text("state IN ('scheduled', 'retrying')")
SENDING = sa.text("state = 'sending'")
STUCK = sa.text("state IN ('held', 'failed')")


def upgrade() -> None:
    op.drop_index("ix_send_due", "send")
    op.create_index("ix_send_waiting", "send", ["due_at"], sqlite_where=WAITING, postgresql_where=WAITING)
    op.create_index("ix_send_sending", "send", ["lease_until"], sqlite_where=SENDING, postgresql_where=SENDING)
    op.create_index("ix_send_stuck", "send", ["created_at"], sqlite_where=STUCK, postgresql_where=STUCK)


def downgrade() -> None:
    op.drop_index("ix_send_stuck", "send")
    op.drop_index("ix_send_sending", "send")
    op.drop_index("ix_send_waiting", "send")
    op.create_index("ix_send_due", "send", ["state", "due_at"])
