"""How often something may be tried is counted by who tries: one stranger locks nobody out"""

import sqlalchemy as sa
from alembic import op

from angelon.db.derived import counting

revision = "0041"
down_revision = "0040"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "allowance",
        sa.Column("what", sa.String, primary_key=True),
        sa.Column("left", sa.Float, nullable=False),
        sa.Column("at", sa.BigInteger, nullable=False, index=True),
    )
    if op.get_bind().dialect.name == "postgresql":  # an event before another of its kind could not be given its order
        counting.watch(op.get_bind())
