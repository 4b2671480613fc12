"""Whether a store is on trial, and where its sends go then"""

import sqlalchemy as sa
from alembic import op

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("store", sa.Column("trial", sa.Text, nullable=False, server_default=""))
