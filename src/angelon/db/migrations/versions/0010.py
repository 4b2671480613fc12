"""A refused delivery is kept whole where it is small, with how it seems to be signed"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Json

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("refused", sa.Column("body", sa.LargeBinary()))
    op.add_column("refused", sa.Column("signing", Json()))


def downgrade() -> None:
    op.drop_column("refused", "signing")
    op.drop_column("refused", "body")
