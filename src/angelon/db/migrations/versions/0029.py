"""The causes of what needs attention are read from an index of their own, on SQLite: a reason may be longer than
PostgreSQL takes into one
"""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

_STUCK = sa.text("state IN ('held', 'failed')")


def upgrade() -> None:
    if op.get_bind().dialect.name == "sqlite":
        columns = ["store_id", "state", "reason", "gateway_id", "test", "created_at"]
        op.create_index("ix_send_causes", "send", columns, sqlite_where=_STUCK)


def downgrade() -> None:
    op.execute("DROP INDEX IF EXISTS ix_send_causes")
