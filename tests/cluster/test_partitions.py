"""Contents stand in a partition for each month, made ahead, and dropped whole when no store keeps them."""

import datetime as dt

import pytest

from angelon.core.ids import make_id
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.db.log import partitions
from angelon.db.setup import specs
from angelon.db.tables import ContentRow, SendRow
from angelon.engine.followers.housekeeping import Housekeeper
from tests import made
from tests.conftest import bench_in

NOW = dt.datetime(2026, 11, 20, 12, tzinfo=dt.UTC)
OLD = dt.datetime(2026, 8, 31, 23, 59, 59, tzinfo=dt.UTC)


@pytest.fixture
def bench(tmp_path, bundle, server):
    with bench_in(tmp_path / "home", bundle, tmp_path, server=server) as one:
        yield one


def said(bench, at, state="sent"):
    """A send of a moment with a content; gives its id."""
    id_ = make_id("sd", at, 7)
    with bench.database.writing() as session:
        row = SendRow(id=id_, store_id=bench.store_id, channel="email", state=state, created_at=at, due_at=at)
        session.add(row)
        session.flush()
        session.add(ContentRow(send_id=id_, text="hello"))
    return id_


def parts(bench):
    rows = bench.rows("SELECT send_id, CAST(CAST(tableoid AS regclass) AS text) FROM content")
    return dict(tuple(row) for row in rows)


def keep(bench, days):
    with bench.database.writing() as session:
        spec = made.store().model_dump(mode="json") | {"keep": {"contents_days": days}}
        specs.save_store(session, bench.store_id, read_spec(Store, spec))
    bench.services.setups.forget()


def sweep(bench):
    bench.clock.now = lambda: NOW
    return Housekeeper(bench.database, bench.services.setups, bench.clock).look()


def cover(bench, first, last):
    with bench.database.connection() as connection:
        return partitions.cover(connection, first, last)


def test_a_content_stands_in_the_month_of_its_send_to_the_second(bench):
    assert cover(bench, OLD, OLD + dt.timedelta(days=1)) == 2
    assert cover(bench, OLD, OLD) == 0, "made once"
    august, september = said(bench, OLD), said(bench, OLD + dt.timedelta(seconds=1))
    assert parts(bench) == {august: "content_2026_08", september: "content_2026_09"}


def test_what_is_kept_by_nobody_is_dropped_whole_and_what_is_stays(bench):
    cover(bench, OLD, NOW)
    old, newer = said(bench, OLD), said(bench, NOW - dt.timedelta(days=3))
    sweep(bench)
    assert set(parts(bench)) == {old, newer}, "nothing is set, so nothing goes"
    keep(bench, 30)
    sweep(bench)
    assert set(parts(bench)) == {newer}
    assert bench.rows("SELECT to_regclass('content_2026_08')") == [(None,)]
    assert bench.rows("SELECT count(*) FROM send") == [(2,)], "the send itself stays"


def test_a_month_with_a_send_that_still_waits_stays_but_for_what_is_settled(bench):
    cover(bench, OLD, NOW)
    waits, settled = said(bench, OLD, "held"), said(bench, OLD - dt.timedelta(hours=1))
    keep(bench, 30)
    sweep(bench)
    assert set(parts(bench)) == {waits}
    assert settled not in parts(bench)


def test_the_months_to_come_are_made_and_a_late_one_takes_the_rest(bench):
    sweep(bench)
    there = [name for (name,) in bench.rows("SELECT relname FROM pg_class WHERE relname LIKE 'content_2026_1_'")]
    assert {"content_2026_11", "content_2026_12"} <= set(there)
    odd = said(bench, dt.datetime(2031, 5, 1, tzinfo=dt.UTC))
    assert parts(bench)[odd] == "content_rest"
    may = dt.datetime(2031, 5, 2, tzinfo=dt.UTC)
    assert cover(bench, may, may) == 0, "it would take what is in the rest; that stays where it is"
