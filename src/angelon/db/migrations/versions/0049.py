"""Events have a lane, in which several processes plan one store's"""

import sqlalchemy as sa
from alembic import op

revision = "0049"
down_revision = "0048"
branch_labels = None
depends_on = None

IN_LANE = "planned_at IS NULL AND waits_for = '' AND lane IS NOT NULL"


def upgrade() -> None:
    op.add_column("event", sa.Column("lane", sa.SmallInteger))
    where = sa.text(IN_LANE)
    op.create_index("ix_event_lane", "event", ["lane", "received_at"], sqlite_where=where, postgresql_where=where)
