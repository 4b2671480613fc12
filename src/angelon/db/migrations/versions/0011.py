"""An order has several statuses side by side"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Json

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("order", sa.Column("seen_others", Json()))


def downgrade() -> None:
    op.drop_column("order", "seen_others")
