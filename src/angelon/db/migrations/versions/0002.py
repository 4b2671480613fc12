"""Shapes"""

import sqlalchemy as sa
from alembic import op

from angelon.db import tables

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "shape",
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("spec", tables.Json(), nullable=True),
        sa.ForeignKeyConstraint(["source_id"], ["source.id"]),
        sa.PrimaryKeyConstraint("source_id", "name"),
    )


def downgrade() -> None:
    op.drop_table("shape")
