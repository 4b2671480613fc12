"""Bodies packed by what those of one kind have in common: smaller, and read again whatever happens."""

import datetime as dt
from types import SimpleNamespace

import pytest
from sqlalchemy.exc import OperationalError

from angelon.db.log import events
from angelon.db.log.bodies import LOOKED_EVERY, Bodies
from angelon.db.tables import packed
from angelon.engine import moving
from tests import made

LATER = dt.timedelta(days=365)


def kept(bench):
    return bench.rows("SELECT id FROM body_pattern")


def lengths(bench):
    return [length for (length,) in bench.rows("SELECT length(body) FROM delivery ORDER BY received_at, id")]


@pytest.fixture
def packs(bench):
    """A process that has learned a pattern and seen that it is kept."""
    bench.services.intake._bodies.wait = dt.timedelta(0)
    for number in range(2 * LOOKED_EVERY):
        bench.deliver(made.body(id=number), store_delivery=f"d{number}")
    return bench


def test_bodies_of_one_kind_are_stored_small_once_their_pattern_is_kept(packs):
    assert len(kept(packs)) == 1
    *_, last = lengths(packs)
    assert last < 0.65 * lengths(packs)[0]
    packed._patterns.clear()  # as for another process
    with packs.database.reading() as session:
        rows = packs.rows("SELECT id FROM delivery")
        found = events.deliveries(session.connection(), [id_ for (id_,) in rows])
    assert sorted(one.body for one in found.values()) == sorted(made.body(id=number) for number in range(len(rows)))


def test_another_process_packs_by_what_is_kept_at_once(packs):
    again = Bodies(packs.database).packed(1, "placed", made.body(id=99), made.NOON + LATER)
    assert len(again) < 0.65 * lengths(packs)[0]
    assert again.pattern is None


def test_the_same_delivery_once_more_teaches_nothing(bench):
    bodies = Bodies(bench.database)
    assert [bodies.packed(1, "placed", made.body(), made.NOON).pattern for _ in range(9)] == [None] * 9
    assert bodies.packed(1, "placed", made.body(id=2), made.NOON).pattern is not None


def test_two_kinds_that_are_built_alike_have_a_pattern_each(bench):
    bench.services.intake._bodies.wait = dt.timedelta(0)
    for number in range(4 * LOOKED_EVERY):
        name = ("placed", "changed")[number % 2]
        bench.deliver(made.body(id=number), store_delivery=f"d{number}", store_event=name)
    assert sorted(name for (name,) in bench.rows("SELECT name FROM body_pattern")) == ["changed", "placed"]
    assert bench.services.intake._bodies._learned == {}
    *_, one, other = lengths(bench)
    assert max(one, other) < 0.65 * lengths(bench)[0]


def test_where_patterns_can_t_be_read_a_delivery_is_stored_all_the_same_and_none_waits_again(bench, monkeypatch):
    bodies, asked = Bodies(bench.database), []

    def away():
        asked.append(1)
        raise OperationalError("SELECT", None, OSError("away"))

    monkeypatch.setattr(bodies, "_database", SimpleNamespace(reading=away))
    made_ = [bodies.packed(1, f"name-{number}", made.body(id=number), made.NOON) for number in range(9)]
    assert made_ == [packed.stored(made.body(id=number)) for number in range(9)]
    assert len(asked) == 1


def test_a_pattern_that_was_not_kept_is_brought_again_and_used_by_nobody(bench):
    bodies = Bodies(bench.database)
    made_ = [bodies.packed(1, "placed", made.body(id=number), made.NOON) for number in range(5 * LOOKED_EVERY)]
    assert all(one.pattern is not None for one in made_[1:]), "nothing was stored, so none is there"
    assert all(one == packed.stored(made.body(id=number)) for number, one in enumerate(made_))


def test_an_event_whose_pattern_is_lost_says_so_and_keeps_no_other(packs):
    ((first,), *_, (last,)) = packs.rows("SELECT id FROM delivery ORDER BY received_at, id")
    with packs.database.connection() as connection:
        connection.exec_driver_sql("DELETE FROM body_pattern")
    packed._patterns.clear()
    with packs.database.reading() as session:
        found = events.deliveries(session.connection(), [first, last])
    assert found[first].body == made.body(id=0)
    assert found[last].body.startswith(b"\x00z\x01")
    packs.plan()
    said = [problem for (problem,) in packs.rows("SELECT problem FROM event WHERE problem != ''")]
    assert said
    assert len(said) < len(lengths(packs))
    packed._patterns.clear()


def test_names_that_whoever_delivers_makes_up_do_not_become_many(bench):
    bodies = Bodies(bench.database)
    for number in range(500):
        bodies.packed(1, f"name-{number}", made.body(id=number), made.NOON)
    assert len(bodies._first) <= 64


def test_a_body_that_looks_like_a_packed_one_is_read_as_it_came():
    raw = b"\x00z\x01" + b"12345678" + b"anything"
    assert packed.Body().process_result_value(packed.stored(raw), None) == raw


def test_a_move_reads_what_it_copies_again_whoever_packed_it(packs):
    ids = [(id_,) for (id_,) in packs.rows("SELECT id FROM delivery")]
    packed._patterns.clear()
    with packs.database.reading() as session:
        rows = list(moving._rows(session.connection(), events.DELIVERY, ids))
    assert sorted(row["body"] for _, row in rows) == sorted(made.body(id=number) for number in range(len(ids)))


def test_machines_that_are_upgraded_one_after_another_have_an_hour(packs):
    bodies = Bodies(packs.database)
    bodies.wait = dt.timedelta(hours=1)
    assert bodies.packed(1, "placed", made.body(id=99), packs.clock.now()) == packed.stored(made.body(id=99))
    later = packs.clock.now() + dt.timedelta(hours=2)
    assert len(bodies.packed(1, "placed", made.body(id=99), later)) < 0.65 * lengths(packs)[0]
