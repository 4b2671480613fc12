"""Look-ups without an answer are found quickly"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_WHERE = sa.text("problem != ''")


def upgrade() -> None:
    op.create_index("ix_answer_problem", "answer", ["at"], sqlite_where=_WHERE, postgresql_where=_WHERE)


def downgrade() -> None:
    op.drop_index("ix_answer_problem", "answer")
