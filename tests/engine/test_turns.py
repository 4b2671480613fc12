"""Behind a backlog of one source, others' orders are planned at once; sources of the same orders keep their order. What
is urgent goes first, with what came earlier of its order and customer; what is imported or processed again gives way.
"""

import datetime as dt
import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from angelon.core.specs import Source
from angelon.db.tables import RouteRow, SourceRow
from angelon.engine.planner import Planner, runs, turns
from angelon.engine.planner.turns import Turns
from tests import made
from tests.engine.test_fallbacks import Shop
from tests.web.test_pages import text


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    for key, same in (("till", None), ("desk", {"source": "shop", "by": "number"})):
        spec = made.source().model_dump(mode="json") | {"key": key, "name": key.title(), "same_orders": same}
        bench.change(Source.model_validate(spec), SourceRow)
    shop.planner = Planner(bench.database, bench.services.setups, bench.clock)
    return shop


@pytest.fixture(autouse=True)
def however_quick_the_machine_is(monkeypatch):
    """Batches are by number, and what is read ahead between two is all that waits."""
    monkeypatch.setattr(turns, "SECONDS", 600)
    monkeypatch.setattr(runs, "BATCH_SECONDS", 600)


def put(shop, source, number, type_="order.created", name="placed", **changes):
    from angelon.db.log import events
    from angelon.db.records import NewDelivery, NewEvent

    live = shop.bench.services.setups.get(shop.bench.store_id)
    at, clock = shop.now, shop.bench.clock
    shop.later(milliseconds=1)
    changes = {"buyer": {"name": "Jo", "email": f"b{number}@example.org"}} | changes
    body = json.dumps(made.order(id=number, reference=f"BK-{number}", **changes)).encode()
    id_, event_id, source_id = clock.new_id("dv", at), clock.new_id("ev", at), live.source_ids[source]
    event = NewEvent(event_id, source_id, id_, f"k{event_id}", name, type_, at)
    return NewDelivery(id_, source_id, at, "application/json", {}, body, (event,)), events


def store(shop, *pairs, later=3):
    events = pairs[0][1]
    with shop.bench.database.connection() as connection:
        events.add(connection, [delivery for delivery, _ in pairs])
    shop.later(seconds=later)  # what has just come is not read ahead yet


def planned(shop):
    """(source, order) in the order in which they were planned."""
    return [
        (row.key, row.number)
        for row in shop.bench.rows(
            "SELECT s.key, o.number FROM event e JOIN source s ON s.id = e.source_id"
            ' JOIN "order" o ON o.id = e.order_id'
            " WHERE e.planned_at IS NOT NULL"
        )
    ]


def test_an_order_of_another_source_is_planned_within_two_batches(shop):
    store(shop, *(put(shop, "shop", number) for number in range(1, 400)))
    store(shop, put(shop, "till", 9001), put(shop, "till", 9002))
    shop.planner.run_batch()
    shop.planner.run_batch()
    done = planned(shop)
    assert {("till", "BK-9001"), ("till", "BK-9002")} <= set(done)
    assert len(done) < 200
    while shop.planner.run_batch()[0]:
        pass
    assert len(planned(shop)) == 401


def test_two_backlogs_take_turns_and_a_third_passes_both(shop):
    store(shop, *(put(shop, "shop", number) for number in range(1, 300)))
    store(shop, *(put(shop, "till", number) for number in range(1000, 1300)))
    third = made.source().model_dump(mode="json") | {"key": "stall", "name": "Stall"}
    shop.bench.change(Source.model_validate(third), SourceRow)
    shop.bench.services.setups.forget()
    store(shop, put(shop, "stall", 9001))
    for _ in range(3):
        shop.planner.run_batch()
    assert {source for source, _ in planned(shop)} == {"shop", "till", "stall"}
    while shop.planner.run_batch()[0]:
        pass
    assert len(planned(shop)) == 600


def test_sources_of_the_same_orders_have_one_turn(shop):
    store(shop, *(put(shop, "shop", number) for number in range(1, 200)))
    store(shop, put(shop, "desk", 199, state="shipped"))
    for _ in range(3):
        shop.planner.run_batch()
        assert ("desk", "BK-199") not in planned(shop)
    while shop.planner.run_batch()[0]:
        pass
    rows = shop.bench.rows("SELECT planned_at, received_at FROM event WHERE parent_id IS NULL ORDER BY received_at")
    assert len(rows) == 200


def test_within_a_source_the_oldest_is_first(shop):
    store(shop, *(put(shop, "shop", number) for number in range(1, 150)))
    before = 0
    while shop.planner.run_batch()[0]:
        numbers = sorted(int(number[3:]) for _, number in planned(shop))
        assert numbers == list(range(1, len(numbers) + 1))
        assert len(numbers) > before
        before = len(numbers)


# ---- urgent routes, and what gives way


class Noting(Planner):
    """A planner that notes in which order events were planned."""

    def __init__(self, shop):
        bench = shop.bench
        super().__init__(bench.database, bench.services.setups, bench.clock)
        self.done = []

    def _plan(self, *args):
        done, made = super()._plan(*args)
        self.done += [row.id for row in done]
        return done, made


def urgent(shop, type_):
    shop.publish(RouteRow, made.route(key="at-once", when=[type_], urgent=True, once="event"))
    shop.bench.services.setups.forget()


def names(*puts):
    return [delivery.events[0].id for delivery, _ in puts]


def test_an_urgent_event_goes_before_a_backlog_with_what_came_earlier_of_its_order_and_customer(shop):
    urgent(shop, "payment.failed")
    before = [put(shop, "shop", number) for number in range(1, 800)]
    mine = [
        put(shop, "shop", 9001, buyer={"name": "Io", "email": "io@example.org"}),
        put(shop, "shop", 9002, buyer={"name": "Io", "email": "io@example.org"}),
    ]
    failed = put(shop, "shop", 9002, "payment.failed", "failed", buyer={"name": "Io", "email": "io@example.org"})
    behind = [put(shop, "shop", number) for number in range(800, 900)]
    store(shop, *before, *mine, failed, *behind)
    planner = Noting(shop)
    for _ in range(4):
        planner.run_batch()
    done = planner.done
    assert names(*mine, failed) == [id_ for id_ in done if id_ in names(*mine, failed)], (
        "in the order in which they came"
    )
    assert len(done) < 300
    assert shop.bench.rows("SELECT turn FROM send WHERE event_id = ?", names(failed)[0]) == [(0,)]
    while planner.run_batch()[0]:
        pass
    assert len(planner.done) == len(set(planner.done)) == 902


def test_what_follows_from_an_urgent_event_does_not_wait_behind_the_backlog(shop):
    urgent(shop, "parcel.picked_up")
    store(shop, put(shop, "shop", 9001))
    shop.planner.run_batch()
    shipped = put(shop, "shop", 9001, "order.updated", "changed", state="shipped")
    store(shop, *(put(shop, "shop", number) for number in range(1, 800)), shipped)
    planner = Noting(shop)
    for _ in range(6):
        planner.run_batch()
    types = dict(tuple(row) for row in shop.bench.rows("SELECT id, type FROM event"))
    done = [types[id_] for id_ in planner.done if types[id_] != "order.created"]
    assert done[0] == "order.updated"
    assert "parcel.picked_up" in done[:3]
    assert len(planner.done) < 500


def test_what_is_stored_a_moment_late_is_not_overtaken(shop):
    urgent(shop, "payment.failed")
    store(shop, *(put(shop, "shop", number) for number in range(1, 800)))
    planner = Noting(shop)
    late = put(shop, "shop", 9001)  # received, and in another process's hands
    store(shop, put(shop, "shop", 9002), later=1)
    planner.run_batch()  # reads ahead what has come
    store(shop, late, later=0)
    failed = put(shop, "shop", 9001, "payment.failed", "failed")
    store(shop, failed)
    while planner.run_batch()[0]:
        pass
    done = planner.done
    assert done.index(names(late)[0]) < done.index(names(failed)[0]) < 400


def test_another_source_that_trickles_does_not_have_it_read_anew(shop, monkeypatch):
    monkeypatch.setattr(runs, "MOST", 16)
    monkeypatch.setattr(turns, "AT_ONCE", 50)
    monkeypatch.setattr(turns, "SECONDS", 0.001)  # one part between two batches
    urgent(shop, "payment.failed")
    store(shop, *(put(shop, "shop", number) for number in range(1, 1200)))
    failed = put(shop, "shop", 9001, "payment.failed", "failed")
    store(shop, failed)
    planner = Noting(shop)
    for number in range(20000, 20400):
        store(shop, put(shop, "till", number), later=0)
        planner.run_batch()
        if names(failed)[0] in planner.done:
            break
    assert len(planner.done) < 900


def test_what_is_processed_again_after_another_backlog_gives_way_too(shop, monkeypatch):
    monkeypatch.setattr(runs, "MOST", 30)
    urgent(shop, "payment.failed")
    old = [put(shop, "shop", number) for number in range(1, 400)]
    store(shop, *old)
    planner = Noting(shop)
    while planner.run_batch()[0]:
        pass
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET planned_at = NULL WHERE parent_id IS NULL")
    new = put(shop, "shop", 2000)
    store(shop, new)
    planner.done.clear()
    while names(new)[0] not in planner.done:
        planner.run_batch()
    assert planner.done.index(names(new)[0]) < 300


def test_without_urgent_routes_nothing_is_read_ahead_of_its_turn(shop, monkeypatch):
    read = []
    monkeypatch.setattr(Turns, "_note", lambda self, row, delivery: read.append(row.id))
    store(shop, *(put(shop, "shop", number) for number in range(1, 150)))
    while shop.planner.run_batch()[0]:
        pass
    assert read == []


def test_what_is_processed_again_gives_way_to_what_came_since(shop):
    old = [put(shop, "shop", number) for number in range(1, 600)]
    store(shop, *old)
    while shop.planner.run_batch()[0]:
        pass
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET planned_at = NULL WHERE parent_id IS NULL")
    new = [put(shop, "shop", number) for number in range(2000, 2020)]
    another = put(shop, "shop", 3, "order.cancelled", "cancelled")  # of an order that is processed again
    store(shop, *new, another)
    planner = Noting(shop)
    for _ in range(4):
        planner.run_batch()
    assert set(names(*new, another)) <= set(planner.done)
    place = planner.done.index
    assert place(names(old[2])[0]) < place(names(another)[0])
    assert len(planner.done) < 400


def test_a_claim_takes_the_urgent_before_the_rest_and_what_gives_way_last(shop):
    from angelon.db.log import sends

    store(shop, *(put(shop, "shop", number) for number in range(1, 10)))
    shop.planner.run_batch()
    with shop.bench.database.connection() as connection:
        ids = [id_ for (id_,) in connection.exec_driver_sql("SELECT id FROM send ORDER BY due_at, id")]
        given_turns = [2, 2, 2, 1, 1, 1, 0, 1, 0]
        for id_, turn in zip(ids, given_turns, strict=True):
            connection.exec_driver_sql("UPDATE send SET turn = ? WHERE id = ?", (turn, id_))
        gateway = connection.exec_driver_sql("SELECT max(gateway_id) FROM send").scalar()
        lease = dt.timedelta(minutes=1)
        taken = [sends.claim(connection, "w", shop.now, lease, 3, gateway) for _ in range(4)]
    assert [[row.turn for row in rows] for rows in taken] == [[0, 0, 1], [1, 1, 1], [2, 2, 2], []]


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.randoms(use_true_random=False))
def test_within_an_order_and_a_customer_all_goes_as_it_came(shop, rng):
    urgent(shop, "payment.failed")
    kinds = [("order.created", "placed"), ("order.updated", "changed"), ("payment.failed", "failed")]
    puts, about = [], {}
    for _ in range(150):
        number, who = rng.randrange(40) + rng.randrange(10**6) * 100, rng.randrange(25)
        type_, name = rng.choices(kinds, weights=(10, 4, 1))[0]
        one = put(shop, rng.choice(["shop", "desk"]), number % 100, type_, name, state=f"s{number}",
                  buyer={"name": "Jo", "email": f"j{who}@example.org"})  # fmt: skip
        about[one[0].events[0].id] = (number % 100, who)
        puts.append(one)
    came = names(*puts)
    store(shop, *puts)
    planner = Noting(shop)
    while planner.run_batch()[0]:
        pass
    mine = [id_ for id_ in planner.done if id_ in about]
    assert sorted(mine) == sorted(came)
    for part in (0, 1):
        for value in {one[part] for one in about.values()}:
            of = [id_ for id_ in came if about[id_][part] == value]
            assert [id_ for id_ in mine if about[id_][part] == value] == of


@pytest.mark.parametrize(("turn", "said"), [(0, "Its route is urgent"), (2, "It gives way"), (1, "It is sent.")])
def test_a_send_s_page_says_whether_it_goes_first(shop, client, turn, said):
    store(shop, put(shop, "shop", 1))
    shop.planner.run_batch()
    with shop.bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET turn = ?", (turn,))
        id_ = connection.exec_driver_sql("SELECT id FROM send").scalar()
    assert said in text(client.get(f"/sends/{id_}"))
