"""The search's notes are made also where a row is written over: that failed where the thing was noted already"""

from alembic import op

from angelon.db.derived import searching

revision = "0044"
down_revision = "0043"
branch_labels = None
depends_on = None


def upgrade() -> None:
    searching.watch(op.get_bind())
