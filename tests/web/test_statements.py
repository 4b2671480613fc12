"""What a page, a batch of events and a batch of sends ask of the database does not grow with what a store has."""

import pytest

from angelon.core.specs import Route
from angelon.db.log import sends
from angelon.db.setup import specs
from angelon.db.tables import RouteRow
from angelon.engine.planner import Planner
from angelon.engine.sending.preparing import Preparer
from angelon.standins.views import pages as standins
from angelon.web.app import create_app
from tests import grown, made


def counted(bench, routes: int, orders: int) -> dict[str, int]:
    """Statements of each page of a store with so much in it."""
    grown.grow(bench.services, routes, orders)
    app = create_app(bench.services, [standins])
    app.extensions["angelon.standins"] = bench.box
    app.config.update(TESTING=True, WTF_CSRF_ENABLED=False)
    client = app.test_client()
    found = {}
    for page in grown.PAGES:
        address = page.format(send=grown.first_send(bench.services))
        client.get(address)
        with grown.statements(bench.database.engine) as seen:
            answer = client.get(address)
        assert answer.status_code == 200, address
        found[page] = len(seen)
    return found


@pytest.fixture
def few_and_many(bench, request):
    few = counted(bench, 3, 4)
    return few, counted(bench, 12, 16)


def test_no_page_asks_more_of_the_database_as_a_store_grows(few_and_many):
    few, many = few_and_many
    grew = {page: (few[page], many[page]) for page in few if many[page] > few[page] + 2}
    assert grew == {}
    assert max(many.values()) <= 32


def test_a_fragment_takes_no_counts_for_the_frame(client, bench):
    with grown.statements(bench.database.engine) as seen:
        answer = client.post("/routes/received", data={"name": "Received"}, headers={"X-Fragment": "1"})
    assert answer.status_code == 200
    assert [one for one in seen if "heartbeat" in one] == []


def planned(bench, orders: range) -> int:
    for number in orders:
        buyer = {"name": "Jo", "email": f"q{number}@example.org"}
        bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"p{number}")
    planner = Planner(bench.database, bench.services.setups, bench.clock)
    with grown.statements(bench.database.engine) as seen:
        assert planner.run_batch(len(orders))[0] == len(orders)
    return len(seen)


def test_a_batch_of_events_is_planned_in_as_many_statements_however_many_there_are(bench):
    with bench.database.writing() as session:
        row = specs.save_draft(session, RouteRow, bench.store_id, historical(), bench.clock.now())
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    few, many = planned(bench, range(100, 104)), planned(bench, range(200, 240))
    assert abs(many - few) <= 2  # one more where a batch takes long enough for the heartbeat
    assert many <= 40


def historical() -> Route:
    """A route that asks for everything that has happened before."""
    only_if = {
        "of": [
            {"kind": "compare", "of": "contact.orders", "op": "at_least", "value": "1", "again": True},
            {"kind": "compare", "of": "history.events", "op": "contains", "value": "order.created"},
        ]
    }
    guards = {"caps": [{"most": 9, "per": "customer", "days": 1}], "skip_refunded": True}
    return made.route(once="customer", only_if=only_if, guards=guards)


def gathered(bench, orders: range) -> int:
    planned(bench, orders)
    with bench.database.connection() as connection:
        rows = sends.claim(connection, "w", bench.clock.now(), bench.clock.now() - bench.clock.now(), 100)
    assert len(rows) == len(orders)
    preparer = Preparer(bench.database, bench.services.setups)
    with grown.statements(bench.database.engine) as seen:
        preparer.gather(rows, bench.clock.now())
        live = bench.services.setups.get(bench.store_id)
        ready = [preparer.prepare(row, live, bench.clock.now()) for row in rows]
    assert all(hasattr(one, "outgoing") for one in ready), ready[0]
    return len(seen)


def test_a_batch_of_sends_is_prepared_in_as_many_statements_however_many_there_are(bench):
    with bench.database.writing() as session:
        row = specs.save_draft(session, RouteRow, bench.store_id, historical(), bench.clock.now())
        specs.publish(session, row, bench.clock.now())
    bench.services.setups.forget()
    few, many = gathered(bench, range(300, 304)), gathered(bench, range(400, 430))
    assert many <= few + 3, "now and then the set-up's version is looked at"
    assert many <= 20
