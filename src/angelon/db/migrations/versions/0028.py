"""On PostgreSQL, a partition for each month of what sends said"""

import datetime as dt

from alembic import op

from angelon.core.ids import time_of
from angelon.db import partitions

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    connection = op.get_bind()
    if connection.dialect.name != "postgresql":
        return
    op.execute("ALTER TABLE content RENAME TO content_before")
    op.execute("CREATE TABLE content (LIKE content_before INCLUDING DEFAULTS) PARTITION BY RANGE (send_id)")
    op.execute("ALTER TABLE content ADD CONSTRAINT content_of_send PRIMARY KEY (send_id)")
    op.execute("ALTER TABLE content ADD CONSTRAINT content_send FOREIGN KEY (send_id) REFERENCES send (id)")
    op.execute("CREATE TABLE content_rest PARTITION OF content DEFAULT")
    ends = connection.exec_driver_sql(
        "SELECT min(send_id), max(send_id) FROM content_before WHERE send_id LIKE 'sd-%%'"
    )
    first, last = (time_of(one) for one in ends.one())
    if first and last:
        partitions.cover(connection, first, last)
    partitions.ahead(connection, dt.datetime.now(dt.UTC))
    op.execute("INSERT INTO content SELECT * FROM content_before")
    op.execute("DROP TABLE content_before")


def downgrade() -> None:
    pass
