"""Counts by day that are kept as things happen; `Database.migrate` fills them"""

import sqlalchemy as sa
from alembic import op

from angelon.db.tables import Instant

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def _number(name: str) -> "sa.Column[int]":
    return sa.Column(name, sa.BigInteger(), nullable=False, server_default="0")


def upgrade() -> None:
    op.create_table(
        "shop_offset",
        sa.Column("store_id", sa.Integer(), sa.ForeignKey("store.id"), primary_key=True),
        sa.Column("since", Instant(), primary_key=True),
        sa.Column("seconds", sa.Integer(), nullable=False),
    )
    op.create_table(
        "send_count",
        *(
            sa.Column(name, sa.Integer(), primary_key=True, autoincrement=False)
            for name in ("store_id", "day", "route_id", "message_id", "gateway_id")
        ),
        sa.Column("channel", sa.Text(), primary_key=True),
        sa.Column("state", sa.Text(), primary_key=True),
        sa.Column("test", sa.Boolean(), primary_key=True),
        *(_number(name) for name in ("number", "retried", "cost")),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "order_count",
        *(sa.Column(name, sa.Integer(), primary_key=True, autoincrement=False) for name in ("store_id", "day")),
        _number("number"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "event_count",
        *(sa.Column(name, sa.Integer(), primary_key=True, autoincrement=False) for name in ("source_id", "day")),
        sa.Column("type", sa.Text(), primary_key=True),
        *(_number(name) for name in ("events", "orders")),
        sqlite_with_rowid=False,
    )


def downgrade() -> None:
    for name in (
        *("count_send_new", "count_send_changed", "count_send_gone"),
        *("count_order_new", "count_order_changed", "count_order_gone"),
        *("count_event_new", "count_event_changed", "count_event_gone"),
    ):
        op.execute(f"DROP TRIGGER IF EXISTS {name}")
    for name in ("event_count", "order_count", "send_count", "shop_offset"):
        op.drop_table(name)
