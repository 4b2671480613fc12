"""Orders that are kept no longer: whole, only what nothing needs, and every figure as the rows say."""

import datetime as dt
import itertools

import pytest

from angelon.db.derived import counting, searching
from angelon.db.people import suppressions
from angelon.db.upkeep import forgetting
from angelon.engine.followers import indexing
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from tests import made

NUMBERS = itertools.count()
TABLES = ('"order"', "contact", "event", "delivery", "send", "content", "attempt")


def keep(bench, **days):
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"keep": days})


def at(bench, days):
    """The clock, so many days after the test began."""
    bench.began = getattr(bench, "began", bench.clock.now())
    now = bench.began + dt.timedelta(days=days)
    bench.clock.now = lambda: now


def look(bench):
    return Housekeeper(bench.database, bench.services.setups, bench.clock).look()


def happens(bench, number, name="placed", to="", **more):
    buyer = {"name": f"Jo {number}", "email": to or f"p{number}@example.org", "country": "DE"}
    body = made.body(id=number, reference=f"BK-{number}", buyer=buyer, **more)
    answer = bench.deliver(body, store_event=name, store_delivery=f"d-{next(NUMBERS)}")
    assert answer.status == 202
    bench.plan()
    bench.dispatcher().run_batch(8)


def left(bench):
    return {table: bench.rows(f"SELECT count(*) FROM {table}")[0][0] for table in TABLES}


def found(bench, words):
    indexing.follow(bench.database)
    with bench.database.reading() as session:
        return searching.refs(session.connection(), "order", bench.store_id, words, 9)


def wrong_figures(bench):
    indexing.fold(bench.database)
    with bench.database.reading() as session:
        return {table: number for table, number in counting.differences(session.connection()).items() if number}


def test_an_order_goes_whole_after_its_last_event_and_its_figures_with_it(bench, mailbox, client):
    at(bench, 0)
    happens(bench, 1)
    happens(bench, 1, "changed", state="packed")
    happens(bench, 1, "changed", state="sent", changed_at="2026-11-21T10:00:00Z")
    happens(bench, 2)
    before = left(bench)
    assert before["send"] >= 2
    keep(bench, orders_days=30)
    at(bench, 20)
    happens(bench, 2, "changed", state="packed")
    with_the_second = left(bench)
    at(bench, 31)
    assert look(bench).get("orders", 0) == 1
    assert bench.rows('SELECT number FROM "order"') == [("BK-2",)]
    assert bench.rows("SELECT email FROM contact") == [("p2@example.org",)]
    now = left(bench)
    assert all(0 < now[table] < with_the_second[table] for table in TABLES)
    assert wrong_figures(bench) == {}
    assert (len(found(bench, "BK-1")), len(found(bench, "BK-2"))) == (0, 1)
    for page in ("/", "/orders", "/sends?span=all", "/routes/packed", "/changes"):
        assert client.get(page).status_code in (200, 404), page
    at(bench, 60)
    assert look(bench).get("orders", 0) == 1
    assert not any(left(bench).values())
    assert wrong_figures(bench) == {}
    assert bench.rows("SELECT sum(number) FROM send_count")[0][0] in (0, None)


def test_a_customer_stays_as_long_as_one_of_their_orders(bench, mailbox):
    at(bench, 0)
    happens(bench, 1, to="jo@example.org")
    at(bench, 20)
    happens(bench, 2, to="jo@example.org")
    keep(bench, orders_days=30)
    at(bench, 31)
    assert look(bench).get("orders", 0) == 1
    assert bench.rows("SELECT email FROM contact") == [("jo@example.org",)]


@pytest.mark.parametrize(
    "kept",
    [
        "UPDATE event SET pinned = TRUE",
        "UPDATE event SET planned_at = NULL",
        "UPDATE event SET waits_for = 'answers'",
        "UPDATE send SET state = 'held'",
        "UPDATE send SET state = 'sending'",
        "UPDATE send SET state = 'held', order_id = NULL",
    ],
)
def test_what_waits_is_in_hand_or_is_pinned_keeps_its_order(bench, mailbox, kept):
    at(bench, 0)
    happens(bench, 1)
    keep(bench, orders_days=30, bodies_days=5)
    with bench.database.connection() as connection:
        connection.exec_driver_sql(kept)
    before = left(bench)
    at(bench, 90)
    assert look(bench).get("orders", 0) == 0
    assert left(bench) == before


def test_an_order_to_which_something_was_sent_by_hand_of_late_stays(bench, mailbox):
    at(bench, 0)
    happens(bench, 1)
    keep(bench, orders_days=30)
    at(bench, 90)
    with bench.database.connection() as connection:
        moment = int((bench.clock.now() - dt.timedelta(days=3)).timestamp() * 1_000_000)
        connection.exec_driver_sql(f"UPDATE send SET created_at = {moment}")
    assert look(bench).get("orders", 0) == 0


def test_a_delivery_with_several_orders_stays_until_the_last_of_them_goes(bench, mailbox):
    at(bench, 0)
    happens(bench, 1)
    at(bench, 20)
    happens(bench, 2)
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET delivery_id = (SELECT min(delivery_id) FROM event)")
    keep(bench, orders_days=30)
    at(bench, 31)
    assert look(bench).get("orders", 0) == 1
    assert bench.rows("SELECT length(body) > 0 FROM delivery WHERE id IN (SELECT delivery_id FROM event)") == [(1,)]
    at(bench, 60)
    look(bench)
    assert bench.rows("SELECT count(*) FROM event") == [(0,)]


def test_what_belongs_to_no_order_goes_as_well(bench, mailbox, client):
    at(bench, 0)
    happens(bench, 1)
    form = {"channel": "email", "locale": "en", "gateway": "mailroom", "to": "me@example.org"}
    assert client.post("/messages/received/test", data=form).status_code == 200
    assert bench.deliver(b'{"nothing": "of an order"}').status == 202
    bench.plan()
    assert bench.rows("SELECT count(*) FROM event WHERE order_id IS NULL") == [(1,)]
    assert sorted(bench.rows("SELECT test FROM send WHERE order_id IS NULL")) == [(False,), (True,)]
    keep(bench, orders_days=30)
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'sent'")
    at(bench, 31)
    look(bench)
    assert not any(left(bench).values())
    assert wrong_figures(bench) == {}


def test_an_event_that_comes_later_begins_the_order_anew(bench, mailbox):
    at(bench, 0)
    happens(bench, 1)
    keep(bench, orders_days=30)
    at(bench, 31)
    look(bench)
    happens(bench, 1)
    assert bench.rows('SELECT number FROM "order"') == [("BK-1",)]
    assert bench.box.count_mails() == 2, "what was sent before is known no more"


def test_more_than_one_part_goes_and_who_is_suppressed_stays(bench, monkeypatch):
    monkeypatch.setattr(forgetting, "AT_ONCE", 2)
    at(bench, 0)
    for number in range(5):
        happens(bench, number)
    with bench.database.writing() as session:
        suppressions.add(session, bench.store_id, "email:p1@example.org", "asked for it", bench.clock.now())
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'failed' WHERE state != 'sent'")
    keep(bench, orders_days=30)
    at(bench, 31)
    assert look(bench).get("orders", 0) == 5
    assert bench.rows("SELECT address_key FROM suppression") == [("email:p1@example.org",)]


def test_an_order_with_very_many_events_goes_a_part_at_a_time(bench, mailbox, monkeypatch):
    monkeypatch.setattr(forgetting, "MOST_EVENTS", 3)
    at(bench, 0)
    for number in (1, 2):
        happens(bench, number)
    for number in range(8):
        happens(bench, 1, "changed", state=f"s{number}", changed_at=f"2026-11-21T10:0{number}:00Z")
    before = bench.clock.now() + dt.timedelta(days=1)
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'failed' WHERE state != 'sent'")
    events = []
    while True:
        with bench.database.connection() as connection:
            if not forgetting.orders(connection, bench.store_id, before):
                break
        events.append(left(bench)["event"])
        assert wrong_figures(bench) == {}
    assert events == sorted(events, reverse=True)
    assert len(events) > 3, "in several transactions"
    assert not any(left(bench).values())


def test_what_follows_from_an_event_without_an_order_and_waits_keeps_it(bench):
    at(bench, 0)
    assert bench.deliver(b'{"nothing": "of an order"}').status == 202
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'failed'")
        names = "source_id, delivery_id, name, type, received_at, item, was, now, problem"
        connection.exec_driver_sql(
            f"INSERT INTO event (id, parent_id, delivery_key, waits_for, {names}) "
            f"SELECT 'ev-child', id, 'child', 'answers', {names} FROM event"
        )
    keep(bench, orders_days=30)
    at(bench, 90)
    look(bench)
    assert left(bench)["event"] == 2
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET waits_for = '', planned_at = 1")
    assert look(bench)["without an order"] >= 1
    assert left(bench)["event"] == 0


def test_a_fault_in_what_one_store_keeps_harms_no_other_round(bench, monkeypatch):
    from angelon.engine.followers import housekeeping as engine

    at(bench, 0)
    keep(bench, orders_days=30)
    real, faults = engine.housekeeping.any_orders, [ValueError("odd")]

    def any_orders(*given):
        if faults:
            raise faults.pop()
        return real(*given)

    monkeypatch.setattr(engine.housekeeping, "any_orders", any_orders)
    housekeeper = Housekeeper(bench.database, bench.services.setups, bench.clock)
    assert "files" in housekeeper.look(), "what comes after it is still done"
    assert housekeeper.look() == {}, "and it is tried again in the next round, not at once"
