"""Alerts: trouble with the installation itself, when it was told and when it was over"""

import sqlalchemy as sa
from alembic import op

revision = "0042"
down_revision = "0041"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "alert",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("subject", sa.String, nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("href", sa.String, nullable=False),
        sa.Column("began_at", sa.BigInteger, nullable=False),
        *(sa.Column(name, sa.BigInteger) for name in ("told_at", "gone_at", "over_at", "over_told_at")),
        sa.Column("how", sa.String, nullable=False, server_default=""),
    )
    op.create_index("ix_alert_listed", "alert", ["store_id", "id"])
