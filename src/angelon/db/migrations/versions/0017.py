"""Suppressions of some messages only, and where they come from; consent with its proof"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_index("ix_suppression_since", "suppression")
    op.rename_table("suppression", "suppression_before")
    op.create_table(
        "suppression",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("address_key", sa.Text(), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False, server_default=""),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("origin", sa.Text(), nullable=False, server_default="person"),
        sa.Column("since", Instant(), nullable=False),
        sa.UniqueConstraint("store_id", "address_key", "scope"),
    )
    op.execute(
        "INSERT INTO suppression (id, store_id, address_key, why, since) "
        "SELECT id, store_id, address_key, why, since FROM suppression_before"
    )
    op.drop_table("suppression_before")
    op.create_index("ix_suppression_since", "suppression", ["store_id", "since", "id"])
    op.create_table(
        "consent",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("address_key", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("granted", sa.Boolean(), nullable=False),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("given_at", sa.Text(), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("noted_by", sa.Text(), nullable=False),
    )
    op.create_index("ix_consent_address", "consent", ["store_id", "address_key", "channel", "id"])


def downgrade() -> None:
    op.drop_table("consent")
    op.execute("DELETE FROM suppression WHERE scope != ''")
    op.drop_index("ix_suppression_since", "suppression")
    op.rename_table("suppression", "suppression_after")
    op.create_table(
        "suppression",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("address_key", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("since", Instant(), nullable=False),
        sa.UniqueConstraint("store_id", "address_key"),
    )
    op.execute(
        "INSERT INTO suppression (id, store_id, address_key, why, since) "
        "SELECT id, store_id, address_key, why, since FROM suppression_after"
    )
    op.drop_table("suppression_after")
    op.create_index("ix_suppression_since", "suppression", ["store_id", "since", "id"])
