"""Search: what is noted, the words of things, and their index; `Database.migrate` notes what is there"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

_KINDS = ("order", "person", "send")


def upgrade() -> None:
    op.create_table(
        "search_due",
        sa.Column("kind", sa.Text(), primary_key=True),
        sa.Column("ref", sa.Text(), primary_key=True),
        sqlite_with_rowid=False,
    )
    for kind in _KINDS:
        op.create_table(
            f"search_{kind}",
            sa.Column("id", sa.Integer(), primary_key=True),
            sa.Column("ref", sa.Text(), nullable=False, unique=True),
            sa.Column("store_id", sa.Integer(), nullable=False),
            sa.Column("words", sa.Text(), nullable=False),
        )
        if op.get_bind().dialect.name == "sqlite":
            op.execute(
                f"CREATE VIRTUAL TABLE words_{kind} USING fts5(words, content='search_{kind}', content_rowid='id', "
                "detail=none, columnsize=0, tokenize='unicode61 remove_diacritics 2')"
            )


def downgrade() -> None:
    for kind in _KINDS:
        for what in ("new", "changed", "gone"):
            op.execute(f"DROP TRIGGER IF EXISTS search_{kind}_{what}")
        op.execute(f"DROP TABLE IF EXISTS words_{kind}")
        op.drop_table(f"search_{kind}")
    op.drop_table("search_due")
