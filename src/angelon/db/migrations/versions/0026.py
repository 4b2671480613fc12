"""What orders bought, as events said it over time; values of variables that are kept with customers"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("order", sa.Column("bought", sa.Text(), nullable=True))
    op.create_table(
        "contact_value",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("contact_id", sa.Integer(), sa.ForeignKey("contact.id"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("value", sa.Text(), nullable=True),
        sa.Column("set_at", sa.BigInteger(), nullable=False),
    )
    op.create_index("ix_contact_value", "contact_value", ["contact_id", "name", "set_at"])


def downgrade() -> None:
    op.drop_table("contact_value")
    op.drop_column("order", "bought")
