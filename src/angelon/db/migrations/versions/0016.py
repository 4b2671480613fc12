"""Tags of customers"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "contact_tag",
        sa.Column("contact_id", sa.Integer(), sa.ForeignKey("contact.id"), primary_key=True),
        sa.Column("tag", sa.Text(), primary_key=True),
        sa.Column("set_at", Instant(), nullable=False),
        sa.Column("set_by", sa.Text(), nullable=False, server_default=""),
    )


def downgrade() -> None:
    op.drop_table("contact_tag")
