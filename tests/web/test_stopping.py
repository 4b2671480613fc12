"""Nothing more about one order, or to one person; news that is too old for its event."""

import datetime as dt

from angelon.core.specs import Gateway, Store
from angelon.core.specs.base import read_spec
from angelon.db.tables import GatewayRow
from angelon.gateways.interface import Outcome
from tests import made
from tests.web.test_pages import post, text


class Takes:
    """A gateway that takes everything."""

    def deliver(self, mail, key):
        return Outcome("accepted", "250", "taken")

    def close(self): ...


def dispatch(bench):
    dispatcher = bench.dispatcher()
    dispatcher._make_transport = lambda *_: Takes()
    return dispatcher.run_batch(8)


def order_of(bench):
    ((order_id,),) = bench.rows('SELECT id FROM "order"')
    return order_id


def test_nothing_more_is_sent_about_an_order_that_was_stopped_until_it_is_resumed(client, bench):
    post(client)
    bench.plan()
    order_id = order_of(bench)
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]
    done = client.post(f"/orders/{order_id}/stop", data={"why": "in dispute"}, follow_redirects=True)
    assert "Nothing more goes to the customer about this order" in text(done)
    dispatch(bench)
    reason = "nothing more is sent about this order: in dispute"
    ((state, why),) = bench.rows("SELECT state, reason FROM send")
    assert state == "skipped"  # what waited: asked again when due
    assert reason in why
    post(client, made.body(status="in_transit"), **{"Store-Event": "changed"})
    post(client, made.body(id=8, reference="BK-8"))
    bench.plan()
    states = bench.rows(
        'SELECT o.number, s.state, s.reason FROM send s JOIN "order" o ON o.id = s.order_id ORDER BY s.created_at, s.id'
    )
    assert ("BK-8", "scheduled", "") in states  # the customer's other order is not touched
    assert all(reason in why for number, state, why in states if number == "BK-7" and state == "skipped")
    assert "one order" in text(client.get("/suppressions"))
    assert "order" not in client.get("/suppressions/all.csv").get_data(as_text=True).split("\n", 1)[1]
    client.post(f"/orders/{order_id}/stop", data={"act": "resume"})
    assert bench.rows("SELECT count(*) FROM suppression") == [(0,)]
    assert client.post("/orders/99/stop", data={}).status_code == 404


def test_rehearsal_says_the_same_of_a_stopped_order(client, bench):
    post(client)
    bench.plan()
    client.post(f"/orders/{order_of(bench)}/stop", data={"why": "in dispute"})
    page = text(client.get(f"/routes/received?order={order_of(bench)}"))
    assert "in dispute" in page


def test_nothing_more_goes_to_any_address_of_a_person(client, bench):
    post(client)
    bench.plan()
    ((person_id, email),) = bench.rows("SELECT id, email FROM contact")
    done = client.post(f"/people/{person_id}/stop", data={"why": ""}, follow_redirects=True)
    assert "Nothing more goes to this person" in text(done)
    assert (f"email:{email}",) in bench.rows("SELECT address_key FROM suppression")
    dispatch(bench)
    assert bench.rows("SELECT state FROM send") == [("skipped",)]


def test_news_is_skipped_when_its_event_is_too_old(client, bench):
    form = {"age.type": ["order.created", ""], "age.hours": ["12", ""], "edits": ""}
    assert client.post("/settings/rules", data=form).status_code == 302
    page = client.get("/settings/rules").get_data(as_text=True)
    assert 'value="12"' in page
    refused = client.post("/settings/rules", data=form | {"age.hours": ["soon", ""]})
    assert refused.status_code == 422
    assert 'value="soon"' in refused.get_data(as_text=True)
    post(client)
    bench.plan()
    later = bench.clock.now() + dt.timedelta(hours=13)
    bench.clock.now = lambda: later
    dispatch(bench)
    ((state, why),) = bench.rows("SELECT state, reason FROM send")
    assert state == "skipped"
    assert "too old" in why


def test_the_shorter_of_two_spans_holds():
    store = read_spec(Store, made.store().model_dump(mode="json") | {"good_for": {"order.created": 12}})
    message = made.message()
    assert store.hours_for(message, "order.created") == 12
    assert store.hours_for(message.model_copy(update={"good_for_hours": 3}), "order.created") == 3
    assert store.hours_for(message.model_copy(update={"good_for_hours": 3}), "order.cancelled") == 3
    assert store.hours_for(None, "order.cancelled") == 0


def test_a_mail_costs_by_the_mail_and_by_its_attachments(client, bench):
    gateway = bench.services.setups.get(bench.store_id).setup.gateways["mailroom"]
    bench.change(Gateway.model_validate(gateway.plain() | {"price": "0.002", "attachment_price": "0.001"}), GatewayRow)
    post(client)
    bench.plan()
    dispatch(bench)
    assert bench.rows("SELECT state, cost FROM send") == [("sent", "0.002")]
    assert str(
        Gateway.model_validate(gateway.plain() | {"price": "0.002", "attachment_price": "0.001"}).cost(1, 2)
    ) == ("0.004")
