"""Ways in: how far a source is fetched, and what its orders said last"""

import sqlalchemy as sa
from alembic import op

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "fetch",
        sa.Column("source_id", sa.Integer, sa.ForeignKey("source.id"), primary_key=True),
        sa.Column("position", sa.Text),
        sa.Column("due_at", sa.BigInteger, nullable=False),
        *(sa.Column(name, sa.BigInteger) for name in ("held_until", "tried_at", "through_at", "hour_at")),
        sa.Column("problem", sa.String, nullable=False, server_default=""),
        *(sa.Column(name, sa.Integer, nullable=False, server_default="0") for name in ("failures", "in_hour")),
        sa.Column("log", sa.Text),
    )
    op.create_table(
        "known_item",
        sa.Column("source_id", sa.Integer, sa.ForeignKey("source.id"), primary_key=True),
        sa.Column("key", sa.String, primary_key=True),
        sa.Column("digest", sa.String, nullable=False),
        sa.Column("at", sa.String, nullable=False, server_default=""),
        sa.Column("seen_at", sa.BigInteger, nullable=False),
    )
    op.create_table(
        "import",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("source_id", sa.Integer, sa.ForeignKey("source.id"), nullable=False),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("size", sa.Integer, nullable=False),
        sa.Column("created_at", sa.BigInteger, nullable=False),
        *(sa.Column(name, sa.String, nullable=False, server_default="") for name in ("by", "state", "problem")),
        sa.Column("form", sa.Text),
        sa.Column("quiet", sa.Boolean, nullable=False, server_default=sa.false()),
        *(sa.Column(name, sa.Integer, nullable=False, server_default="0") for name in ("rows", "new", "failed")),
        sa.Column("errors", sa.Text),
        *(sa.Column(name, sa.BigInteger) for name in ("began_at", "ended_at", "held_until", "told_at")),
    )
    op.create_index("ix_import_source_id", "import", ["source_id"])
    op.create_table(
        "import_part",
        sa.Column("import_id", sa.Integer, sa.ForeignKey("import.id"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "shop_table",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        *(sa.Column(name, sa.String, nullable=False) for name in ("key", "name")),
        sa.Column("columns", sa.Text),
        sa.Column("once", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("low", sa.Integer, nullable=False, server_default="10"),
        *(sa.Column(name, sa.Integer, nullable=False, server_default="0") for name in ("version", "edits")),
        sa.Column("changed_at", sa.BigInteger, nullable=False),
        sa.UniqueConstraint("store_id", "key", name="uq_shop_table_key"),
    )
    op.create_table(
        "shop_table_item",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("table_id", sa.Integer, sa.ForeignKey("shop_table.id"), nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("key", sa.String, nullable=False),
        sa.Column("cells", sa.Text),
        sa.Column("send_id", sa.Text),
        sa.Column("given_at", sa.BigInteger),
        sa.UniqueConstraint("table_id", "version", "key", name="uq_shop_table_item"),
    )
    for name, columns, where in (
        ("ix_shop_table_item_free", ["table_id", "id"], "send_id IS NULL"),
        ("ix_shop_table_item_send", ["send_id"], "send_id IS NOT NULL"),
    ):
        op.create_index(name, "shop_table_item", columns, sqlite_where=sa.text(where), postgresql_where=sa.text(where))
    op.create_table(
        "download",
        sa.Column("send_id", sa.String, sa.ForeignKey("send.id"), primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        sa.Column("files", sa.Text),
        sa.Column("left", sa.Integer, nullable=False),
        sa.Column("had", sa.Integer, nullable=False, server_default="0"),
        sa.Column("until", sa.BigInteger, nullable=False),
        *(sa.Column(name, sa.BigInteger) for name in ("last_at", "revoked_at")),
    )
    op.add_column("run", sa.Column("by", sa.Text, nullable=False, server_default=""))
