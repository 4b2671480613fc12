"""Messages, gateways and sources can be deleted, and that undone"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("message", "gateway", "source"):
        op.add_column(table, sa.Column("gone_at", Instant()))


def downgrade() -> None:
    for table in ("message", "gateway", "source"):
        op.drop_column(table, "gone_at")
