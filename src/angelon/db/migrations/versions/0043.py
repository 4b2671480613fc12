"""Sends have turns: what is urgent goes first through a gateway, and what nobody waits for gives way"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables.conditions import WAITING

revision = "0043"
down_revision = "0042"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("send", sa.Column("turn", sa.SmallInteger, nullable=False, server_default="1"))
    op.drop_index("ix_send_waiting", "send")
    where = sa.text(WAITING)
    op.create_index(
        "ix_send_waiting", "send", ["gateway_id", "turn", "due_at"], sqlite_where=where, postgresql_where=where
    )
    op.add_column("heartbeat", sa.Column("planned_rate", sa.Float, nullable=False, server_default="0"))
