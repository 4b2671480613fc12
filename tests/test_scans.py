"""The law of `tests/scans.py` sees what it is for."""

import pytest

from angelon.db.database import Database
from tests import scans


@pytest.mark.sqlite
@pytest.mark.parametrize(
    ("statement", "wrong"),
    [
        ("SELECT * FROM event", True),
        ("SELECT count(*) FROM send WHERE reason = 'x'", True),
        ("SELECT id FROM send WHERE store_id = 1 AND recipient = 'x'", True),
        ("UPDATE send SET state = 'held' WHERE route_id = 1 AND state = 'scheduled'", True),
        ("SELECT id FROM event WHERE source_id = 1 AND problem = 'x' ORDER BY id LIMIT 9", True),
        ('SELECT e.id FROM event e JOIN "order" o ON o.id = e.order_id WHERE e.order_id = 1 OR o.contact_id = 2', True),
        ("DELETE FROM content WHERE send_id IN (SELECT id FROM send WHERE store_id = 1 AND recipient = 'x')", True),
        ("SELECT * FROM event WHERE id = 'x'", False),
        ("SELECT id FROM send WHERE store_id = 1 ORDER BY created_at DESC LIMIT 9", False),
        ("SELECT id FROM send WHERE state IN ('held', 'failed') AND (store_id + 0) = 1", False),
        ("SELECT id FROM send WHERE store_id = 1 AND created_at > 0", False),
        ("SELECT * FROM route", False),
    ],
)
def test_what_goes_through_a_table_is_told(bench, monkeypatch, statement, wrong):
    monkeypatch.setattr(scans, "_SEEN", {})
    monkeypatch.setattr(scans, "_caller", lambda: "somewhere.py:asks")
    database = Database(bench.settings.url)  # the bench's own would fail for it
    found = scans.watch(database.engine)
    with database.engine.connect() as connection:
        connection.exec_driver_sql(statement)
        connection.rollback()
    database.close()
    assert bool(found) == wrong, found
