"""Credit notes are found by their invoice, customers by when they came, tags by themselves; when files last went out"""

import sqlalchemy as sa
from alembic import op

revision = "0053"
down_revision = "0052"
branch_labels = None
depends_on = None

_INDEXES = (
    ("ix_document_corrects_id", "document", ["corrects_id"], "corrects_id IS NOT NULL"),
    ("ix_contact_seen", "contact", ["store_id", "first_seen", "id"], "first_seen IS NOT NULL"),
    ("ix_contact_tag_tag", "contact_tag", ["tag"], None),
)


def upgrade() -> None:
    op.add_column("sent_file", sa.Column("used_at", sa.BigInteger(), nullable=False, server_default="0"))
    for name, table, columns, there in _INDEXES:
        where = sa.text(there) if there else None
        op.create_index(name, table, columns, sqlite_where=where, postgresql_where=where)
