"""Events that wait are found without those of some sources, so that a backlog of one lets others pass"""

import sqlalchemy as sa
from alembic import op

revision = "0040"
down_revision = "0039"
branch_labels = None
depends_on = None
TO_PLAN = "planned_at IS NULL AND waits_for = ''"


def _index(*columns: str) -> None:
    where = sa.text(TO_PLAN)
    op.drop_index("ix_event_to_plan", "event")
    op.create_index("ix_event_to_plan", "event", list(columns), sqlite_where=where, postgresql_where=where)


def upgrade() -> None:
    _index("received_at", "source_id")
