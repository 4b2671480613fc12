"""What has come in and gone out, as files: the same rows in each form, whole or not there, in a folder or elsewhere."""

import csv
import datetime as dt
import json
import threading

import pyarrow.parquet as pq
import pytest

from angelon.core.problems import Invalid
from angelon.db.upkeep import nights
from angelon.engine.clock import Clock
from angelon.engine.exports import snapshot
from angelon.engine.exports.lines import AT_ONCE
from angelon.engine.exports.listed import Listed
from angelon.engine.exports.targets import target_of
from angelon.engine.followers import nightly
from angelon.engine.followers.nightly import Nightly, Wanted
from tests import made

NOW = dt.datetime(2026, 3, 4, 2, 40, tzinfo=dt.UTC)


@pytest.fixture
def shop(bench):
    for number in range(3):
        buyer = {"name": f"=Person {number}", "email": f"p{number}@example.org", "country": "DE"}
        bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"d-{number}")
    bench.plan()
    return bench


def write(shop, to, form, **more):
    return snapshot.write(shop.database, shop.services.setups.get(shop.store_id), target_of(str(to)), NOW, form, **more)


def test_each_form_has_the_same_rows(shop, tmp_path):
    for form in snapshot.FORMS:
        assert write(shop, tmp_path, form) == {"orders": 3, "customers": 3, "sends": 3, "documents": 0, "parcels": 0}
    (folder,) = tmp_path.glob("*/2026-03-04")
    for kind in ("orders", "customers", "sends"):
        columns = pq.read_table(folder / f"{kind}.parquet").to_pylist()
        lines = [json.loads(line) for line in (folder / f"{kind}.jsonl").read_text().splitlines()]
        with (folder / f"{kind}.csv").open(newline="") as file:
            cells = list(csv.DictReader(file))
        assert len(columns) == len(lines) == len(cells) == 3
        for one, line, row in zip(columns, lines, cells, strict=True):
            assert one.keys() == line.keys() == row.keys()
            for name, value in one.items():
                as_line = line[name]
                if isinstance(value, dt.datetime):
                    assert value == dt.datetime.fromisoformat(as_line), name
                elif value is None:
                    assert as_line in (None, ""), name
                else:
                    assert str(value) == str(as_line), name
                if not str(row[name]).startswith("'"):
                    assert row[name] == ("" if as_line is None else str(as_line)), name
    assert cells[0]["name"].startswith("'=Person"), "no formula for a spreadsheet"
    assert columns[0]["name"].startswith("=Person")
    said = json.loads((folder / snapshot.COMPLETE).read_text())
    assert said["files"][0] == {"name": "orders.parquet", "rows": 3}


class Breaks(Listed):
    """A list that breaks off after its first part."""

    columns = ("id",)

    def __init__(self, *_):
        pass

    def read(self, session):
        if self.after:
            raise RuntimeError("the database is gone")
        self.after = (1, 1)
        return [{"id": "x"}] * AT_ONCE, AT_ONCE


def test_what_fails_half_way_leaves_nothing_and_what_was_there_before(shop, tmp_path, monkeypatch):
    monkeypatch.setattr(snapshot, "KINDS", snapshot.KINDS | {"sends": Breaks})
    with pytest.raises(RuntimeError, match="gone"):
        write(shop, tmp_path, "csv")
    (folder,) = tmp_path.glob("*/2026-03-04")
    assert sorted(one.name for one in folder.iterdir()) == ["customers.csv", "orders.csv"]
    assert not snapshot.is_there(target_of(str(tmp_path)), folder.parent.name, NOW.date())
    monkeypatch.undo()
    write(shop, tmp_path, "csv")
    assert snapshot.is_there(target_of(str(tmp_path)), folder.parent.name, NOW.date())


def test_the_newest_days_are_kept_and_nothing_else_is_touched(tmp_path):
    for name in ("2026-01-01", "2026-01-02", "2026-01-03", "notes"):
        (tmp_path / "shop" / name).mkdir(parents=True)
    target = target_of(str(tmp_path))
    assert snapshot.let_go(target, "shop", 0) == []
    assert snapshot.let_go(target, "shop", 2) == ["2026-01-01"]
    assert snapshot.let_go(target, "shop", 2) == snapshot.let_go(target, "nobody", 2) == []
    assert sorted(one.name for one in (tmp_path / "shop").iterdir()) == ["2026-01-02", "2026-01-03", "notes"]


# ---- an object store


def test_an_object_store_takes_the_files_and_old_days_go(shop, store):
    target = target_of(store.uri)
    live = shop.services.setups.get(shop.store_id)
    key = live.setup.store.key
    for day in (0, 1, 2):
        snapshot.write(shop.database, live, target, NOW + dt.timedelta(days=day), "parquet", ["orders"])
    whole = store.objects[f"shop/rows/{key}/2026-03-05/orders.parquet"]
    assert whole[:4] == whole[-4:] == b"PAR1"
    assert snapshot.is_there(target, key, dt.date(2026, 3, 6))
    assert not snapshot.is_there(target, key, dt.date(2026, 3, 7))
    assert snapshot.let_go(target, key, 1) == ["2026-03-04", "2026-03-05"]
    assert {name.split("/")[3] for name, data in store.objects.items() if data} == {"2026-03-06"}


def test_what_breaks_off_half_way_is_no_object_and_the_day_is_not_whole(shop, store, monkeypatch):
    live, target = shop.services.setups.get(shop.store_id), target_of(store.uri)
    key = live.setup.store.key
    snapshot.write(shop.database, live, target, NOW, "csv", ["orders"])
    assert snapshot.is_there(target, key, NOW.date())
    monkeypatch.setattr(snapshot, "KINDS", {"orders": Breaks})
    with pytest.raises(RuntimeError, match="gone"):
        snapshot.write(shop.database, live, target, NOW, "csv")
    assert not snapshot.is_there(target, key, NOW.date())
    assert not [name for name, data in store.objects.items() if data], "nothing that is cut off"


def test_an_object_store_that_is_gone_or_no_address_is_told_in_words(shop):
    with pytest.raises(OSError, match="NETWORK_CONNECTION"):
        write(shop, "s3://shop/rows?endpoint_override=127.0.0.1:1&scheme=http", "csv")
    with pytest.raises(Invalid, match="can't be used"):
        target_of("s3://shop?nonsense=1")


# ---- each night


class Runs:
    """A process that is told how to end, and what it says before."""

    code: int | None = None
    words = b""
    started: list = []  # noqa: RUF012 - for one test, which makes it anew

    def __init__(self, command, stderr, **_):
        Runs.started.append(command)
        stderr.write(Runs.words)

    def poll(self):
        return Runs.code

    def terminate(self):
        Runs.code = -15


@pytest.fixture
def nights_of(shop, monkeypatch):
    """Makes one of the installation's processes that plan, all by one clock, which the test moves."""
    Runs.started, Runs.code, Runs.words = [], None, b""
    monkeypatch.setattr(nightly.subprocess, "Popen", Runs)
    monkeypatch.setattr(nightly, "LOOK", 0.0)
    at = [NOW.replace(hour=1)]
    wanted = Wanted("/rows", "parquet", dt.time(2, 30), 7)
    return at, lambda: Nightly(wanted, shop.database, Clock(now=lambda: at[0]))


def test_each_night_it_is_written_once_by_a_process_of_its_own_and_again_where_it_failed(shop, nights_of):
    at, process = nights_of
    one, other = process(), process()
    one.look()
    assert not Runs.started, "before its time"
    at[0] = NOW
    for each in (one, other, one, other):
        each.look()
    assert [command[3:] for command in Runs.started] == [["data", "/rows", "--as", "parquet", "--keep", "7", "--once"]]
    Runs.code = 1
    for each in (one, other, one, other):
        each.look()
    assert len(Runs.started) == 1, "in an hour"
    at[0] += dt.timedelta(hours=1, minutes=1)
    Runs.code = None
    for each in (other, one):
        each.look()
    assert len(Runs.started) == 2
    Runs.code = 0
    for each in (one, other, one, other, process()):
        each.look()
    assert len(Runs.started) == 2, "it is there"
    at[0] += dt.timedelta(days=1)
    one.look()
    assert len(Runs.started) == 3
    Runs.code = None
    one.stop()
    assert Runs.code == -15


def test_why_it_failed_is_kept_until_it_is_written(shop, nights_of):
    at, process = nights_of
    at[0] = NOW
    one, Runs.words = process(), b"sends: 1,000 so far\nError: /rows can\xe2\x80\x99t be written: No space left\n"
    one.look()
    Runs.code = 1
    one.look()

    def why():
        with shop.database.reading() as session:
            return nights.problems(session.connection(), at[0]).get(nights.EXPORT, "")

    assert why() == "/rows can’t be written: No space left"
    at[0] += dt.timedelta(hours=1, minutes=1)
    Runs.code, Runs.words = None, b""
    one.look()
    assert why(), "it is not written yet"
    Runs.code = 0
    one.look()
    assert not why()


def test_why_it_failed_is_forgotten_once_nobody_tries_it_any_more(shop, nights_of):
    at, process = nights_of
    at[0] = NOW
    one = process()
    one.look()
    Runs.code, Runs.words = 1, b""
    one.look()

    def why():
        with shop.database.reading() as session:
            return nights.problems(session.connection(), at[0]).get(nights.EXPORT, "")

    assert why() == "its process ended with 1"
    at[0] += dt.timedelta(hours=1, minutes=10)
    assert why(), "it is tried again any moment"
    at[0] += dt.timedelta(minutes=10)
    assert not why(), "ANGELON_EXPORTS is not set any more"


def test_who_finds_it_written_writes_nothing(shop, nights_of, monkeypatch):
    at, process = nights_of
    at[0] = NOW
    one, other = process(), process()
    one.look()
    Runs.code = 0
    one.look()
    monkeypatch.setattr(nights, "take", None)  # would be called
    for _ in range(3):
        other.look()
    assert len(Runs.started) == 1


def test_a_long_export_is_nobody_else_s_and_one_whose_process_died_is_begun_again(shop, nights_of):
    at, process = nights_of
    at[0] = NOW
    one, other = process(), process()
    one.look()
    for _ in range(40):
        at[0] += dt.timedelta(minutes=1)
        one.look()
        other.look()
    assert len(Runs.started) == 1
    at[0] += nightly.HELD  # the first is gone
    other.look()
    assert len(Runs.started) == 2


def test_the_command_writes_once_a_day(shop, tmp_path, monkeypatch):
    from click.testing import CliRunner

    from angelon.cli.main import main

    monkeypatch.setenv("ANGELON_HOME", str(shop.home))
    monkeypatch.setenv("ANGELON_DATABASE_URL", str(shop.database.engine.url.render_as_string(hide_password=False)))
    monkeypatch.setenv("ANGELON_SECRET_KEY", "a-key-for-tests-only")
    said = CliRunner().invoke(main, ["data", str(tmp_path), "--only", "orders", "--json"], catch_exceptions=False)
    assert said.exit_code == 0, said.output
    ((key, told),) = json.loads(said.stdout[said.stdout.index("{") :])["stores"].items()
    assert told["rows"] == {"orders": 3}
    again = CliRunner().invoke(main, ["data", str(tmp_path), "--once", "--json"])
    assert json.loads(again.stdout[again.stdout.index("{") :])["stores"] == {}
    wrong = CliRunner().invoke(main, ["data", str(tmp_path), "--only", "nothing"])
    assert wrong.exit_code == 1
    assert "One of: orders, customers" in wrong.output
    assert (tmp_path / key).is_dir()


# ---- long lists


def test_a_long_list_is_gone_on_with_by_a_process_of_its_own_without_a_gap(shop, client, monkeypatch):
    from angelon.engine.exports import listed, orders, sends
    from angelon.web import exporting

    whole = {
        path: client.get(path).data for path in ("/sends/all.csv?span=all", "/orders/all.jsonl", "/people/all.csv")
    }
    for module in (listed, orders, sends, exporting):
        monkeypatch.setattr(module, "AT_ONCE", 1)
    monkeypatch.setattr(exporting, "HERE", 1)
    for path, data in whole.items():
        assert client.get(path).data == data, path
        assert len(data.splitlines()) >= 3
    monkeypatch.setattr(exporting, "BESIDE", threading.BoundedSemaphore(1))
    with exporting.BESIDE:  # as many processes as may are at it
        for path, data in whole.items():
            assert client.get(path).data == data, path


def test_whoever_stops_listening_ends_the_process_and_one_that_breaks_is_no_whole_file(shop, monkeypatch):
    from angelon.engine.exports import process
    from angelon.engine.exports.orders import Orders

    started = []
    real = process.subprocess.Popen
    monkeypatch.setattr(process.subprocess, "Popen", lambda *a, **b: started.append(real(*a, **b)) or started[-1])
    pieces = process.beside(shop.database, Orders(shop.store_id), "csv", hide=False)
    assert b"BK-" in next(pieces)
    pieces.close()
    assert started[0].returncode is not None
    masked = b"".join(process.beside(shop.database, Orders(shop.store_id), "csv", hide=True))
    assert b"BK-0" in masked
    assert b"p0@example.org" not in masked
    monkeypatch.setattr(process.pickle, "dumps", lambda job: b"nothing that can be read")
    with pytest.raises(process.Broke, match="ended with 1"):
        b"".join(process.beside(shop.database, Orders(shop.store_id), "csv", hide=False))


def test_every_list_can_be_given_to_another_process(shop):
    import pickle

    from angelon.db.log import documents as stored_documents
    from angelon.db.log import parcels as stored_parcels
    from angelon.engine.exports.documents import Documents
    from angelon.engine.exports.parcels import Parcels

    live = shop.services.setups.get(shop.store_id)
    for one in (Documents(live.store_id, stored_documents.Wanted()), Parcels(live, stored_parcels.Wanted())):
        again = pickle.loads(pickle.dumps(one))
        assert list(again.parts(shop.database)) == list(one.parts(shop.database))
