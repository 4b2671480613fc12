"""Parcels: what was told of each, and what of which order is in it"""

import sqlalchemy as sa
from alembic import op

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None

TEXTS = ("carrier", "stage", "country", "expected_on", "trouble", "said_order", "unknown")
SOME = {"look_at": "look_at IS NOT NULL", "said_order": "said_order != ''", "trouble": "trouble != ''"}


def upgrade() -> None:
    op.create_table(
        "parcel",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("store_id", sa.Integer, sa.ForeignKey("store.id"), nullable=False),
        sa.Column("number", sa.String, nullable=False),
        sa.Column("number_key", sa.String, nullable=False),
        sa.Column("turn", sa.Integer, nullable=False, server_default="0"),
        sa.Column("told", sa.Text),
        *(sa.Column(name, sa.Text, nullable=False, server_default="") for name in TEXTS),
        sa.Column("created_at", sa.BigInteger, nullable=False),
        sa.Column("last_at", sa.BigInteger, nullable=False),
        *(sa.Column(name, sa.BigInteger) for name in ("expected_told_at", "picked_at", "delivered_at", "look_at")),
        sa.UniqueConstraint("store_id", "number_key", "carrier", "turn", name="uq_parcel_number"),
    )
    op.create_index("ix_parcel_stage", "parcel", ["store_id", "stage", "last_at", "id"])
    op.create_index("ix_parcel_last", "parcel", ["store_id", "last_at", "id"])
    for name, columns in (
        ("ix_parcel_look", ["look_at"]),
        ("ix_parcel_said", ["store_id", "said_order"]),
        ("ix_parcel_troubled", ["store_id", "trouble"]),
    ):
        where = sa.text(SOME[columns[-1]])
        op.create_index(name, "parcel", columns, sqlite_where=where, postgresql_where=where)
    op.create_table(
        "parcel_line",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("parcel_id", sa.Integer, sa.ForeignKey("parcel.id"), nullable=False),
        sa.Column("order_id", sa.BigInteger, sa.ForeignKey("order.id"), nullable=False),
        *(sa.Column(name, sa.Text, nullable=False, server_default="") for name in ("item", "name", "quantity")),
        sa.UniqueConstraint("order_id", "parcel_id", "item", name="uq_parcel_line"),
    )
    op.create_index("ix_parcel_line_parcel", "parcel_line", ["parcel_id"])
