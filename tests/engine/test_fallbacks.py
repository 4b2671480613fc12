"""What follows a send that fails, is held or is late: the next way, the shop told, an event; and what is asked again
when one is due.
"""

import datetime as dt
from decimal import Decimal

import pytest

from angelon.core.specs import Gateway, Message, Route, Store
from angelon.core.specs.stored import from_stored
from angelon.db.people import suppressions
from angelon.db.setup import routes, specs
from angelon.db.tables import GatewayRow, MessageRow, RouteRow, SourceRow, StoreRow
from angelon.engine.sending.fallbacks import Fallbacks
from angelon.gateways.interface import Outcome
from tests import made

TEAM = [{"name": "Nuala", "role": "owner", "email": "nuala@kites.example"}]
PHONE = {"name": "Jo", "email": "jo@example.org", "phone": "+49 30 23125014", "country": "DE"}


class Transport:
    """A way out that says what it is told to."""

    def __init__(self, outcome):
        self.outcome, self.mails = outcome, []

    def deliver(self, mail, key):
        self.mails.append(mail)
        return self.outcome

    def close(self): ...


class Shop:
    """The store of a bench with two ways out, a person in it, and a clock that stands."""

    def __init__(self, bench):
        self.bench = bench
        self.now = bench.clock.now()
        bench.clock.now = lambda: self.now
        self.ways = {
            "email": Transport(Outcome("accepted", "250", "taken")),
            "sms": Transport(Outcome("accepted", "200", "taken")),
        }
        text = made.message().model_dump(mode="json") | {"sms": {"en": {"text": "Order of {{ customer_name }}"}}}
        bench.change(
            made.source(reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}),
            SourceRow,
        )
        bench.change(
            Gateway.model_validate(
                {
                    "key": "line",
                    "name": "Text line",
                    "kind": "sms",
                    "sender_id": "Kites",
                    "call": {"url": "https://sms.example/send", "body": "{}"},
                }
            ),
            GatewayRow,
        )
        self.store(team=TEAM)
        self.publish(MessageRow, Message.model_validate(text))

    def store(self, **changes):
        with self.bench.database.writing() as session:
            row = session.get(StoreRow, self.bench.store_id)
            row.spec = from_stored(Store, row.spec | changes).plain()
            specs.touch(session, row.id)
        self.bench.services.setups.forget()

    def publish(self, table, spec, on=True):
        with self.bench.database.writing() as session:
            row = specs.save_draft(session, table, self.bench.store_id, spec, self.now)
            specs.publish(session, row, self.now)
            if table is RouteRow:
                specs.switch(session, row, on, self.now - dt.timedelta(days=1))
        self.bench.services.setups.forget()

    def route(self, **changes):
        self.publish(RouteRow, made.route(**changes))

    def order(self, number=1, **changes):
        self.deliver(f"d-{number}", id=number, buyer=PHONE, **changes)
        self.bench.plan()

    def deliver(self, delivery, event="placed", **changes):
        self.later(milliseconds=1)
        self.bench.deliver(made.body(**changes), store_delivery=delivery, store_event=event)

    def dispatch(self):
        from angelon.engine.sending.dispatcher import Dispatcher

        Dispatcher(
            "t",
            self.bench.database,
            self.bench.services.setups,
            self.bench.vault,
            self.bench.clock,
            lambda gateway, secret: self.ways[gateway.channel],
        ).run_batch()

    def follow(self):
        made_ = Fallbacks(
            self.bench.database, self.bench.services.setups, self.bench.clock, "https://angelon.example"
        ).run_due()
        self.bench.plan()
        return made_

    def later(self, **span):
        self.now += dt.timedelta(**span)

    def sends(self):
        return [tuple(row) for row in self.bench.rows("SELECT channel, recipient, state FROM send ORDER BY rowid")]


@pytest.fixture
def shop(bench):
    return Shop(bench)


REFUSED = Outcome("permanent", "550", "no such mailbox")
WAYS = {"options": [{"gateway": "line", "channel": "sms"}], "tell": "owner"}


def test_a_send_that_is_refused_for_good_goes_by_the_next_way_once(shop):
    shop.route(fallback=WAYS)
    shop.ways["email"].outcome = REFUSED
    shop.order()
    shop.dispatch()
    assert shop.follow() == 1
    assert shop.follow() == 0
    shop.dispatch()
    assert shop.sends() == [("email", "jo@example.org", "failed"), ("sms", "+493023125014", "sent")]
    (trace,) = shop.bench.rows("SELECT trace FROM send WHERE channel = 'sms'")[0]
    assert "550 no such mailbox The fallback is used." in trace


def test_where_no_way_is_left_the_shop_is_told_with_the_reason_and_a_link(shop):
    shop.route(fallback=WAYS)
    shop.ways["email"].outcome = shop.ways["sms"].outcome = REFUSED
    shop.order()
    for _ in range(2):
        shop.dispatch()
        shop.follow()
    assert shop.sends() == [
        ("email", "jo@example.org", "failed"),
        ("sms", "+493023125014", "failed"),
        ("email", "nuala@kites.example", "scheduled"),
    ]
    shop.ways["email"] = Transport(Outcome("accepted", "250", "taken"))
    shop.dispatch()
    (failed,) = shop.bench.rows("SELECT id FROM send WHERE channel = 'sms'")[0]
    text = shop.bench.said("recipient = 'nuala@kites.example'")[0].text
    assert "“Received” did not reach Jo (BK-7). Permanent failure: 550 no such mailbox" in " ".join(text.split())
    assert f"https://angelon.example/sends/{failed}" in text


def test_a_send_that_is_not_out_in_time_gives_its_place_to_the_next_way(shop):
    shop.route(fallback=WAYS | {"within_minutes": 30})
    shop.ways["email"].outcome = Outcome("temporary", "451", "busy")
    shop.order()
    shop.dispatch()
    shop.later(minutes=29)
    assert shop.follow() == 0
    shop.later(minutes=2)
    assert shop.follow() == 1
    assert [(channel, state) for channel, _, state in shop.sends()] == [("email", "cancelled"), ("sms", "scheduled")]
    assert (
        shop.bench.rows("SELECT reason FROM send WHERE channel = 'email'")[0][0]
        == "Not out within 30 minutes. SMS takes its place."
    )


def test_it_counts_from_when_it_was_first_due_however_often_it_is_tried_again(shop):
    """A retry moves the time that a send is due: that made it look in time, and nobody was told by the other way."""
    shop.route(fallback=WAYS | {"within_minutes": 1})
    shop.ways["email"].outcome = Outcome("temporary", "500", "broken")
    shop.order()
    for _ in range(4):
        shop.dispatch()
        shop.later(seconds=20)
    assert shop.follow() == 1
    assert [(channel, state) for channel, _, state in shop.sends()] == [("email", "cancelled"), ("sms", "scheduled")]


def test_a_send_that_went_out_in_time_is_left_alone(shop):
    shop.route(fallback=WAYS | {"within_minutes": 30})
    shop.order()
    shop.dispatch()
    shop.later(hours=2)
    assert shop.follow() == 0
    assert [state for _, _, state in shop.sends()] == ["sent"]


def test_a_held_send_makes_an_event_that_a_route_may_wait_for_and_no_more_of_them(shop):
    shop.publish(
        MessageRow,
        Message.model_validate(
            {
                "key": "help",
                "name": "Help",
                "email": {
                    "en": {"subject": "Look: {{ problem }}", "blocks": [{"kind": "text", "text": "{{ problem_link }}"}]}
                },
            }
        ),
    )
    shop.route()
    shop.publish(
        RouteRow,
        Route.model_validate(
            {
                "key": "help",
                "name": "Help",
                "when": ["send.held", "send.failed"],
                "sources": ["shop"],
                "send": "help",
                "gateway": "mailroom",
                "to": [{"kind": "role", "who": "owner"}],
            }
        ),
    )
    shop.ways["email"].outcome = REFUSED
    shop.bench.deliver(made.body(buyer={"name": "", "email": "jo@example.org"}), store_delivery="x")
    shop.bench.plan()
    assert shop.follow() == 1
    assert [(to, state) for _, to, state in shop.sends()] == [
        ("jo@example.org", "held"),
        ("nuala@kites.example", "scheduled"),
    ]
    assert shop.bench.rows("SELECT type, name FROM event WHERE parent_id IS NOT NULL")[0][0] == "send.held"
    shop.dispatch()
    assert shop.bench.rows("SELECT subject FROM send WHERE recipient = 'nuala@kites.example'")[0][0].startswith(
        "Look: customer_name has no value"
    )
    assert shop.follow() == 0  # that the telling itself failed makes no further event
    assert shop.bench.rows("SELECT count(*) FROM event WHERE type LIKE 'send.%'") == [(1,)]


def test_an_address_that_was_suppressed_meanwhile_is_not_written_to(shop):
    shop.route(timing={"amount": 10})
    shop.order()
    with shop.bench.database.writing() as session:
        suppressions.add(session, shop.bench.store_id, "email:jo@example.org", "asked us to stop.", shop.now)
    shop.later(minutes=11)
    shop.dispatch()
    assert shop.bench.rows("SELECT state, reason FROM send") == [
        ("skipped", "jo@example.org must not be written to: asked us to stop.")
    ]
    shop.order(2)
    assert shop.sends()[-1][2] == "skipped"


def test_a_condition_marked_for_it_is_asked_again_when_the_send_is_due(shop):
    shop.route(
        timing={"amount": 1, "unit": "hours"},
        only_if={"of": [{"of": "order.status", "op": "is", "value": "paid", "again": True}]},
    )
    shop.order()
    shop.order(2)
    shop.deliver("y", "changed", id=1, buyer=PHONE, state="cancelled")
    shop.bench.plan()
    shop.later(hours=2)
    shop.dispatch()
    assert sorted(state for _, _, state in shop.sends()) == ["sent", "skipped"]
    assert (
        shop.bench.rows("SELECT reason FROM send WHERE state = 'skipped'")[0][0]
        == "When it was due, its condition no longer held: Order’s status is paid does not hold: it is cancelled."
    )


def test_a_refund_that_came_meanwhile_is_seen_when_the_send_is_due(shop):
    shop.bench.change(made.source(statuses={"refunded": "payment.refunded"}), SourceRow)
    shop.route(timing={"amount": 1, "unit": "hours"}, guards={"skip_refunded": True})
    shop.order()
    shop.deliver("y", "changed", id=1, buyer=PHONE, state="refunded")
    shop.bench.plan()
    shop.later(hours=2)
    shop.dispatch()
    assert "was refunded" in shop.bench.rows("SELECT reason FROM send WHERE state = 'skipped'")[0][0]


def test_once_per_customer_counts_over_orders_and_within_one_batch(shop):
    shop.route(once="customer")
    for number in (1, 2):
        shop.deliver(f"d{number}", id=number, buyer=PHONE)
    shop.bench.plan()
    shop.order(3)
    assert [state for _, _, state in shop.sends()] == ["scheduled", "skipped", "skipped"]


def test_a_cap_counts_every_route_s_messages_to_the_customer(shop):
    shop.route()
    shop.publish(
        RouteRow,
        made.route(
            key="more", name="More", when=["order.paid"], guards={"caps": [{"most": 2, "per": "customer", "days": 1}]}
        ),
    )
    shop.bench.change(made.source(event_names={"placed": "order.created", "paid": "order.paid"}), SourceRow)
    for number in range(1, 4):
        shop.deliver(f"c{number}", id=number, buyer=PHONE)
    shop.deliver("p", "paid", id=1, buyer=PHONE)
    shop.bench.plan()
    assert [state for _, _, state in shop.sends()] == ["scheduled", "scheduled", "scheduled", "skipped"]


def test_pausing_a_route_holds_what_it_has_scheduled_and_going_on_asks_about_what_is_late(shop):
    shop.route(timing={"amount": 1, "unit": "hours"})
    shop.order(1)
    shop.later(minutes=50)
    shop.order(2)
    with shop.bench.database.writing() as session:
        row = specs.by_key(session, RouteRow, shop.bench.store_id, "received")
        assert routes.waiting(session, shop.bench.store_id, row.id, shop.now) == routes.Waiting(2, 0, 0)
        assert routes.hold(session, row) == 2
        shop.later(minutes=20)
        assert routes.waiting(session, shop.bench.store_id, row.id, shop.now) == routes.Waiting(0, 2, 1)
        assert routes.release_held(session, row, "drop", shop.now) == (1, 1)
    assert [state for _, _, state in shop.sends()] == ["cancelled", "scheduled"]


def test_what_is_not_out_in_time_goes_another_way_after_a_pause_too(shop):
    shop.route(fallback=WAYS | {"within_minutes": 30}, timing={"amount": 1, "unit": "hours"})
    shop.order(1)
    with shop.bench.database.writing() as session:
        row = specs.by_key(session, RouteRow, shop.bench.store_id, "received")
        routes.hold(session, row)
        shop.later(minutes=300)
        assert routes.release_held(session, row, "send", shop.now) == (1, 0)
    shop.later(minutes=29)
    assert shop.follow() == 0, "half an hour counts from when it was let go"
    shop.later(minutes=2)
    assert shop.follow() == 1
    assert [channel for channel, _, _ in shop.sends()] == ["email", "sms"]


def off(shop):
    with shop.bench.database.writing() as session:
        specs.switch(session, specs.by_key(session, RouteRow, shop.bench.store_id, "received"), False, shop.now)
    shop.bench.services.setups.forget()


def test_what_a_route_has_scheduled_is_asked_again_though_the_route_is_off_by_then(shop):
    shop.route(
        timing={"amount": 1, "unit": "hours"},
        only_if={"of": [{"of": "order.status", "op": "is", "value": "paid", "again": True}]},
    )
    shop.order()
    off(shop)
    shop.deliver("y", "changed", id=1, buyer=PHONE, state="cancelled")
    shop.bench.plan()
    shop.later(hours=2)
    shop.dispatch()
    assert [state for _, _, state in shop.sends()] == ["skipped"]


def test_what_a_route_has_scheduled_goes_by_the_next_way_though_the_route_is_off_by_then(shop):
    shop.route(fallback=WAYS)
    shop.ways["email"].outcome = REFUSED
    shop.order()
    off(shop)
    shop.dispatch()
    assert shop.follow() == 1
    assert [(channel, state) for channel, _, state in shop.sends()] == [("email", "failed"), ("sms", "scheduled")]


# ---- what a gateway tells later


LINE = {
    "key": "line",
    "name": "Text line",
    "kind": "sms",
    "sender_id": "Kites",
    "call": {"url": "https://sms.example/send", "body": "{}"},
}


def told(shop, client, state, gateway="line", **more):

    reference = shop.bench.rows("SELECT reference FROM send ORDER BY rowid LIMIT 1")[0][0]
    answer = client.post(
        f"/receipts/{gateway}/{shop.bench.vault.receipts(gateway)}",
        json={"id": reference, "state": state, **more},
    )
    shop.bench.plan()
    return answer.get_json()["receipts"][0]


@pytest.fixture
def texted(shop):
    """A shop that tells by SMS, through a gateway that gives receipts, and by email where it is not delivered in half
    an hour.
    """
    shop.bench.change(Gateway.model_validate(LINE | {"receipts": {}}), GatewayRow)
    shop.ways["sms"].outcome = Outcome("accepted", "202", "taken", reference="sm-1")
    shop.route(
        gateway="line",
        channel="sms",
        fallback={"options": [{"gateway": "mailroom", "channel": "email"}], "within_minutes": 30},
    )
    shop.order()
    shop.dispatch()
    return shop


def test_a_receipt_moves_the_send_on_and_a_late_one_changes_nothing(texted, client):
    assert told(texted, client, "delivered") == "delivered."
    assert told(texted, client, "read") == "read."
    assert told(texted, client, "delivered") == "It is read already."
    assert told(texted, client, "thrown") == "“thrown” is unknown here."
    texted.later(hours=1)
    assert texted.follow() == 0
    assert [state for _, _, state in texted.sends()] == ["read"]


def test_a_message_that_is_not_delivered_in_time_is_followed_by_the_next_way(texted, client):
    texted.later(minutes=29)
    assert texted.follow() == 0
    texted.later(minutes=2)
    assert texted.follow() == 1
    assert texted.sends() == [("sms", "+493023125014", "sent"), ("email", "jo@example.org", "scheduled")]
    assert (
        "Not delivered within 30 minutes." in texted.bench.rows("SELECT trace FROM send WHERE channel = 'email'")[0][0]
    )


def test_a_message_that_failed_on_its_way_is_followed_at_once(texted, client):
    assert told(texted, client, "undelivered", text="number is gone") == "failed."
    assert texted.follow() == 1
    assert [(channel, state) for channel, _, state in texted.sends()] == [("sms", "failed"), ("email", "scheduled")]
    assert texted.bench.rows("SELECT reason FROM send WHERE channel = 'sms'") == [("The gateway says: number is gone",)]


def test_an_answer_is_an_event_that_a_route_may_wait_for(texted, client):
    texted.publish(
        RouteRow,
        made.route(
            key="thanks",
            name="Thanks",
            when=["answer.received"],
            guards={"after_answer": True, "after_route": "received"},
        ),
    )
    assert told(texted, client, "answered", text="Yes, please") == "answered."
    assert texted.bench.rows("SELECT type, name FROM event WHERE parent_id IS NOT NULL") == [
        ("answer.received", "Yes, please")
    ]
    assert [(channel, state) for channel, _, state in texted.sends()] == [("sms", "sent"), ("email", "scheduled")]


def test_receipts_need_the_address_that_only_the_provider_knows(texted, client):
    assert client.post("/receipts/line/guess", json={"id": "sm-1", "state": "failed"}).status_code == 404
    assert client.post("/receipts/nothing/guess", json={}).status_code == 404
    assert [state for _, _, state in texted.sends()] == ["sent"]


def test_a_fallback_does_not_say_again_what_another_route_has_just_said(shop):
    """The mail of one route fails and would be followed by an SMS, which another route has sent for the same order."""
    shop.route(fallback={"options": [{"gateway": "line", "channel": "sms"}]})
    shop.route(key="text", name="By text", channel="sms", gateway="line")
    shop.ways["email"].outcome = Outcome("permanent", "550", "nobody of that name")
    shop.order()
    shop.dispatch()
    shop.follow()
    shop.dispatch()
    assert len(shop.ways["sms"].mails) == 1
    states = shop.bench.rows("SELECT channel, state, reason FROM send ORDER BY rowid")
    assert [(channel, state) for channel, state, _ in states] == [
        ("email", "failed"),
        ("sms", "sent"),
        ("sms", "skipped"),
    ]
    assert "By text" in states[2][2]


def test_a_fallback_says_what_no_other_route_says(shop):
    """Another message about the same event does not stand in its way."""
    care = made.message(key="care", name="Care").model_dump(mode="json") | {"sms": {"en": {"text": "Care well"}}}
    shop.publish(MessageRow, Message.model_validate(care))
    shop.route(fallback={"options": [{"gateway": "line", "channel": "sms"}]})
    shop.route(key="text", name="By text", channel="sms", gateway="line", send="care")
    shop.ways["email"].outcome = Outcome("permanent", "550", "nobody of that name")
    shop.order()
    shop.dispatch()
    shop.follow()
    shop.dispatch()
    assert sorted(mail.values["text"] for mail in shop.ways["sms"].mails) == ["Care well", "Order of Jo"]


@pytest.mark.parametrize("act", ["hold", "cancel"])
def test_what_a_person_holds_or_takes_back_goes_by_no_other_way(shop, act):
    from angelon.engine.operations import sends as operations
    from angelon.engine.unit import unit

    shop.route(
        timing={"amount": 10, "unit": "minutes"},
        fallback={"options": [{"gateway": "line", "channel": "sms"}], "within_minutes": 5},
    )
    shop.order()
    (send,) = (row[0] for row in shop.bench.rows("SELECT id FROM send"))
    with unit(shop.bench.services.installation, shop.bench.store_id) as work:
        assert operations.ticked(work, act, [send]).moved == 1
    shop.later(minutes=60)
    shop.follow()
    shop.dispatch()
    assert (shop.ways["email"].mails, shop.ways["sms"].mails) == ([], [])
    assert len(shop.bench.rows("SELECT id FROM send")) == 1


# ---- where the next way can't be used


def stop(shop, key="phone:+493023125014", origin="stop", why="answered “STOP”."):
    with shop.bench.database.writing() as session:
        suppressions.add(session, shop.bench.store_id, key, why, shop.now, "", origin)


def test_what_is_late_goes_on_where_nothing_may_take_its_place(shop):
    """It was taken back for an SMS that was never sent, since the customer had said STOP there: nobody was told."""
    shop.route(fallback=WAYS | {"within_minutes": 30})
    shop.ways["email"].outcome = Outcome("temporary", "451", "busy")
    shop.order()
    stop(shop)
    shop.dispatch()
    shop.later(minutes=31)
    shop.follow()
    assert [(channel, state) for channel, _, state in shop.sends()][:2] == [("email", "retrying"), ("sms", "skipped")]
    shop.ways["email"].outcome = Outcome("accepted", "250", "taken")
    shop.later(hours=1)
    shop.dispatch()
    assert [state for _, whom, state in shop.sends() if whom == "jo@example.org"] == ["sent"]


@pytest.mark.parametrize("how", ["refused", "STOP"])
def test_what_was_late_goes_on_where_what_took_its_place_comes_to_nothing(shop, how):
    shop.route(fallback=WAYS | {"within_minutes": 30})
    shop.ways["email"].outcome = Outcome("temporary", "451", "busy")
    shop.order()
    shop.dispatch()
    shop.later(minutes=31)
    shop.follow()
    assert [state for _, _, state in shop.sends()] == ["cancelled", "scheduled"]
    if how == "STOP":
        stop(shop)
    else:
        shop.ways["sms"].outcome = REFUSED
    shop.dispatch()
    shop.follow()
    assert shop.sends()[0] == ("email", "jo@example.org", "scheduled")
    assert "SMS took its place and came to nothing" in shop.bench.rows("SELECT reason FROM send ORDER BY rowid")[0][0]
    shop.ways["email"].outcome = REFUSED
    for _ in range(3):
        shop.dispatch()
        shop.follow()
    assert [channel for channel, whom, _ in shop.sends() if "nuala" not in whom] == ["email", "sms"]
    assert [whom for _, whom, _ in shop.sends()][2:] == ["nuala@kites.example"]


def test_who_is_known_not_to_be_at_an_address_is_told_by_the_next_way(shop):
    shop.route(fallback=WAYS)
    stop(shop, "email:jo@example.org", "bounce", "there is no such mailbox: 550 5.1.1 no such user")
    shop.order()
    shop.dispatch()
    assert shop.sends() == [("sms", "+493023125014", "sent")]
    (trace,) = shop.bench.rows("SELECT trace FROM send")[0]
    assert "jo@example.org can't be reached: there is no such mailbox: 550 5.1.1 no such user. So by SMS." in trace


def test_who_wants_no_mail_is_not_told_by_another_way(shop):
    shop.route(fallback=WAYS)
    stop(shop, "email:jo@example.org", "one-click", "left by their mail program")
    shop.order()
    assert shop.sends() == [("email", "jo@example.org", "skipped")]


def test_who_turns_out_not_to_be_there_while_a_send_waits_is_told_by_the_next_way(shop):
    shop.route(fallback=WAYS)
    shop.order()
    stop(shop, "email:jo@example.org", "bounce", "there is no such mailbox: 550 5.1.1 no such user")
    shop.dispatch()
    shop.follow()
    shop.dispatch()
    assert shop.sends() == [("email", "jo@example.org", "failed"), ("sms", "+493023125014", "sent")]
    without = [tries for (tries,) in shop.bench.rows("SELECT tries FROM send ORDER BY rowid")]
    assert without == [0, 1]


def test_the_forecast_counts_fallbacks_as_often_as_they_were_used(shop):
    from angelon.engine.past.forecasting import forecast

    line = shop.bench.services.setups.get(shop.bench.store_id).setup.gateways["line"]
    shop.bench.change(line.model_copy(update={"price": Decimal("0.05")}), GatewayRow)
    shop.route(fallback=WAYS)
    shop.order(1)
    shop.dispatch()
    shop.later(days=2)  # the first day that counts is complete
    shop.ways["email"].outcome = REFUSED
    shop.order(2, reference="BK-8")
    shop.dispatch()
    assert shop.follow() == 1
    shop.dispatch()
    shop.later(days=2)
    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.reading() as session:
        rows = specs.routes(session, shop.bench.store_id)
        *_, (_, _, made_) = forecast(session.connection(), live, rows, shop.now, dt.UTC)
    assert made_.live.keys() == made_.drafts.keys() == {"mailroom", "line"}
    assert sum(made_.live["line"][0].days) > 0
    assert sum(made_.live["line"][1].days) == pytest.approx(0.05 * sum(made_.live["line"][0].days))
