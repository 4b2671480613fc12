"""Other ways, suppressions, runs by hand, checks, answers from elsewhere, deleted routes"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant, Json

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("route", sa.Column("gone_at", Instant()))
    op.add_column("revision", sa.Column("note", sa.Text(), nullable=False, server_default=""))
    op.add_column("event", sa.Column("waits_until", Instant()))
    waits = sa.text("waits_until IS NOT NULL")
    op.create_index("ix_event_waits", "event", ["waits_until"], sqlite_where=waits, postgresql_where=waits)
    for column in (
        sa.Column("whom", sa.Text(), nullable=False, server_default="customer"),
        sa.Column("step", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("instead_of", sa.Text()),
        sa.Column("fall_at", Instant()),
        sa.Column("run_id", sa.BigInteger()),
    ):
        op.add_column("send", column)
    falls = sa.text("fall_at IS NOT NULL")
    op.create_index("ix_send_falls", "send", ["fall_at"], sqlite_where=falls, postgresql_where=falls)
    op.create_index("ix_send_instead_of", "send", ["instead_of"])
    op.create_index("ix_send_reference", "send", ["gateway_id", "reference"])
    op.create_index("ix_send_run_id", "send", ["run_id"])
    op.create_table(
        "answer",
        sa.Column("event_id", sa.Text(), sa.ForeignKey("event.id"), primary_key=True),
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("at", Instant(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("value", Json()),
        sa.Column("problem", sa.String(), nullable=False),
    )
    op.create_table(
        "suppression",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("mark", sa.String(), nullable=False),
        sa.Column("why", sa.String(), nullable=False),
        sa.Column("since", Instant(), nullable=False),
        sa.UniqueConstraint("store_id", "mark"),
    )
    op.create_table(
        "run",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False, index=True),
        sa.Column("route_id", sa.Integer(), sa.ForeignKey("route.id"), nullable=False),
        sa.Column("started_at", Instant(), nullable=False),
        sa.Column("answers", Json()),
        sa.Column("results", Json()),
    )
    op.create_table(
        "check",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("spec", Json()),
        sa.Column("ran_at", Instant()),
        sa.Column("passed", sa.Boolean()),
        sa.UniqueConstraint("store_id", "key"),
    )


def downgrade() -> None:
    for table in ("check", "run", "suppression", "answer"):
        op.drop_table(table)
    for index in ("falls", "instead_of", "reference", "run_id"):
        op.drop_index(f"ix_send_{index}", "send")
    op.drop_index("ix_event_waits", "event")
    op.execute("DELETE FROM attempt WHERE send_id IN (SELECT id FROM send WHERE instead_of IS NOT NULL)")
    for table, columns in (
        ("send", ("run_id", "fall_at", "instead_of", "step", "whom")),
        ("event", ("waits_until",)),
        ("revision", ("note",)),
        ("route", ("gone_at",)),
    ):
        with op.batch_alter_table(table) as batch:
            for column in columns:
                batch.drop_column(column)
