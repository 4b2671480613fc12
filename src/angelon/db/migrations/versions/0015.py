"""Accounts of people, where they are signed in, and invitations"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "account",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("email", sa.Text(), nullable=False, unique=True),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("password", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("created_at", Instant(), nullable=False),
        sa.Column("disabled_at", Instant()),
        sa.Column("failures", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("locked_until", Instant()),
    )
    op.create_table(
        "signed_in",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("account_id", sa.Integer(), sa.ForeignKey("account.id"), nullable=False, index=True),
        sa.Column("digest", sa.Text(), nullable=False, unique=True),
        sa.Column("began_at", Instant(), nullable=False),
        sa.Column("seen_at", Instant(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("agent", sa.Text(), nullable=False),
    )
    op.create_table(
        "invitation",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("digest", sa.Text(), nullable=False, unique=True),
        sa.Column("email", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("made_at", Instant(), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.Column("expires_at", Instant(), nullable=False),
        sa.Column("used_at", Instant()),
    )


def downgrade() -> None:
    for table in ("invitation", "signed_in", "account"):
        op.drop_table(table)
