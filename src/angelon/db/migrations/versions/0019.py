"""What was sent, compressed; until when a send is good"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("content", sa.Column("packed", sa.LargeBinary(), nullable=True))
    op.add_column("send", sa.Column("expires_at", Instant(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("content") as content:
        content.drop_column("packed")
    with op.batch_alter_table("send") as send:
        send.drop_column("expires_at")
