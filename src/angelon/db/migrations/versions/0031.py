"""A send says how its numbers and days are written: as its reader's region does"""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("send", sa.Column("format_locale", sa.Text, nullable=False, server_default=""))
