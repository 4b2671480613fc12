"""An order may be told of by several sources: under which reference each of the others calls it"""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "order_alias",
        sa.Column("source_id", sa.Integer, sa.ForeignKey("source.id"), primary_key=True),
        sa.Column("reference", sa.Text, primary_key=True),
        sa.Column("order_id", sa.Integer, sa.ForeignKey("order.id"), nullable=False, index=True),
        sa.Column("apart", sa.Boolean, nullable=False, server_default=sa.false()),
    )
