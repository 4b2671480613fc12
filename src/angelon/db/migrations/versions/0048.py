"""What is written each night: by whom, of which day, and why it failed"""

import sqlalchemy as sa
from alembic import op

revision = "0048"
down_revision = "0047"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "nightly",
        sa.Column("name", sa.Text, primary_key=True),
        sa.Column("day", sa.Text, nullable=False, server_default=""),
        sa.Column("held_until", sa.BigInteger),
        sa.Column("problem", sa.Text, nullable=False, server_default=""),
    )
