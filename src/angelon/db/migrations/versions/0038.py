"""Tables that are fetched"""

import sqlalchemy as sa
from alembic import op

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("shop_table", sa.Column("fetch", sa.Text))
    for name in ("due_at", "fetched_at"):
        op.add_column("shop_table", sa.Column(name, sa.BigInteger))
    op.add_column("shop_table", sa.Column("problem", sa.String, nullable=False, server_default=""))
