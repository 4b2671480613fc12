"""What sends said can be in an archive outside the database"""

import sqlalchemy as sa
from alembic import op

revision = "0050"
down_revision = "0049"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "archive_pack",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("made_at", sa.BigInteger, nullable=False),
    )
    op.create_table(
        "archived",
        sa.Column("send_id", sa.Text, sa.ForeignKey("send.id"), primary_key=True),
        sa.Column("pack_id", sa.BigInteger, nullable=False),
        sa.Column("start", sa.BigInteger, nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("key", sa.LargeBinary, nullable=False),
        sa.Column("pattern_id", sa.BigInteger),
        sa.Column("files", sa.Text),
    )
    op.create_index("ix_archived_pack_id", "archived", ["pack_id"])
