"""How often each part of a route has said no, by day; `Database.migrate` fills it"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "decision_count",
        *(sa.Column(name, sa.Integer(), primary_key=True, autoincrement=False) for name in ("store_id", "day")),
        *(sa.Column(name, sa.Text(), primary_key=True) for name in ("route", "outcome", "part")),
        sa.Column("number", sa.BigInteger(), nullable=False, server_default="0"),
        sqlite_with_rowid=False,
    )


def downgrade() -> None:
    for name in ("new", "first", "changed"):
        op.execute(f"DROP TRIGGER IF EXISTS count_decision_{name}")
    op.drop_table("decision_count")
