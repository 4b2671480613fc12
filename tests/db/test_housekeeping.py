"""What is kept how long: only what a store has said, only what nothing needs any more, a little at a time."""

import datetime as dt
import json
import zlib

from angelon.core.specs import Message
from angelon.db.log import page_patterns, sends, sent_files
from angelon.db.setup import specs
from angelon.db.tables import ContentRow, MessageRow
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from tests import made


def keep(bench, **days):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"keep": days})


def later(bench, days):
    now = bench.clock.now() + dt.timedelta(days=days)
    bench.clock.now = lambda: now


def look(bench):
    return Housekeeper(bench.database, bench.services.setups, bench.clock).look()


def sent(bench, mailbox):
    bench.deliver(made.body())
    bench.plan()
    bench.dispatcher().run_batch(8)


def test_nothing_goes_where_the_store_has_said_nothing(bench, mailbox):
    sent(bench, mailbox)
    later(bench, 1000)
    assert not any(look(bench).values())
    assert len(bench.rows("SELECT * FROM content")) == 1


def test_each_kind_goes_after_its_own_time_and_the_send_stays(bench, mailbox):
    sent(bench, mailbox)
    keep(bench, bodies_days=5, contents_days=10, attempts_days=20, traces_days=30)
    later(bench, 6)
    assert look(bench)["bodies"] == 1
    assert bench.rows("SELECT length(body) FROM delivery") == [(0,)]
    later(bench, 5)
    assert look(bench)["contents"] == 1
    later(bench, 10)
    assert look(bench)["attempts"] == 1
    later(bench, 10)
    assert look(bench)["traces"] == 1
    assert bench.rows("SELECT state, subject, trace FROM send") == [("sent", "Danke, Jörg", None)]
    assert not any(look(bench).values())


def test_what_waits_or_is_pinned_keeps_its_body(bench):
    bench.deliver(made.body(), store_delivery="waits")  # its send is scheduled
    bench.deliver(made.body(id=2, reference="BK-8"), store_delivery="unplanned")
    bench.plan()
    bench.deliver(made.body(id=3, reference="BK-9"), store_delivery="pinned")
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET pinned = TRUE WHERE delivery_key = 'd:pinned'")
        connection.exec_driver_sql(
            "UPDATE send SET state = 'sent' WHERE event_id IN (SELECT id FROM event WHERE delivery_key = 'd:unplanned')"
        )
    keep(bench, bodies_days=1)
    later(bench, 3)
    look(bench)
    kept = bench.rows(
        "SELECT e.delivery_key, length(d.body) > 0 FROM event e JOIN delivery d ON d.id = e.delivery_id "
        "WHERE e.parent_id IS NULL ORDER BY 1"
    )
    assert kept == [("d:pinned", 1), ("d:unplanned", 0), ("d:waits", 1)]


def test_a_page_is_stored_small_and_shown_as_it_went_out(bench, mailbox, client):
    sent(bench, mailbox)
    ((html, packed, id_, pattern),) = bench.rows("SELECT html, packed, send_id, pattern_id FROM content")
    assert html == ""
    with bench.database.reading() as session:
        said = sends.details(session, bench.store_id, id_).content
    assert len(packed) * 10 < len(said.page) + len(said.text)
    assert "Hello J" in said.text
    assert said.about["message_id"].startswith(id_)
    assert bench.rows("SELECT id FROM page_pattern") == [(pattern,)]
    assert "Danke" in client.get(f"/sends/{id_}").get_data(as_text=True)
    (mail,) = bench.box.mails()
    assert client.get(f"/sends/{id_}.eml").get_data() == mail.raw


def test_a_send_that_was_stored_before_pages_were_compressed_is_shown_as_well(bench, mailbox, client):
    sent(bench, mailbox)
    ((id_,),) = bench.rows("SELECT send_id FROM content")
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            "UPDATE content SET packed = NULL, pattern_id = NULL, html = '<p>as it was then</p>'"
        )
    assert "as it was then" in client.get(f"/sends/{id_}").get_data(as_text=True)
    packed = zlib.compress(b"<p>as it was a year ago</p>", 3)
    with bench.database.writing() as session:
        session.get(ContentRow, id_).packed = packed
    assert "as it was a year ago" in client.get(f"/sends/{id_}").get_data(as_text=True)


def test_what_pages_are_filled_from_is_kept_as_long_as_one_is(bench, mailbox, client):
    sent(bench, mailbox)
    start, later = bench.clock.now(), dt.timedelta(days=40)
    keeper = Housekeeper(bench.database, bench.services.setups, bench.clock)
    bench.clock.now = lambda: start + later
    keeper.look()
    assert bench.rows("SELECT count(*) FROM page_pattern") == [(1,)], "a page is packed by it"
    with bench.database.reading() as session:
        assert page_patterns.unused(session, start + later) == ([], []), "and nobody looks through all pages again soon"
    ((id_, pattern),) = bench.rows("SELECT send_id, pattern_id FROM content")
    assert "Danke" in client.get(f"/sends/{id_}").get_data(as_text=True)
    with bench.database.writing() as session:
        session.delete(session.get(ContentRow, id_))
    with bench.database.reading() as session:
        found, needed = page_patterns.unused(session, start + 2 * later)
    assert (found, needed) == ([pattern], [])
    with bench.database.connection() as connection:  # used meanwhile: it stays
        page_patterns.keep(connection, {pattern: "not stored again"}, start + later)
        assert page_patterns.forget(connection, found, start + later) == 0
    keeper = Housekeeper(bench.database, bench.services.setups, bench.clock)
    bench.clock.now = lambda: start + 2 * later
    keeper.look()
    assert bench.rows("SELECT count(*) FROM page_pattern") == [(0,)]


def test_a_page_whose_pattern_is_gone_is_told_and_the_rest_is_shown(bench, mailbox, client):
    sent(bench, mailbox)
    ((id_,),) = bench.rows("SELECT send_id FROM content")
    with bench.database.connection() as connection:
        connection.exec_driver_sql("DELETE FROM page_pattern")
    answer = client.get(f"/sends/{id_}")
    assert answer.status_code == 200
    page = answer.get_data(as_text=True)
    assert "Danke" in page, "its subject"
    assert "The page of this mail can’t be read any more." in page
    assert client.get(f"/sends/{id_}.eml").status_code == 410


def test_news_that_is_old_by_the_time_that_it_can_go_out_does_not(bench, mailbox):
    now = bench.clock.now()
    with bench.database.writing() as session:
        spec = Message.model_validate(made.message().model_dump(mode="json") | {"good_for_hours": 6})
        row = specs.save_draft(session, MessageRow, bench.store_id, spec, now)
        specs.publish(session, row, now)
    bench.services.setups.forget()
    bench.deliver(made.body())
    bench.plan()
    bench.box.set("mail_fault", "later")
    bench.dispatcher().run_batch(8)
    assert bench.rows("SELECT state FROM send") == [("retrying",)]
    bench.box.set("mail_fault", "none")
    later(bench, 0.5)
    bench.dispatcher().run_batch(8)
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "skipped"
    assert "too old" in reason


def test_a_file_goes_once_no_kept_content_names_it(bench, mailbox):
    """Not while another mail's content still does, nor one that goes out while it is looked for."""
    sent(bench, mailbox)
    now = bench.clock.now()
    with bench.database.engine.begin() as connection:
        files = {"aa": b"theirs", "bb": b"nobody's", "cc": b"just gone out"}
        sent_files.keep(connection, files, now - dt.timedelta(days=9))
        about = json.dumps({"files": [{"digest": "aa"}]})
        connection.exec_driver_sql("UPDATE content SET about = ?", (about,))
    with bench.database.reading() as session:
        found = sent_files.unused(session.connection())
    assert found == {"bb", "cc"}
    with bench.database.engine.begin() as connection:
        about = json.dumps({"pictures": [{"digest": "cc"}], "files": [{"digest": "aa"}]})
        connection.exec_driver_sql("UPDATE content SET about = ?", (about,))
        sent_files.keep(connection, {"cc": b"just gone out"}, now)
        sent_files.keep(connection, {"cc": b"just gone out"}, now + sent_files.USED_EVERY / 2)  # that is not noted anew
        assert sent_files.drop(connection, found, now - dt.timedelta(hours=1)) == 1
    assert bench.rows("SELECT digest FROM sent_file ORDER BY 1") == [("aa",), ("cc",)]
    keep(bench, contents_days=1)
    later(bench, 3)
    assert look(bench)["files"] == 2
    assert bench.rows("SELECT digest FROM sent_file") == []
