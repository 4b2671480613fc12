"""The archive: what was sent goes there after some days, is read from there, and goes for good with its key."""

import datetime as dt

import pytest

from angelon.db.log import archive as stored
from angelon.db.log import sent_files
from angelon.db.upkeep import nights
from angelon.engine.archive import Archive
from angelon.engine.followers.archiving import Archiver
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import people
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from tests import made


@pytest.fixture(params=["folder", "objects"])
def archive(request, tmp_path):
    """A folder, and an object store."""
    return Archive(str(tmp_path / "archive") if request.param == "folder" else request.getfixturevalue("store").uri)


@pytest.fixture
def sent(bench, mailbox):
    """Three mails that were sent, of whom each."""
    for number in range(3):
        buyer = {"name": f"Jo {number}", "email": f"p{number}@example.org"}
        assert bench.deliver(made.body(id=number, buyer=buyer), store_delivery=f"d-{number}").status == 202
    bench.plan()
    bench.dispatcher().run_batch(10)
    rows = bench.rows("SELECT recipient, id FROM send WHERE state = 'sent'")
    assert len(rows) == 3
    return dict(rows)


def later(bench, days):
    now = bench.clock.now() + dt.timedelta(days=days)
    bench.clock.now = lambda: now


def change(bench, **days):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"keep": days})


def move(bench, archive):
    return Archiver(archive, bench.database, bench.services.setups, bench.clock).look()


def count(bench, table):
    return bench.rows(f"SELECT count(*) FROM {table}")[0][0]


def reading(bench, archive):
    """The pages of an installation with this archive."""
    bench.services.archive = archive


def pages_of(client, id_):
    return [client.get(path).data for path in (f"/sends/{id_}", f"/sends/{id_}.eml", f"/api/sends/{id_}")]


def test_what_was_sent_is_the_same_from_the_archive(bench, client, sent, archive):
    reading(bench, archive)
    before = {id_: pages_of(client, id_) for id_ in sent.values()}
    assert move(bench, archive) == 0, "nothing is old enough"
    later(bench, 31)
    assert move(bench, archive) == 3
    assert (count(bench, "content"), count(bench, "archived"), count(bench, "archive_pack")) == (0, 3, 1)
    for id_, (_, mail, api) in before.items():
        now = pages_of(client, id_)
        assert now[1:] == [mail, api], "byte for byte"
        assert b"Download as" in now[0]
        assert "can’t be shown".encode() not in now[0]
    assert move(bench, archive) == 0, "once an hour"


def test_nothing_in_a_pack_is_readable_without_its_key(bench, sent, tmp_path):
    archive = Archive(str(tmp_path / "a"))
    later(bench, 31)
    move(bench, archive)
    (file,) = (tmp_path / "a").rglob("*.pack")
    data = file.read_bytes()
    assert all(word not in data for word in (b"Jo 1", b"p1@example.org", b"BK-7", b"<html"))


def test_erasing_somebody_takes_their_keys_and_leaves_the_others(bench, client, sent, archive):
    reading(bench, archive)
    later(bench, 31)
    move(bench, archive)
    ((contact,),) = bench.rows("SELECT id FROM contact WHERE email = 'p1@example.org'")
    told = client.get(f"/people/{contact}/data.json").json
    assert "Hello Jo 1" in told["sends"][0]["text"], "what is kept of somebody is given out whole"
    with unit(bench.services.installation, bench.store_id) as work:
        people.erase(work, contact, "p1@example.org")
    assert count(bench, "archived") == 2
    assert client.get(f"/sends/{sent['p1@example.org']}.eml").status_code == 404
    assert client.get(f"/sends/{sent['p2@example.org']}.eml").status_code == 200


def test_texts_go_when_their_days_are_over_and_empty_packs_with_them(bench, sent, archive):
    change(bench, archive_days=10, contents_days=20)
    later(bench, 11)
    assert move(bench, archive) == 3
    later(bench, 10)
    assert Housekeeper(bench.database, bench.services.setups, bench.clock).look()["archived"] == 3
    ((name,),) = bench.rows("SELECT name FROM archive_pack")
    assert archive.target.has(name)
    assert move(bench, archive) == 0
    assert count(bench, "archive_pack") == 0
    assert not archive.target.has(name)


def test_an_archive_that_is_away_keeps_nothing_from_its_place_and_is_told(bench, client, sent, tmp_path):
    good, bad = Archive(str(tmp_path / "a")), Archive("/dev/null/nowhere")
    later(bench, 31)
    assert move(bench, bad) == 0
    assert count(bench, "content") == 3, "what could not be moved stays"
    with bench.database.reading() as session:
        problems = nights.problems(session.connection(), bench.clock.now())
    assert "nowhere" in problems[nights.ARCHIVE]
    assert "The archive can’t be written to" in client.get("/").text
    later(bench, 1)
    assert move(bench, good) == 3
    id_ = sent["p1@example.org"]
    for other in (bad, Archive(""), Archive("s3://shop/x?endpoint_override=127.0.0.1:1&scheme=http")):
        reading(bench, other)
        page = client.get(f"/sends/{id_}")
        assert page.status_code == 200
        assert "What it said can’t be shown." in page.text
        assert client.get(f"/sends/{id_}.eml").status_code == 503
    (file,) = (tmp_path / "a").rglob("*.pack")
    file.write_bytes(b"x" * file.stat().st_size)
    reading(bench, good)
    assert "is damaged" in client.get(f"/sends/{id_}").text


def test_what_is_sent_once_more_meanwhile_stays(bench, sent, tmp_path):
    archive = Archive(str(tmp_path / "a"))
    later(bench, 31)
    with bench.database.reading() as session:
        found = stored.to_move(session.connection(), bench.store_id, bench.clock.now(), 10)
    with bench.database.connection() as connection:
        pack_id = stored.begin(connection, "shop/one.pack", bench.clock.now())
    places = archive.write("shop/one.pack", found)
    with bench.database.connection() as connection:  # written anew between the pack and the note of it
        connection.exec_driver_sql(f"UPDATE content SET text = 'another' WHERE send_id = '{found[0].send_id}'")
        moved = stored.moved(connection, pack_id, found, places)
    assert moved == 2
    assert bench.rows("SELECT send_id, text FROM content") == [(found[0].send_id, "another")]


def test_files_and_patterns_of_archived_mails_are_kept(bench, sent, tmp_path):
    with bench.database.connection() as connection:
        sent_files.keep(connection, {"ab" * 32: b"a file"}, bench.clock.now())
        about = '{"message_id": "x", "files": [{"digest": "' + "ab" * 32 + '"}]}'
        connection.exec_driver_sql("UPDATE content SET about = '" + about + "'")
    later(bench, 31)
    move(bench, Archive(str(tmp_path / "a")))
    with bench.database.reading() as session:
        assert sent_files.unused(session.connection()) == set()
    later(bench, 70)
    Housekeeper(bench.database, bench.services.setups, bench.clock).look()
    assert count(bench, "page_pattern") >= 1


def test_two_processes_move_each_text_once(bench, sent, tmp_path):
    archive = Archive(str(tmp_path / "a"))
    later(bench, 31)
    workers = [Archiver(archive, bench.database, bench.services.setups, bench.clock) for _ in range(2)]
    assert [one.look() for one in workers] == [3, 0]
    assert len(list((tmp_path / "a").rglob("*.pack"))) == 1


def test_a_move_that_is_killed_leaves_a_pack_that_goes_and_moves_all_again(bench, sent, tmp_path, monkeypatch):
    archive = Archive(str(tmp_path / "a"))
    later(bench, 31)
    with monkeypatch.context() as patched:
        patched.setattr(stored, "moved", lambda *given: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            move(bench, archive)
    assert (count(bench, "content"), count(bench, "archive_pack")) == (3, 1)
    assert len(list((tmp_path / "a").rglob("*.pack"))) == 1
    later(bench, 1)
    assert move(bench, archive) == 3
    assert count(bench, "archive_pack") == len(list((tmp_path / "a").rglob("*.pack"))) == 1, "what nobody knew is gone"
