"""Counts are what the rows say, whatever is done to the rows in whatever order; days are the shop's."""

import datetime as dt
from zoneinfo import ZoneInfo

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.db.derived import counting
from angelon.db.setup import specs
from angelon.db.tables import EventRow
from tests import made
from tests.conftest import bench_in

UTC = dt.UTC
SPRING = dt.datetime(2026, 3, 29, tzinfo=UTC)
"""Dublin's clocks go forward at 01:00 UTC."""
STATES = ("scheduled", "sending", "retrying", "sent", "delivered", "held", "failed", "skipped")
TYPES = ("order.created", "order.paid", "")

moments = st.integers(-60 * 50, 60 * 50).map(lambda minutes: SPRING + dt.timedelta(minutes=minutes))
acts = st.one_of(
    st.tuples(st.just("send"), moments, st.sampled_from(STATES), st.integers(0, 2)),
    st.tuples(st.just("move"), st.integers(0, 30), st.sampled_from(STATES), st.integers(0, 4)),
    st.tuples(st.just("cost"), st.integers(0, 30), st.sampled_from(["", "0.05", "1.25", "0.000001"])),
    st.tuples(st.just("drop send"), st.integers(0, 30)),
    st.tuples(st.just("order"), moments),
    st.tuples(st.just("place"), st.integers(0, 10), moments),
    st.tuples(st.just("event"), moments, st.sampled_from(TYPES)),
    st.tuples(st.just("plan"), st.integers(0, 30), st.integers(0, 3)),
    st.tuples(st.just("type"), st.integers(0, 30), st.sampled_from(TYPES)),
    st.tuples(st.just("drop event"), st.integers(0, 30)),
)


def micro(at):
    return (at - dt.datetime(1970, 1, 1, tzinfo=UTC)) // dt.timedelta(microseconds=1)


def do(connection, number, act):
    what, *given_ = act
    run = connection.exec_driver_sql
    nth = "(SELECT id FROM {} ORDER BY id LIMIT 1 OFFSET ?)"
    if what == "send":
        at, state, route = given_
        values = (f"sd-{number:03d}", state, micro(at), micro(at), route or None)
        run(
            "INSERT INTO send (id, store_id, channel, state, created_at, due_at, route_id, recipient, recipient_name, "
            "locale, reason, worker, tries, subject) VALUES (?, 1, 'email', ?, ?, ?, ?, '', '', '', '', '', 0, '')",
            values,
        )
    elif what == "move":
        run(f"UPDATE send SET state = ?, tries = ? WHERE id = {nth.format('send')}", (given_[1], given_[2], given_[0]))
    elif what == "cost":
        run(f"UPDATE send SET cost = ? WHERE id = {nth.format('send')}", (given_[1], given_[0]))
    elif what == "drop send":
        run(f"DELETE FROM send WHERE id = {nth.format('send')}", (given_[0],))
    elif what == "order":
        run(
            'INSERT INTO "order" (store_id, source_id, reference, number, status, total, placed_at, last_event_at, '
            "language) VALUES (1, 1, ?, ?, '', '', ?, 0, '')",
            (str(number), str(number), micro(given_[0])),
        )
    elif what == "place":
        run(f"""UPDATE "order" SET placed_at = ? WHERE id = {nth.format('"order"')}""", (micro(given_[1]), given_[0]))
    elif what == "event":
        run(
            "INSERT INTO event (id, source_id, delivery_key, name, type, received_at, item, was, now, problem) "
            "VALUES (?, 1, ?, '', ?, ?, 0, '', '', '')",
            (f"ev-{number:03d}", str(number), given_[1], micro(given_[0])),
        )
    elif what == "plan":
        run(f"UPDATE event SET order_id = ? WHERE id = {nth.format('event')}", (given_[1] or None, given_[0]))
    elif what == "type":
        run(f"UPDATE event SET type = ? WHERE id = {nth.format('event')}", (given_[1], given_[0]))
    else:
        run(f"DELETE FROM event WHERE id = {nth.format('event')}", (given_[0],))


@pytest.fixture(scope="module")
def counted(tmp_path_factory, migrated):
    with bench_in(tmp_path_factory.mktemp("counted") / "home", made.bundle(), migrated) as bench:
        yield bench


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(acts, max_size=40))
def test_counts_are_what_the_rows_say_whatever_happens(counted, acts_):
    with counted.database.connection() as connection:
        connection.exec_driver_sql("PRAGMA defer_foreign_keys=ON")
        connection.exec_driver_sql("SAVEPOINT before")
        for number, act in enumerate(acts_):
            do(connection, number, act)
        found = counting.differences(connection)
        connection.exec_driver_sql("ROLLBACK TO before")
    assert found == {"send_count": 0, "order_count": 0, "event_count": 0}


def test_a_day_is_the_shop_s_across_a_change_of_its_clocks(bench):
    with bench.database.connection() as connection:
        for number, at in enumerate(
            (
                dt.datetime(2026, 3, 28, 23, 59, tzinfo=UTC),  # still winter time: the 28th
                dt.datetime(2026, 3, 29, 0, 1, tzinfo=UTC),  # the 29th
                dt.datetime(2026, 3, 29, 22, 59, tzinfo=UTC),  # 23:59 of the 29th
                dt.datetime(2026, 3, 29, 23, 1, tzinfo=UTC),  # 00:01 of the 30th, in summer time
            )
        ):
            do(connection, number, ("send", at, "sent", 0))
        days = connection.exec_driver_sql(
            "SELECT day, sum(number) FROM send_count GROUP BY day ORDER BY day"
        ).fetchall()
    epoch = dt.date(1970, 1, 1)
    assert [((epoch + dt.timedelta(days=day)).isoformat(), number) for day, number in days] == [
        ("2026-03-28", 1),
        ("2026-03-29", 2),
        ("2026-03-30", 1),
    ]


def test_another_zone_counts_from_then_on_and_nothing_is_counted_anew(bench, monkeypatch):
    monkeypatch.setattr(counting, "rebuild", None)
    with bench.database.connection() as connection:
        do(connection, 0, ("send", dt.datetime(2026, 3, 28, 23, 30, tzinfo=UTC), "sent", 0))
    with bench.database.writing() as session:
        store = read_spec(Store, made.store().model_dump(mode="json") | {"timezone": "Asia/Kathmandu"})
        specs.save_store(session, bench.store_id, store)
    late = dt.datetime.now(dt.UTC).replace(hour=23, minute=30) + dt.timedelta(days=400)
    with bench.database.connection() as connection:
        do(connection, 1, ("send", late, "sent", 0))
        days = connection.exec_driver_sql("SELECT day FROM send_count WHERE number > 0 ORDER BY day").fetchall()
        assert [dt.date(1970, 1, 1) + dt.timedelta(days=day) for (day,) in days] == [
            dt.date(2026, 3, 28),
            late.date() + dt.timedelta(days=1),
        ]
        assert counting.differences(connection)["send_count"] == 0
        assert not counting.set_zone(connection, bench.store_id, ZoneInfo("Asia/Kathmandu"))


def test_a_wrong_count_is_found_and_mended(bench):
    with bench.database.connection() as connection:
        do(connection, 0, ("send", SPRING, "sent", 0))
        connection.exec_driver_sql("UPDATE send_count SET number = 7")
        assert counting.differences(connection) == {"send_count": 2, "order_count": 0, "event_count": 0}
        counting.rebuild(connection)
        assert not any(counting.differences(connection).values())


def test_an_event_from_before_another_of_its_kind_takes_its_place(bench):
    """On both databases: whoever is planned late is counted on the day on which it came."""
    for number in range(2):
        bench.deliver(made.body(), store_delivery=f"d-{number}")
    bench.plan()
    with bench.database.writing() as session:
        first, second = session.query(EventRow).filter(EventRow.parent_id.is_(None)).order_by(EventRow.id)
        order_id, first.type, second.type = second.order_id, "order.created", "order.created"
        first.order_id = None
        session.flush()
        first.received_at = second.received_at - dt.timedelta(days=3)
        session.flush()
        first.order_id = order_id
    with bench.database.connection() as connection:
        assert not any(counting.differences(connection).values())


@pytest.mark.parametrize("zone", ["Europe/Dublin", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca"])
def test_offsets_are_those_of_the_zone(zone):
    found = counting.offsets(ZoneInfo(zone))
    at = dt.datetime(2024, 1, 1, 0, 30, tzinfo=UTC)
    while at < dt.datetime(2031, 1, 1, tzinfo=UTC):
        told = [seconds for since, seconds in found if since <= at][-1]
        assert told == at.astimezone(ZoneInfo(zone)).utcoffset().total_seconds(), at
        at += dt.timedelta(hours=1)
