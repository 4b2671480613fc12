"""Behind a backlog of one source, others' orders are planned at once; sources of the same orders keep their order."""

import json

import pytest

from angelon.core.specs import Source
from angelon.db.tables import SourceRow
from angelon.engine.planner import Planner
from tests import made
from tests.engine.test_fallbacks import Shop


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    for key, same in (("till", None), ("desk", {"source": "shop", "by": "number"})):
        spec = made.source().model_dump(mode="json") | {"key": key, "name": key.title(), "same_orders": same}
        bench.change(Source.model_validate(spec), SourceRow)
    shop.planner = Planner(bench.database, bench.services.setups, bench.clock)
    return shop


def put(shop, source, number, **changes):
    from angelon.core.deliveries import digest
    from angelon.db.log import events
    from angelon.db.records import NewDelivery, NewEvent

    live = shop.bench.services.setups.get(shop.bench.store_id)
    at, clock = shop.now, shop.bench.clock
    shop.later(milliseconds=1)
    body = json.dumps(made.order(id=number, reference=f"BK-{number}", **changes)).encode()
    id_, event_id, source_id = clock.new_id("dv", at), clock.new_id("ev", at), live.source_ids[source]
    event = NewEvent(event_id, source_id, id_, f"k{number}{source}{changes}", "placed", "order.created", at)
    return NewDelivery(id_, source_id, at, "application/json", {}, body, digest(body), (event,)), events


def store(shop, *pairs):
    events = pairs[0][1]
    with shop.bench.database.connection() as connection:
        events.add(connection, [delivery for delivery, _ in pairs])


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
