"""Functions of the shop's own: what was loaded, and what each call about an event came to"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "handler_folder",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("folder", sa.Text(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("loaded_at", Instant(), nullable=False),
        sa.Column("handlers", Json()),
        sa.Column("problems", Json()),
        sa.Column("output", sa.Text(), nullable=False, server_default=""),
    )
    op.create_table(
        "handler_run",
        sa.Column("event_id", sa.Text(), sa.ForeignKey("event.id"), primary_key=True),
        sa.Column("handler", sa.Text(), primary_key=True),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("took_ms", sa.Integer(), nullable=False),
        sa.Column("asked", Json()),
        sa.Column("output", sa.Text(), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
    )
    op.create_index("ix_handler_run_at", "handler_run", ["handler", "at"])


def downgrade() -> None:
    op.drop_table("handler_run")
    op.drop_table("handler_folder")
