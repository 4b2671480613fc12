"""Tokens for the API"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "token",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False, unique=True),
        sa.Column("scopes", Json()),
        sa.Column("created_at", Instant(), nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("last_used_at", Instant()),
        sa.Column("expires_at", Instant()),
        sa.Column("revoked_at", Instant()),
    )


def downgrade() -> None:
    op.drop_table("token")
