"""The words of orders' statuses are kept, with when each was first seen"""

import json
from itertools import islice

import sqlalchemy as sa
from alembic import op

revision = "0045"
down_revision = "0044"
branch_labels = None
depends_on = None

LOOKED_AT, MOST = 2000, 200
"""Of the orders that are there, the newest of each source are looked at; and so many words of each are kept."""


def upgrade() -> None:
    op.create_table(
        "status_word",
        sa.Column("source_id", sa.Integer, sa.ForeignKey("source.id"), primary_key=True),
        sa.Column("part", sa.String, primary_key=True),
        sa.Column("word", sa.String, primary_key=True),
        sa.Column("first_seen", sa.BigInteger, nullable=False),
    )
    connection = op.get_bind()
    for (source_id,) in connection.execute(sa.text("SELECT id FROM source")).fetchall():
        newest = sa.text(
            'SELECT seen, seen_others, placed_at FROM "order" WHERE source_id = :source ORDER BY id DESC LIMIT :most'
        )
        words: dict[tuple[str, str], int] = {}
        for seen, others, placed_at in connection.execute(newest, {"source": source_id, "most": LOOKED_AT}):
            parts = {"status": json.loads(seen or "[]"), **json.loads(others or "{}")}
            for part, entries in parts.items():
                for word, *_ in entries or []:
                    words[part, word] = placed_at
        kept = [
            {"source": source_id, "part": part, "word": word, "at": at}
            for (part, word), at in islice(words.items(), MOST)
            if word
        ]
        if kept:
            into = "INSERT INTO status_word (source_id, part, word, first_seen) VALUES (:source, :part, :word, :at)"
            connection.execute(sa.text(into), kept)
