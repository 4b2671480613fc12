"""Lists as somebody has narrowed them, kept under a name"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "view",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        *(sa.Column(name, sa.Text(), nullable=False) for name in ("page", "name", "query", "made_by")),
        sa.UniqueConstraint("store_id", "page", "name"),
    )


def downgrade() -> None:
    op.drop_table("view")
