"""A whole installation in one file, taken while it is written to, and back again."""

import sqlite3
import tarfile
import threading

import pytest
from click.testing import CliRunner

from angelon.cli.main import main
from tests import made


def run(home, *arguments, code=0):
    done = CliRunner().invoke(main, arguments, env={"ANGELON_HOME": str(home)})
    assert done.exit_code == code, done.output
    return done.output


@pytest.fixture
def filled(bench):
    (bench.home / "secret.key").write_text("a key that stands in the folder")
    for number in range(20):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d-{number}")
    bench.plan()
    return bench


@pytest.mark.sqlite
def test_what_is_backed_up_while_it_is_written_to_comes_back_whole(filled, tmp_path):
    stop = threading.Event()

    def write():
        number = 100
        while not stop.is_set():
            filled.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d-{number}")
            number += 1

    writer = threading.Thread(target=write)
    writer.start()
    try:
        told = run(filled.home, "backup", str(tmp_path / "a.tar.gz"))
    finally:
        stop.set()
        writer.join()
    assert "20 orders" in told
    assert (tmp_path / "a.tar.gz").stat().st_mode & 0o777 == 0o600
    told = run(tmp_path / "new", "restore", str(tmp_path / "a.tar.gz"), "--as", "shop")
    assert "Restored as of" in told
    with sqlite3.connect(tmp_path / "new" / "angelon.db") as back:
        assert back.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert back.execute('SELECT count(*) FROM "order"').fetchone() == (20,)
    assert (tmp_path / "new" / "secret.key").read_text() == "a key that stands in the folder"
    assert (tmp_path / "new").stat().st_mode & 0o077 == 0


def trial(home):
    with sqlite3.connect(home / "angelon.db") as back:
        return [row[0] for row in back.execute("SELECT trial FROM store")]


@pytest.mark.sqlite
def test_what_is_restored_elsewhere_is_the_shop_or_a_copy_that_writes_to_nobody(filled, tmp_path):
    file = str(tmp_path / "a.tar.gz")
    run(filled.home, "backup", file)
    asked = run(tmp_path / "new", "restore", file, code=1)
    assert "--as copy" in asked
    assert not (tmp_path / "new" / "angelon.db").exists()
    assert "It is on trial" in run(tmp_path / "copy", "restore", file, "--as", "copy").replace("it is", "It is")
    assert trial(tmp_path / "copy") == ["nobody"]
    run(tmp_path / "shop", "restore", file, "--as", "shop")
    assert trial(tmp_path / "shop") == [""]
    (filled.home / "angelon.db").unlink()
    assert "Restored" in run(filled.home, "restore", file), "the same machine after a crash is the shop, unasked"
    assert trial(filled.home) == [""]


@pytest.mark.sqlite
def test_a_database_that_is_there_is_not_overwritten_and_with_force_kept_beside(filled, tmp_path):
    file = str(tmp_path / "a.tar.gz")
    run(filled.home, "backup", file)
    assert "With --force" in run(filled.home, "restore", file, code=1)
    told = run(filled.home, "restore", file, "--force")
    assert "What was there is angelon.db." in told
    assert len(list(filled.home.glob("angelon.db.2*"))) >= 1
    (filled.home / "secret.key").write_text("another key, which opens what is there now")
    assert "Its key is secret.key." in run(filled.home, "restore", file, "--force")
    assert (filled.home / "secret.key").read_text() == "a key that stands in the folder"
    assert [one.read_text()[:11] for one in filled.home.glob("secret.key.2*")] == ["another key"]


@pytest.mark.sqlite
def test_a_backup_that_was_changed_or_is_none_is_refused_and_nothing_is_touched(filled, tmp_path):
    file = tmp_path / "a.tar.gz"
    run(filled.home, "backup", str(file), "--without-key")
    with tarfile.open(file) as archive:
        assert "secret.key" not in archive.getnames()
        archive.extractall(tmp_path / "x", filter="data")
    with (tmp_path / "x" / "angelon.db").open("r+b") as database:
        database.seek(5000)
        database.write(b"damaged")
    with tarfile.open(file, "w:gz") as archive:
        for name in ("manifest.json", "angelon.db"):
            archive.add(tmp_path / "x" / name, name)
    assert "is damaged" in run(tmp_path / "new", "restore", str(file), code=1)
    (tmp_path / "b.tar.gz").write_bytes(b"nothing")
    assert "is no backup" in run(tmp_path / "new", "restore", str(tmp_path / "b.tar.gz"), code=1)
    assert not (tmp_path / "new" / "angelon.db").exists()


def test_an_empty_folder_has_nothing_to_back_up(tmp_path):
    assert "There is no database" in run(tmp_path / "none", "backup", str(tmp_path / "a.tar.gz"), code=1)
