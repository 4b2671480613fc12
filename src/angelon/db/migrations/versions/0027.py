"""Wide numbers on PostgreSQL, whose integers end at two thousand million; those of SQLite are wide already"""

from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

_WIDE = {
    '"order"': ("id", "contact_id"),
    "contact": ("id",),
    "contact_tag": ("contact_id",),
    "contact_value": ("id", "contact_id"),
    "attempt": ("id",),
    "event": ("order_id",),
    "send": ("order_id",),
    "change": ("id",),
    "refused": ("id",),
    "early_receipt": ("id",),
    "search_order": ("id",),
    "search_person": ("id",),
    "search_send": ("id",),
}


def upgrade() -> None:
    if op.get_bind().dialect.name != "postgresql":
        return
    for name in ("count_event_new", "count_event_changed", "count_event_gone"):  # made anew once all is migrated
        op.execute(f"DROP TRIGGER IF EXISTS {name} ON event")
    for name in ("new", "changed", "gone"):
        op.execute(f'DROP TRIGGER IF EXISTS search_order_{name} ON "order"')
    for table, columns in _WIDE.items():
        op.execute(f"ALTER TABLE {table} " + ", ".join(f"ALTER COLUMN {column} TYPE bigint" for column in columns))
    for table in (name for name, columns in _WIDE.items() if "id" in columns):
        sequence = f"pg_get_serial_sequence('{table}', 'id')"
        op.execute(
            f"DO $$ BEGIN IF {sequence} IS NOT NULL THEN EXECUTE 'ALTER SEQUENCE ' || {sequence} || ' AS bigint'; END IF; END $$"
        )


def downgrade() -> None:
    pass
