"""Documents: their numbers, what is frozen of each, their files, and orders that are held"""

import sqlalchemy as sa
from alembic import op

revision = "0039"
down_revision = "0038"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "document_series",
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), primary_key=True),
        sa.Column("series", sa.String, primary_key=True),
        sa.Column("year", sa.Integer, primary_key=True),
        sa.Column("last", sa.Integer, nullable=False),
    )
    op.create_table(
        "document_look",
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), primary_key=True),
        sa.Column("digest", sa.String, primary_key=True),
        sa.Column("look", sa.Text),
    )
    op.create_table(
        "document",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        sa.Column("order_id", sa.Integer, sa.ForeignKey("order.id")),
        *(sa.Column(name, sa.String, nullable=False) for name in ("kind", "series", "name", "asked")),
        *(sa.Column(name, sa.Integer, nullable=False) for name in ("year", "number")),
        *(sa.Column(name, sa.String, nullable=False) for name in ("day", "currency", "country", "scheme")),
        *(sa.Column(name, sa.BigInteger, nullable=False) for name in ("net", "tax", "gross")),
        *(sa.Column(name, sa.String, nullable=False, server_default="") for name in ("buyer", "email", "by", "look")),
        sa.Column("frozen", sa.Text),
        sa.Column("corrects_id", sa.Integer, sa.ForeignKey("document.id")),
        sa.Column("credited", sa.Text),
        sa.Column("over", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("created_at", sa.BigInteger, nullable=False),
        sa.UniqueConstraint("store_id", "series", "year", "number", name="uq_document_number"),
    )
    op.create_index("ix_document_order", "document", ["order_id"])
    op.create_index("ix_document_listed", "document", ["store_id", "id"])
    for column in ("name", "day"):
        op.create_index(f"ix_document_{column}", "document", ["store_id", column])
    for column in ("kind", "country", "scheme"):
        op.create_index(f"ix_document_{column}", "document", ["store_id", column, "id"])
    op.create_table(
        "document_file",
        sa.Column("document_id", sa.Integer, sa.ForeignKey("document.id"), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "document_held",
        sa.Column("order_id", sa.Integer, sa.ForeignKey("order.id"), primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False, index=True),
        *(sa.Column(name, sa.String, nullable=False, server_default="") for name in ("why", "hint", "by")),
        sa.Column("asked", sa.Text),
        sa.Column("at", sa.BigInteger, nullable=False),
    )
