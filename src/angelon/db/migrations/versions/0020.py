"""How much of its rate, quota and credit each gateway has used"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "gateway_use",
        sa.Column("gateway_id", sa.Integer(), sa.ForeignKey("gateway.id"), primary_key=True),
        sa.Column("tokens", sa.Float(), nullable=False, server_default="0"),
        sa.Column("filled_at", Instant(), nullable=True),
        sa.Column("day", sa.Text(), nullable=False, server_default=""),
        sa.Column("day_used", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("month_used", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("next_at", Instant(), nullable=True),
        sa.Column("waits_for", sa.Text(), nullable=False, server_default=""),
        sa.Column("balance", sa.BigInteger(), nullable=True),
    )


def downgrade() -> None:
    op.drop_table("gateway_use")
