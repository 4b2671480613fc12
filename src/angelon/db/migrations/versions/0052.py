"""What bodies have in common; only what is looked for by its body, or stands in a delivery beside its first event, is in an index of these"""

import sqlalchemy as sa
from alembic import op

revision = "0052"
down_revision = "0051"
branch_labels = None
depends_on = None

_INDEXES = (
    ("ix_delivery_hash", "delivery", ["source_id", "body_hash"], "body_hash != ''"),
    (
        *("ix_event_delivery_id", "event", ["delivery_id"]),
        "parent_id IS NULL AND substr(id, 3) != substr(delivery_id, 3)",
    ),
)


def upgrade() -> None:
    op.create_table(
        "body_pattern",
        sa.Column("id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    for name, table, columns, where in _INDEXES:
        op.drop_index(name, table)
        op.create_index(name, table, columns, sqlite_where=sa.text(where), postgresql_where=sa.text(where))
