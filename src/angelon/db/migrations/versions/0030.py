"""Events wait for nothing that is asked elsewhere: only decisions do. Look-ups and handlers' calls are one table"""

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None

TO_PLAN = "planned_at IS NULL AND waits_for = ''"


def upgrade() -> None:
    op.create_table(
        "inquiry",
        sa.Column("event_id", sa.Text, sa.ForeignKey("event.id"), primary_key=True),
        sa.Column("kind", sa.Text, primary_key=True),
        sa.Column("name", sa.Text, primary_key=True),
        sa.Column("source_id", sa.Integer, nullable=False),
        sa.Column("target", sa.Text, nullable=False),
        sa.Column("due_at", sa.BigInteger),
        sa.Column("until", sa.BigInteger, nullable=False),
        sa.Column("asker", sa.Text, nullable=False, server_default=""),
        sa.Column("tries", sa.Integer, nullable=False, server_default="0"),
        sa.Column("at", sa.BigInteger),
        sa.Column("took_ms", sa.Integer, nullable=False, server_default="0"),
        sa.Column("url", sa.Text, nullable=False, server_default=""),
        sa.Column("value", sa.Text),
        sa.Column("output", sa.Text, nullable=False, server_default=""),
        sa.Column("problem", sa.Text, nullable=False, server_default=""),
        sa.Column("digest", sa.Text, nullable=False, server_default=""),
    )
    op.create_table(
        "target_health",
        sa.Column("target", sa.Text, primary_key=True),
        sa.Column("failures", sa.Integer, nullable=False),
        sa.Column("opened_at", sa.BigInteger),
        sa.Column("probe_at", sa.BigInteger),
        sa.Column("reason", sa.Text, nullable=False, server_default=""),
    )
    # an event that is being asked about is planned, and what is left to ask of it is asked anew
    # ruff: noqa: S608
    left = "{0}.problem != '' AND e.planned_at IS NULL"
    columns = (
        "(event_id, kind, name, source_id, target, until, tries, at, took_ms, url, value, output, problem, digest)"
    )
    op.execute(
        f"INSERT INTO inquiry {columns} SELECT a.event_id, 'look-up', a.name, e.source_id, '', a.at, a.tries, a.at, 0, "
        f"a.url, a.value, '', a.problem, '' FROM answer a JOIN event e ON e.id = a.event_id WHERE NOT ({left.format('a')})"
    )
    op.execute(
        f"INSERT INTO inquiry {columns} SELECT r.event_id, 'handler', r.handler, e.source_id, 'handler:' || r.handler, "
        "r.at, r.tries, r.at, r.took_ms, '', r.asked, r.output, r.problem, r.digest FROM handler_run r "
        f"JOIN event e ON e.id = r.event_id WHERE NOT ({left.format('r')})"
    )
    op.drop_table("answer")
    op.drop_table("handler_run")
    due, problem = sa.text("due_at IS NOT NULL"), sa.text("problem != ''")
    op.create_index("ix_inquiry_due", "inquiry", ["target", "due_at"], sqlite_where=due, postgresql_where=due)
    op.create_index("ix_inquiry_at", "inquiry", ["kind", "name", "at"])
    op.create_index("ix_inquiry_problem", "inquiry", ["at"], sqlite_where=problem, postgresql_where=problem)
    op.drop_index("ix_event_unplanned", "event")
    op.drop_index("ix_event_waits", "event")
    op.execute("UPDATE event SET waits_until = NULL, asker = '' WHERE waits_until IS NOT NULL OR asker != ''")
    op.execute("ALTER TABLE event RENAME COLUMN waits_until TO decide_at")  # renamed and added: no row is written anew
    op.execute("ALTER TABLE event RENAME COLUMN asker TO waits_for")
    op.add_column("event", sa.Column("facts", sa.Text))
    op.add_column("heartbeat", sa.Column("trouble", sa.Text, nullable=False, server_default=""))
    for name, column, where in (
        ("ix_event_to_plan", "received_at", TO_PLAN),
        ("ix_event_decide", "decide_at", "decide_at IS NOT NULL"),
        ("ix_event_awaiting", "order_id", "waits_for = 'answers'"),
        ("ix_event_blocked", "source_id", "planned_at IS NULL AND waits_for != ''"),
    ):
        op.create_index(name, "event", [column], sqlite_where=sa.text(where), postgresql_where=sa.text(where))
