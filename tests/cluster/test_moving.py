"""An installation moves from SQLite to PostgreSQL and back while deliveries come in: nothing is lost, and the old
database takes nothing more.
"""

import contextlib
import datetime as dt
import threading
import time

import pytest
from click.testing import CliRunner
from sqlalchemy.exc import DBAPIError

from angelon.cli.main import main
from angelon.core.problems import Invalid
from angelon.db.database import Database
from angelon.db.derived import counting, searching
from angelon.db.log import sends
from angelon.db.setup import specs
from angelon.db.tables import ContactRow, RouteRow
from angelon.engine import moving
from angelon.engine.followers import indexing
from angelon.engine.planner import Planner
from angelon.engine.setups import Setups
from tests import made
from tests.conftest import bench_in


@pytest.fixture
def bench(tmp_path, bundle, migrated):
    """On SQLite, whatever the others run on: that is where a move begins."""
    with bench_in(tmp_path / "home", bundle, migrated) as one:
        yield one


def deliver(bench, number):
    buyer = {"name": f"Jörg {number}", "email": f"p{number}@example.org", "country": "DE"}
    return bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"d-{number}")


def rows(database, query):
    with database.reading() as session:
        return sorted(tuple(row) for row in session.connection().exec_driver_sql(query))


def column(database, query):
    with database.reading() as session:
        return [row[0] for row in session.connection().exec_driver_sql(query)]


def counts(database):
    with database.reading() as session:
        return counting.differences(session.connection())


@pytest.fixture
def filled(bench):
    never = made.route(key="never", name="Never", only_if={"of": [{"of": "order.total", "op": "less", "value": "1"}]})
    with bench.database.writing() as session:
        row = specs.save_draft(session, RouteRow, bench.store_id, never, bench.clock.now())
        specs.publish(session, row, bench.clock.now())
        specs.switch(session, row, True, bench.clock.now() - dt.timedelta(days=1))
    bench.services.setups.forget()
    for number in range(40):
        deliver(bench, number)
    bench.plan()
    with bench.database.writing() as session:
        session.add(ContactRow(store_id=bench.store_id, identity="odd", name="a\x00b", first_seen=bench.clock.now()))
    return bench


def test_it_moves_there_and_back_while_deliveries_come_in(filled, server, tmp_path):
    bench, taken, ended = filled, [], threading.Event()
    target = Database(server.create("moved"))

    def come_in():
        number = 1000
        while not ended.is_set():
            number += 1
            if deliver(bench, number).status == 202:
                taken.append(f"d:d-{number}")
            with contextlib.suppress(DBAPIError):  # once it is closed
                bench.plan()

    coming = threading.Thread(target=come_in)
    coming.start()
    try:
        done = moving.move(bench.database, target)
    finally:
        ended.set()
        coming.join()
    assert len(taken) > 3, "they came in all the while"
    keys = set(column(target, "SELECT delivery_key FROM event WHERE parent_id IS NULL"))
    assert set(taken) <= keys
    assert {f"d:d-{number}" for number in range(40)} <= keys
    assert done.again > 0
    assert done.cut < 5
    assert column(target, "SELECT name FROM contact WHERE identity = 'odd'") == ["a\ufffdb"]
    assert deliver(bench, 5000).status == 503, "the old one takes nothing more, and the shop sends it again"

    setups = Setups(target)
    planner = Planner(target, setups, bench.clock)
    while planner.run_batch()[0]:
        pass
    indexing.follow(target)
    indexing.fold(target)
    assert not any(counts(target).values())
    with target.reading() as session:
        assert len(searching.refs(session.connection(), "order", bench.store_id, "jorg 7", 9)) >= 1

    back = Database(f"sqlite:///{tmp_path / 'back' / 'angelon.db'}")
    again = moving.move(target, back)
    decided = "SELECT route, outcome, part, sum(number) FROM decision_count GROUP BY 1, 2, 3"
    assert column(bench.database, "SELECT sum(number) FROM decision_count")[0] >= 40, "they were counted"
    for table in ("event", "send", '"order"', "contact", "delivery"):
        here, there = (column(one, f"SELECT count(*) FROM {table}") for one in (target, back))
        assert here == there, table
    assert again.rows["send"] == column(back, "SELECT count(*) FROM send")[0] >= 40
    assert not any(counts(back).values())
    assert rows(target, decided) == rows(back, decided)
    with pytest.raises(DBAPIError, match="was moved"), target.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET name = 'x'")
    target.close()
    back.close()


def test_what_changes_once_it_is_counted_is_counted_and_the_new_one_is_ready_when_the_old_is_closed(
    filled, server, monkeypatch
):
    target, counted = Database(server.create("ready")), []
    real = moving._count_anew

    def and_goes_on(into):
        real(into)
        counted.append(moving._is_closed(filled.database))
        for number in range(2000, 2010):
            deliver(filled, number)
        filled.plan()
        with filled.database.connection() as connection:
            connection.exec_driver_sql("UPDATE send SET state = 'failed' WHERE id = (SELECT min(id) FROM send)")
            for change in (
                "UPDATE event SET pinned = TRUE WHERE id = 'ev-parent'",
                "UPDATE event SET item = 1 WHERE id = 'ev-child'",
                "DELETE FROM event WHERE id = 'ev-child'",
                "DELETE FROM event WHERE id = 'ev-parent'",
            ):
                connection.exec_driver_sql(change)

    with filled.database.connection() as connection:  # one follows from the other; both are gone by the cut
        names = "source_id, delivery_id, name, type, received_at, item, was, now, problem"
        copied = f"INSERT INTO event (id, delivery_key, parent_id, planned_at, {names}) "
        copied += f"SELECT '{{0}}', '{{0}}', {{1}}, 1, {names} FROM event LIMIT 1"
        connection.exec_driver_sql(copied.format("ev-parent", "NULL"))
        connection.exec_driver_sql(copied.format("ev-child", "'ev-parent'"))
    monkeypatch.setattr(moving, "_count_anew", and_goes_on)
    moving.move(filled.database, target)
    assert counted == [False], "while the old one was in use"
    indexing.fold(target)
    assert not any(counts(target).values())
    decided = "SELECT route, outcome, part, sum(number) FROM decision_count GROUP BY 1, 2, 3"
    assert rows(target, decided) == rows(filled.database, decided)
    assert column(target, "SELECT sum(number) FROM send_count WHERE state = 'failed'") == [1]
    with target.writing() as session:
        session.add(ContactRow(store_id=filled.store_id, identity="new"))
    target.close()


def test_a_database_that_holds_something_is_refused_and_nothing_is_changed(filled, server):
    target = Database(server.create("full"))
    target.migrate()
    with target.connection() as connection:
        connection.exec_driver_sql("INSERT INTO store (key, spec, version, edits) VALUES ('x', '{}', 0, 0)")
    with pytest.raises(Invalid, match="holds something already"):
        moving.move(filled.database, target)
    assert deliver(filled, 900).status == 202
    target.close()


def test_where_what_was_copied_is_not_the_same_the_old_database_stays_in_use(filled, server, monkeypatch):
    target = Database(server.create("unlike"))
    real = moving._finish

    def loses_one(connection, database, seen):
        number = real(connection, database, seen)
        with database.connection() as into:
            into.exec_driver_sql("DELETE FROM content")
            into.exec_driver_sql("DELETE FROM send WHERE id = (SELECT min(id) FROM send)")
        return number

    monkeypatch.setattr(moving, "_finish", loses_one)
    with pytest.raises(Invalid, match="40 rows here and 39 there"):
        moving.move(filled.database, target)
    assert deliver(filled, 901).status == 202
    assert filled.plan() == 1
    triggers = column(filled.database, "SELECT name FROM sqlite_master WHERE type = 'trigger' AND name LIKE 'move%'")
    assert triggers == []
    target.close()


SPOIL = (
    "CREATE FUNCTION spoil() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.name = NEW.name || '_'; RETURN NEW; END "
    "$$; CREATE TRIGGER spoil BEFORE INSERT ON contact FOR EACH ROW WHEN (NEW.name LIKE '%% 7') "
    "EXECUTE FUNCTION spoil()"
)


@pytest.mark.parametrize("moment", ["_copy_all", "_finish"])
def test_one_value_that_came_over_otherwise_is_found(filled, server, monkeypatch, moment):
    target = Database(server.create(f"otherwise{moment}"))
    real = getattr(moving, moment)

    def spoilt(source, *rest):
        with target.connection() as into:
            into.exec_driver_sql(SPOIL)
        if moment == "_finish":  # what is copied last
            source.exec_driver_sql("UPDATE contact SET phone = '1' WHERE name LIKE '% 7'")
        return real(source, *rest)

    monkeypatch.setattr(moving, moment, spoilt)
    with pytest.raises(Invalid, match=r"contact: .*not the same"):
        moving.move(filled.database, target)
    assert deliver(filled, 902).status == 202
    target.close()


def run(bench, *arguments, **env):
    settings = {"ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only", **env}
    return CliRunner().invoke(main, ["move", *arguments], env=settings)


def test_the_command_says_what_it_did_and_what_to_do_and_an_old_database_is_not_moved_twice(filled, server):
    url = server.create("commanded")
    done = run(filled, url)
    assert done.exit_code == 0, done.output
    assert "40 events, 40 orders, 40 sends" in done.output
    assert f"ANGELON_DATABASE_URL={url}" in done.output
    assert deliver(filled, 700).status == 503
    again = run(filled, server.create("twice"))
    assert again.exit_code == 1
    assert "was moved already" in again.output
    assert run(filled, "--reopen").exit_code == 0
    assert deliver(filled, 700).status == 202


@pytest.mark.parametrize(
    ("url", "said"),
    [
        ("nonsense", "can't be read"),
        ("oracle9://x/y", "can't be read"),
        ("postgresql+psycopg://nobody@127.0.0.1:1/none", "can't be used"),
    ],
)
def test_an_address_that_can_t_be_used_is_one_sentence_and_changes_nothing(filled, url, said):
    done = run(filled, url)
    assert done.exit_code == 1
    assert said in done.output
    assert "Traceback" not in done.output
    assert deliver(filled, 701).status == 202


def test_a_move_that_was_killed_before_its_end_stops_no_send_for_long(filled, server, monkeypatch):
    with filled.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET due_at = 0")
    moving._note_changes(filled.database)
    monkeypatch.setattr(moving, "WAIT", 0.6)
    moving._stop_claims(filled.database)  # and here it is killed
    claim = lambda: claimed(filled)  # noqa: E731
    with pytest.raises(DBAPIError, match="was moved"):
        claim()
    time.sleep(2.3)
    assert claim() == 1
    target = Database(server.create("afterwards"))
    assert moving.move(filled.database, target).rows["send"] == 40
    target.close()


def claimed(bench):
    with bench.database.connection() as connection:
        return len(sends.claim(connection, "w-1-0", bench.clock.now(), dt.timedelta(minutes=1), 1))
