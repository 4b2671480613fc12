"""A source's mapping has a draft, steps that can be undone, and revisions"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

PARTS = ("reading", "line", "parcel", "recipes", "shared_steps", "lookups")


def upgrade() -> None:
    op.add_column("source", sa.Column("draft", Json()))
    op.add_column("source", sa.Column("drafted_at", Instant()))
    op.create_table(
        "mapping_step",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("actor", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("before", Json()),
    )
    op.create_index("ix_mapping_step_source", "mapping_step", ["source_id", "id"])
    _first_revisions()


def _first_revisions() -> None:
    """What is mapped now is each source's first revision, in the format that the source is stored in."""
    source = sa.table("source", sa.column("id"), sa.column("spec", Json()), sa.column("created_at", Instant()))
    kept = sa.table(
        "revision",
        sa.column("kind"),
        sa.column("owner_id"),
        sa.column("number"),
        sa.column("spec", Json()),
        sa.column("created_at", Instant()),
    )
    connection = op.get_bind()
    for row in connection.execute(sa.select(source)).all():
        spec = {name: row.spec[name] for name in ("format", *PARTS) if name in (row.spec or {})}
        if spec.keys() & set(PARTS):
            values = {"kind": "mapping", "owner_id": row.id, "number": 1, "spec": spec, "created_at": row.created_at}
            connection.execute(sa.insert(kept).values(values))


def downgrade() -> None:
    op.execute("DELETE FROM revision WHERE kind = 'mapping'")
    op.drop_index("ix_mapping_step_source", "mapping_step")
    op.drop_table("mapping_step")
    op.drop_column("source", "drafted_at")
    op.drop_column("source", "draft")
