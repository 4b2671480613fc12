"""What most rows have not is in no index"""

import sqlalchemy as sa
from alembic import op

revision = "0051"
down_revision = "0050"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table, column in (("event", "parent_id"), ("event", "order_id"), ("send", "instead_of"), ("send", "run_id")):
        name, there = f"ix_{table}_{column}", sa.text(f"{column} IS NOT NULL")
        op.drop_index(name, table)
        op.create_index(name, table, [column], sqlite_where=there, postgresql_where=there)
