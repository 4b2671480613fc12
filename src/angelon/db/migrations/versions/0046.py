"""What a provider answered to the last test is kept with its gateway"""

import sqlalchemy as sa
from alembic import op

revision = "0046"
down_revision = "0045"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "test_answer",
        sa.Column("gateway_id", sa.Integer, sa.ForeignKey("gateway.id"), primary_key=True),
        sa.Column("at", sa.BigInteger, nullable=False),
        sa.Column("body", sa.Text, nullable=False),
    )
