"""The role that only looks is called viewer; what to do about a refused delivery is called a hint"""

from alembic import op

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("account", "invitation"):
        op.execute(f"UPDATE {table} SET role = 'viewer' WHERE role = 'watcher'")  # noqa: S608 - our own names
    op.execute("ALTER TABLE refused RENAME COLUMN mend TO hint")
