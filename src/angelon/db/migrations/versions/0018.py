"""A second step of signing in; accounts at an identity provider"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Json

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("account", sa.Column("second_step", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("account", sa.Column("last_step", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("account", sa.Column("recovery", Json(), nullable=True))
    op.add_column("account", sa.Column("subject", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    with op.batch_alter_table("account") as account:
        for name in ("second_step", "last_step", "recovery", "subject"):
            account.drop_column(name)
