"""Durable, migrated, refused when newer; set-ups applied all or nothing."""

import contextlib
import datetime as dt
import gzip
import sqlite3
import threading
from pathlib import Path

import pytest
from sqlalchemy.dialects import sqlite
from sqlalchemy.exc import IntegrityError, OperationalError

from angelon.core.problems import Invalid
from angelon.core.specs import Bundle
from angelon.core.specs.bundle import write_bundle
from angelon.db.access.secrets import Vault, WrongKey
from angelon.db.database import Database, OtherDatabase, is_busy, is_database_failure
from angelon.db.log import sends
from angelon.db.setup import bundles, live_setup, specs
from angelon.db.tables import MessageRow, RouteRow
from tests import made

NOW = dt.datetime(2026, 11, 3, tzinfo=dt.UTC)


@pytest.mark.sqlite
@pytest.mark.durable
def test_sqlite_is_set_to_lose_nothing(bench):
    values = {
        name: bench.rows(f"PRAGMA {name}")[0][0]
        for name in ("journal_mode", "synchronous", "foreign_keys", "busy_timeout")
    }
    assert values == {"journal_mode": "wal", "synchronous": 2, "foreign_keys": 1, "busy_timeout": 20000}


@pytest.mark.sqlite
def test_tables_and_migrations_agree(bench):
    assert migrations_that_differ(bench.database) == []


def migrations_that_differ(database):
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext
    from sqlmodel import SQLModel

    def ours(name, kind, _):
        return kind != "table" or not str(name).startswith("words_")  # the search's index is SQLite's own

    with database.engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"include_name": ours})
        changes = compare_metadata(context, SQLModel.metadata)
    # text is TEXT in a migration and a plain string in the model: the same column everywhere
    return [change for change in changes if not (isinstance(change, list) and change[0][0] == "modify_type")]


@pytest.mark.parametrize(("at", "said"), [("9999", "newer Angelon"), ("0012", "commit 2861317 first")])
def test_a_database_of_an_unknown_version_is_refused(tmp_path, at, said):
    database = Database(f"sqlite:///{tmp_path}/a.db")
    database.migrate()
    with database.connection() as connection:
        connection.exec_driver_sql("UPDATE alembic_version SET version_num = ?", (at,))
    with pytest.raises(OtherDatabase, match=f"at version {at}.*{said}"):
        database.migrate()


def test_a_bundle_goes_in_and_comes_out_the_same(bench, bundle):
    with bench.database.reading() as session:
        out = bundles.export(session, bench.store_id)
    assert write_bundle(out) == write_bundle(bundle)


def test_applying_says_what_changed_and_the_same_again_changes_nothing(bench, bundle):
    with bench.database.writing() as session:
        assert bundles.apply(session, bundle, NOW) == []
    changed = bundle.model_copy(update={"sources": [made.source(name="Shop two")], "live": []})
    with bench.database.writing() as session:
        assert bundles.apply(session, changed, NOW) == ["source shop: changed name", "route received: switched off"]


def test_nothing_changes_if_any_part_can_t_be_applied(bench, bundle):
    other = Bundle(store=made.store().model_copy(update={"key": "other"}), sources=[made.source()])
    with pytest.raises(Invalid, match="belongs to another store"), bench.database.writing() as session:
        bundles.apply(session, other, NOW)
    with bench.database.reading() as session:
        assert [row.key for row in specs.stores(session)] == ["kites"]


def test_a_draft_changes_nothing_until_it_is_published(bench):
    with bench.database.writing() as session:
        row = specs.save_draft(session, MessageRow, bench.store_id, made.message(name="Other"), NOW)
        assert live_setup.load(session, bench.store_id).setup.messages["received"].name == "Received"
        assert specs.publish(session, row, NOW).number == 2
        assert live_setup.load(session, bench.store_id).setup.messages["received"].name == "Other"
        row.draft = made.message(name="Other").plain()
        assert specs.publish(session, row, NOW).number == 2, "the same text makes no new revision"


def test_switching_on_counts_from_that_moment(bench):
    with bench.database.writing() as session:
        row = specs.by_key(session, RouteRow, bench.store_id, "received")
        specs.switch(session, row, False, NOW)
        specs.switch(session, row, True, NOW + dt.timedelta(hours=1))
        assert row.since == NOW + dt.timedelta(hours=1)
        specs.switch(session, row, True, NOW + dt.timedelta(hours=2))
        assert row.since == NOW + dt.timedelta(hours=1), "it was on already"


def test_secrets_are_sealed_and_an_old_one_overlaps(bench):
    with bench.database.writing() as session:
        bench.vault.put(session, "source", 1, "first-secret", NOW)
        bench.vault.put(session, "source", 1, "second-secret", NOW, NOW + dt.timedelta(hours=1))
        assert [s.text for s in bench.vault.get(session, "source", 1, NOW)] == ["second-secret", "first-secret"]
        assert [s.text for s in bench.vault.get(session, "source", 1, NOW + dt.timedelta(hours=2))] == ["second-secret"]
        with pytest.raises(WrongKey, match="ANGELON_SECRET_KEY"):
            Vault("another-key-altogether").get(session, "source", 1, NOW)
    assert all(b"secret" not in row[0] for row in bench.rows("SELECT sealed FROM secret"))


@pytest.mark.sqlite
def test_a_claim_looks_at_what_is_due_and_nothing_else(bench):
    """However many sends there are, the index of those that wait serves the claim, in order, without a sort."""
    statement = str(sends._CLAIMS[False, "one"].compile(dialect=sqlite.dialect()))
    given = (bench.clock.now().timestamp(),) * statement.count("?")
    plan = [row[3] for row in bench.rows(f"EXPLAIN QUERY PLAN {statement}", *given)]
    looks = [line for line in plan if "ix_send_waiting" in line]
    assert looks == ["SEARCH send USING INDEX ix_send_waiting (gateway_id=? AND turn=? AND due_at<?)"] * 3
    assert not any("TEMP B-TREE" in line and "ORDER" in line for line in plan)


@pytest.mark.sqlite
def test_a_data_folder_of_the_version_before_moves_on(tmp_path):
    """A database as commit 2861317 left it: three orders told, one asked about, one that waits."""
    file = tmp_path / "angelon.db"
    file.write_bytes(gzip.decompress(Path(__file__).with_name("at-0029.db.gz").read_bytes()))
    database = Database(f"sqlite:///{file}")
    database.migrate()
    with database.engine.connect() as connection:

        def rows(sql):
            return connection.exec_driver_sql(sql).fetchall()

        assert rows("SELECT state, count(*) FROM send GROUP BY state") == [("retrying", 3)]
        assert rows("SELECT kind, name, problem, due_at FROM inquiry ORDER BY kind") == [
            ("handler", "thanks", "", None),
            ("look-up", "more", "", None),
        ], "what was asked in vain of an event that waits is asked anew"
        assert rows("SELECT count(*) FROM event WHERE planned_at IS NULL AND waits_for = ''") == [(1,)]
    assert migrations_that_differ(database) == []
    database.close()


@pytest.mark.sqlite
def test_it_migrates_beside_others_who_write_all_the_time(tmp_path):
    file, stop, wrote = tmp_path / "angelon.db", threading.Event(), []
    file.write_bytes(gzip.decompress(Path(__file__).with_name("at-0029.db.gz").read_bytes()))
    Database(f"sqlite:///{file}").close()

    def write():
        connection = sqlite3.connect(file, timeout=30, isolation_level=None)
        while not stop.is_set():
            connection.execute("UPDATE contact SET name = name || '.'")
            wrote.append(1)
        connection.close()

    writing = threading.Thread(target=write)
    writing.start()
    try:
        database = Database(f"sqlite:///{file}")
        database.migrate()
        assert database.behind() == ""
        database.close()
    finally:
        stop.set()
        writing.join()
    assert wrote


@pytest.mark.sqlite
@pytest.mark.durable
def test_a_write_inside_a_write_is_refused_instead_of_waiting_for_itself(bench):
    with (
        bench.database.connection(),
        pytest.raises(RuntimeError, match="would wait for itself"),
        bench.database.writing(),
    ):
        pass
    with bench.database.writing():
        pass


@pytest.mark.sqlite
def test_the_newest_events_are_found_without_reading_the_others(bench):
    from angelon.db.log import events

    ids = [
        bench.deliver(
            made.body(id=number), store_delivery=f"d{number}", store_event="placed" if number % 2 else "changed"
        ).body["event"]
        for number in range(8)
    ]
    with bench.database.reading() as session:
        assert [one.id for one in events.newest_of_each(session, [1], [], True, 3)] == ids[:-4:-1]
        assert [one.id for one in events.newest_of_each(session, [1], ["order.created"], False, 9)] == ids[7:0:-2]
        assert events.newest_of_each(session, [2], [], True, 3) == []
    for clause in ("source_id = 1 AND parent_id IS NULL", "type = 'order.created' AND source_id IN (1, 2)"):
        plan = " ".join(
            row[3]
            for row in bench.rows(
                f"EXPLAIN QUERY PLAN SELECT received_at, id FROM event WHERE {clause} ORDER BY received_at DESC, id "
                "DESC LIMIT 40"
            )
        )
        assert "ix_event_source" in plan or "ix_event_type" in plan, plan


@pytest.mark.sqlite
def test_a_write_that_failed_leaves_nothing_to_the_next(bench):
    """A connection is kept from write to write: not that of a write that broke off, nor beyond the end."""
    database = bench.database
    with database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("CREATE TABLE kept (word TEXT UNIQUE)")
    with contextlib.suppress(IntegrityError), database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("INSERT INTO kept VALUES ('a')")
        connection.exec_driver_sql("INSERT INTO kept VALUES ('a')")  # refused, and the first with it
    with database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("INSERT INTO kept VALUES ('c')")
    assert bench.rows("SELECT word FROM kept") == [("c",)]
    database.close()
    assert database.engine.pool.checkedout() == 0
    with database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("DELETE FROM kept")
    assert bench.rows("SELECT word FROM kept") == []


@pytest.mark.sqlite
def test_a_database_that_another_program_holds_is_said_to_be_busy(tmp_path):
    database = Database(f"sqlite:///{tmp_path / 'angelon.db'}")
    database.migrate()
    with database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("PRAGMA busy_timeout=10")
    with sqlite3.connect(tmp_path / "angelon.db", isolation_level=None) as other:
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(OperationalError) as said, database.connection(purpose="a test"):
            pass
        other.execute("COMMIT")
    assert is_busy(said.value)
    assert is_database_failure(said.value)
    with database.connection(purpose="a test") as connection:
        connection.exec_driver_sql("SELECT 1")
    database.close()
