"""Files taken in parts: stopped, killed, repeated, changed; nothing is lost, nothing comes twice."""

import json
import os
import time
from pathlib import Path

import pytest

from angelon.core.specs import Source
from angelon.db.log import imports
from angelon.db.tables import SourceRow
from angelon.engine.arrivals import imported, importing
from angelon.engine.arrivals.importing import Importer
from angelon.engine.operations import imports as operations
from angelon.engine.unit import MACHINE, unit
from tests.engine.test_fallbacks import Shop

READING = {
    "reference": "$.Order",
    "number": "$.Order",
    "status": "$.Status",
    "email": "$.Mail",
    "placed_at": "$.Placed",
}


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    spec = {"key": "sheet", "name": "Sheet", "reading": READING, "statuses": {"sent": "parcel.picked_up"}}
    bench.change(Source.model_validate(spec), SourceRow)
    return shop


def table(*orders, **status):
    lines = [f"{one},{status.get('status', 'new')},a{one}@example.org,2099-01-01" for one in orders]
    return "\n".join(["Order,Status,Mail,Placed", *lines]).encode()


def give(shop, data, name="orders.csv", quiet=False):
    bench = shop.bench
    id_ = operations.keep(bench.services.installation, bench.store_id, "sheet", name, data, MACHINE)
    with unit(bench.services.installation, bench.store_id) as work:
        operations.start(work, "sheet", id_, quiet)
    return id_


def importer(shop, **more):
    return Importer(shop.bench.database, shop.bench.services.setups, shop.bench.clock, **more)


def row(shop, id_):
    return shop.bench.rows("SELECT * FROM import WHERE id = ?", id_)[0]


def types(shop):
    return sorted(one.type for one in shop.bench.rows("SELECT type FROM event"))


def test_a_file_is_taken_and_the_same_again_does_nothing(shop):
    one = give(shop, table(1, 2, 3))
    assert importer(shop).run_due() == 3
    shop.bench.plan()
    assert types(shop) == ["", "", "", "order.created", "order.created", "order.created"]
    assert (row(shop, one).state, row(shop, one).rows, row(shop, one).new) == ("done", 3, 3)
    again = give(shop, table(1, 2, 3))
    assert importer(shop).run_due() == 0
    assert (row(shop, again).rows, row(shop, again).new) == (3, 0)


def test_an_order_that_exists_gets_what_is_new(shop):
    give(shop, table(1, 2))
    importer(shop).run_due()
    shop.bench.plan()
    shop.later(minutes=1)
    give(shop, table(1, status="sent"))
    assert importer(shop).run_due() == 1
    shop.bench.plan()
    assert "parcel.picked_up" in types(shop)
    assert types(shop).count("order.created") == 2


def test_quietly_taken_orders_make_no_event_and_later_ones_do(shop):
    give(shop, table(1, 2), quiet=True)
    importer(shop).run_due()
    shop.bench.plan()
    assert types(shop) == ["", ""]
    assert len(shop.bench.rows('SELECT * FROM "order"')) == 2
    shop.later(minutes=1)
    give(shop, table(2, status="sent"), quiet=True)
    importer(shop).run_due()
    shop.bench.plan()
    assert types(shop) == ["", "", ""]


def test_a_killed_process_is_followed_by_one_that_goes_on(shop, monkeypatch):
    monkeypatch.setattr(importing, "A_PART", 10)
    id_ = give(shop, table(*range(95)))
    real, stored = importing.take_in, []

    def torn(*given):
        if len(stored) % 3 == 2:
            stored.append(None)
            raise KeyboardInterrupt
        stored.append(1)
        return real(*given)

    monkeypatch.setattr(importing, "take_in", torn)
    for _ in range(20):
        shop.later(minutes=3)  # until the dead one's time is over
        try:
            importer(shop).run_due()
        except KeyboardInterrupt:
            continue
    assert (row(shop, id_).state, row(shop, id_).rows, row(shop, id_).new) == ("done", 95, 95)
    assert len(shop.bench.rows("SELECT * FROM event")) == 95


def test_two_processes_take_a_file_once(shop):
    give(shop, table(*range(30)))
    with shop.bench.database.connection() as connection:
        now = shop.bench.clock.now()
        (due,) = imports.due(connection, now)
        assert imports.claim(connection, due.id, now, now + importing.HELD) is not None
    assert importer(shop).run_due() == 0
    shop.later(minutes=3)
    assert importer(shop).run_due() == 30


def test_a_stopped_file_stops_and_is_taken_on(shop, monkeypatch):
    monkeypatch.setattr(importing, "A_PART", 10)
    id_ = give(shop, table(*range(50)))
    bench, runner = shop.bench, importer(shop)
    real = Importer._give_way
    calls = []

    def stopped_after_two(self, live):
        calls.append(1)
        if len(calls) == 3:
            with unit(bench.services.installation, bench.store_id) as work:
                operations.stop(work, "sheet", id_)
        real(self, live)

    monkeypatch.setattr(Importer, "_give_way", stopped_after_two)
    runner.run_due()
    assert (row(shop, id_).state, row(shop, id_).rows) == ("stopped", 20)
    with unit(bench.services.installation, bench.store_id) as work:
        operations.go_on(work, "sheet", id_)
    assert importer(shop).run_due() == 30
    assert row(shop, id_).state == "done"


def test_it_gives_way_while_much_is_to_be_processed(shop, monkeypatch):
    monkeypatch.setattr(importing, "A_PART", 10)
    monkeypatch.setattr(importing, "AHEAD", 15)
    id_ = give(shop, table(*range(40)))
    waits, runner = [], importer(shop)

    def planned_meanwhile(seconds):
        waits.append(row(shop, id_).rows)
        shop.bench.plan()

    monkeypatch.setattr(runner._stop, "wait", planned_meanwhile)
    assert runner.run_due() == 40
    assert waits == [20, 40] or waits == [20]


def test_rows_that_cannot_be_taken_are_listed_and_come_back_as_a_file_to_mend(shop):
    data = b"Order,Status,Mail,Placed\n1,new,a@example.org,2099-01-01\n,new,b@example.org,\n3,new,c@example.org,,,x\n"
    id_ = give(shop, data)
    assert importer(shop).run_due() == 1
    made = row(shop, id_)
    assert made.failed == 2
    form = importing.FileForm()
    (wrong,) = imported.wrong_rows(form, data, json.loads(made.errors))
    assert [one["problem"] for one in wrong] == [
        "It has no order reference or number where the mapping looks for it.",
        "It has 6 cells, and the heading has 4. Check its quotation marks.",
    ]
    assert wrong[0]["Mail"] == "b@example.org"


def test_a_file_that_cannot_be_read_fails_and_the_next_one_is_taken(shop):
    broken = give(shop, b"PK\x03\x04 no spreadsheet", "a.xlsx")
    fine = give(shop, table(1))
    assert importer(shop).run_due() == 1
    assert row(shop, broken).state == "failed"
    assert "no spreadsheet that can be read" in row(shop, broken).problem
    assert row(shop, fine).state == "done"


def test_what_was_told_is_a_column_of_the_file(shop):
    give(shop, table(1, 2))
    importer(shop).run_due()
    shop.bench.plan()
    sends = shop.bench.rows("SELECT * FROM send")
    with shop.bench.database.connection() as connection:
        order = shop.bench.rows('SELECT id FROM "order" WHERE number = ?', "1")[0].id
        connection.exec_driver_sql(f"UPDATE send SET state = 'sent', settled_at = created_at WHERE order_id = {order}")
    live = shop.bench.services.setups.get(shop.bench.store_id)
    (lines,) = imported.told(shop.bench.database, live, live.setup.sources["sheet"], importing.FileForm(), table(1, 2))
    assert [one["told"] for one in lines] == (["yes", "no"] if sends else ["no", "no"])


@pytest.fixture
def folder(shop, tmp_path):
    source = shop.bench.services.setups.get(shop.bench.store_id).setup.sources["sheet"]
    spec = source.model_dump(mode="json") | {"folder": {"form": {}}}
    shop.bench.change(Source.model_validate(spec), SourceRow)
    mine = tmp_path / "inbox" / "sheet"
    importer(shop, folder=tmp_path / "inbox").run_due()
    assert mine.is_dir()
    return mine


def put(folder, name, data, age=60):
    file = folder / name
    file.write_bytes(data)
    os.utime(file, (time.time() - age,) * 2)


def test_files_in_a_folder_are_taken_once_they_are_whole(shop, folder):
    put(folder, "today.csv", table(1, 2))
    put(folder, "growing.csv", table(3), age=0)
    put(folder, ".hidden.csv", table(4))
    (folder / "link.csv").symlink_to("/etc/passwd")
    assert importer(shop, folder=folder.parent).run_due() == 2
    assert [one.name.partition("-today")[1] for one in (folder / "taken").iterdir()] == ["-today"]
    assert sorted(one.name for one in folder.iterdir()) == [".hidden.csv", "growing.csv", "link.csv", "taken", "taking"]
    assert shop.bench.rows("SELECT * FROM import")[0].by == "folder"


def test_what_a_killed_process_left_aside_is_taken_by_the_next(shop, folder):
    put(folder / "taking", "left.csv", table(1, 2))
    assert importer(shop, folder=folder.parent).run_due() == 2
    assert not list((folder / "taking").iterdir())


def test_a_file_that_cannot_be_moved_is_told_once_and_not_taken_for_ever(shop, folder, monkeypatch, capsys):
    put(folder, "today.csv", table(1))
    runner = importer(shop, folder=folder.parent)
    real = Path.rename

    def fails(self, to):
        if "taken" in str(to):
            raise OSError("read-only file system")
        return real(self, to)

    monkeypatch.setattr(Path, "rename", fails)
    for _ in range(3):
        runner.run_due()
    assert len(shop.bench.rows("SELECT * FROM import")) == 1
    assert len(shop.bench.rows("SELECT * FROM event")) == 1


def test_what_was_told_is_written_beside_a_file_of_a_folder_once_nothing_waits(shop, folder):
    put(folder, "today.csv", table(1, 2))
    runner = importer(shop, folder=folder.parent)
    runner.run_due()
    taken = folder / "taken"

    def look():
        runner._tell_next = 0
        runner.run_due()
        return [one for one in taken.iterdir() if one.name.endswith(".told.csv")]

    assert look() == []  # not planned yet
    shop.bench.plan()
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'scheduled'")
    if shop.bench.rows("SELECT * FROM send"):
        assert look() == []
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'sent', settled_at = created_at")
    (file,) = look()
    lines = file.read_text().splitlines()
    assert lines[0] == "Order,Status,Mail,Placed,told,told_at,told_by,told_through"
    assert len(lines) == 3
    file.unlink()
    assert look() == []  # once


def test_all_rows_of_an_order_come_back_to_be_mended(shop):
    data = b"No,Item\n1,kite\n,reel\n,line\n"
    rows = next(imported.wrong_rows(importing.FileForm(), data, [[3, "has no number", 2]]))
    assert [(one["Item"], one["problem"]) for one in rows] == [("reel", "has no number"), ("line", "has no number")]
