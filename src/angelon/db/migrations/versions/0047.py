"""Pages of mails are kept by what they were filled from"""

import sqlalchemy as sa
from alembic import op

revision = "0047"
down_revision = "0046"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "page_pattern",
        sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
        sa.Column("used_at", sa.BigInteger, nullable=False),
    )
    op.add_column("content", sa.Column("pattern_id", sa.BigInteger))
