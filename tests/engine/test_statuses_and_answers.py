"""An order's several statuses, each with its own changes; and what customers answer, asked for and waited for."""

import datetime as dt

import pytest

from angelon.core.specs import Message
from angelon.db.tables import MessageRow, SourceRow
from angelon.engine.past.rehearsals import rehearse_one
from tests import made
from tests.engine.test_fallbacks import Shop

PARTS = {"payment_status": "$.paid", "fulfilment_status": "$.packed", "return_status": "$.back"}
MEANINGS = {
    "payment_statuses": {
        "yes": "order.paid",
        "part back": "payment.partly_refunded",
        "all back": "payment.refunded",
    },
    "fulfilment_statuses": {"some": "fulfilment.partly_shipped", "all": "parcel.picked_up"},
}


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    bench.change(
        made.source(reading=made.source().model_dump(mode="json")["reading"] | PARTS, **MEANINGS),
        SourceRow,
    )
    return shop


def say(shop, number, event="changed", **changes):
    shop.deliver(f"d-{number}", event, changed_at=changes.pop("at", shop.now).isoformat(), **changes)
    shop.bench.plan()


def derived(shop):
    rows = shop.bench.rows("SELECT type, was, now FROM event WHERE parent_id IS NOT NULL ORDER BY received_at, type")
    return [tuple(row) for row in rows]


def order(shop):
    from angelon.db.tables import OrderRow

    with shop.bench.database.reading() as session:
        return session.query(OrderRow).one()


def test_each_status_changes_by_itself_and_means_what_the_source_says(shop):
    say(shop, 1, "placed", paid="no", packed="none")
    say(shop, 2, paid="yes", packed="none")
    say(shop, 3, paid="yes", packed="some")
    say(shop, 4, paid="part back", packed="all")
    assert derived(shop) == [
        ("order.paid", "no", "yes"),
        ("payment.status_changed", "no", "yes"),
        ("fulfilment.partly_shipped", "none", "some"),
        ("fulfilment.status_changed", "none", "some"),
        ("fulfilment.status_changed", "some", "all"),
        ("parcel.picked_up", "some", "all"),
        ("payment.partly_refunded", "yes", "part back"),
        ("payment.status_changed", "yes", "part back"),
    ]
    seen = order(shop).seen_others
    assert {part: [word for word, _ in words] for part, words in seen.items()} == {
        "payment_status": ["no", "yes", "yes", "part back"],
        "fulfilment_status": ["none", "none", "some", "all"],
    }


def test_a_late_delivery_turns_no_status_back(shop):
    before = shop.now - dt.timedelta(hours=1)
    say(shop, 1, "placed", paid="no", packed="none", at=before)
    say(shop, 2, paid="all back", packed="all")
    made_before = derived(shop)
    say(shop, 3, paid="yes", packed="some", at=before + dt.timedelta(minutes=9))
    assert derived(shop) == made_before
    last = {part: words[-1][0] for part, words in order(shop).seen_others.items()}
    assert last == {"payment_status": "all back", "fulfilment_status": "all"}


def test_a_refund_in_part_is_none_of_the_whole(shop):
    shop.route(when=["payment.status_changed"], guards={"skip_refunded": True}, once="event")
    say(shop, 1, "placed", paid="yes")
    say(shop, 2, paid="part back")
    say(shop, 3, paid="all back")
    rows = shop.bench.rows("SELECT state, reason FROM send ORDER BY rowid")
    assert [row[0] for row in rows] == ["scheduled", "skipped"]
    assert rows[1][1].startswith("The order was refunded on")


def test_conditions_see_each_status_and_its_history(shop):
    only_if = {
        "of": [
            {"kind": "compare", "of": "order.payment_status", "op": "is", "value": "yes"},
            {"kind": "compare", "of": "history.payment_statuses", "which": "any", "op": "is", "value": "no"},
            {"kind": "compare", "of": "status", "op": "changed", "value": "none", "to": "some"},
        ]
    }
    shop.route(when=["fulfilment.status_changed"], only_if=only_if)
    say(shop, 1, "placed", paid="no", packed="none")
    say(shop, 2, paid="yes", packed="some")
    assert [state for _, _, state in shop.sends()] == ["scheduled"]


def test_parts_of_ones_own_of_a_line_are_there_for_texts_and_conditions(shop):
    line = made.source().model_dump(mode="json")["line"] | {"category": "$.kind"}
    reading = made.source().model_dump(mode="json")["reading"]
    shop.bench.change(made.source(reading=reading, line=line), SourceRow)
    text = made.message().model_dump(mode="json")
    text["email"] = {
        "en": {
            "subject": "{% for line in order.lines %}{{ line.category }} {% endfor %}",
            "blocks": [
                {
                    "kind": "text",
                    "text": "{% for line in order.lines %}{{ line.category }} {% endfor %}",
                }
            ],
        }
    }
    shop.publish(MessageRow, Message.model_validate(text))
    only_if = {"of": [{"of": "order.lines", "which": "any", "item": "category", "op": "is", "value": "kite"}]}
    shop.route(only_if=only_if)
    kites = [{"sku": "HER-180", "title": "Heron", "quantity": 1, "price": "119.00", "kind": "kite"}]
    say(shop, 1, "placed", id=1, buyer={"name": "Jo", "email": "jo@example.org"}, lines=kites)
    say(shop, 2, "placed", id=2, buyer={"name": "Al", "email": "al@example.org"}, lines=[kites[0] | {"kind": "line"}])
    shop.dispatch()
    [mail] = shop.ways["email"].mails
    assert b"Subject: kite" in mail.data


# ---- answers


@pytest.fixture
def asking(shop):
    """A shop that asks each order's customer something by SMS, thanks on another day, and reminds after two days."""
    shop.bench.change(
        made.source(reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}), SourceRow
    )

    shop.route(key="ask", name="Ask", channel="sms", gateway="line")
    not_no = {"of": [{"of": "history.answer", "op": "is_not", "value": "No, cancel it", "again": True}]}
    shop.route(
        key="thanks",
        name="Thanks",
        timing={"amount": 1, "unit": "days"},
        only_if=not_no,
        guards={"even_if_notified": True},
    )
    shop.route(
        key="remind",
        name="Remind",
        timing={"amount": 48, "unit": "hours"},
        guards={"after_route": "ask", "unless_answered": True, "even_if_notified": True},
        priority=-5,
    )
    shop.order()
    shop.dispatch()
    return shop


def answer(shop, text):
    """The customer's answer as it comes in: an event that follows from the send's."""
    from angelon.db.log.events import derive
    from angelon.db.records import NewEvent
    from angelon.db.tables import EventRow

    shop.later(minutes=5)
    with shop.bench.database.writing() as session:
        event = session.query(EventRow).filter(EventRow.parent_id.is_(None)).first()
        key = f"x>answer.received>{text}"
        made_ = NewEvent.derived(event, f"ev_{text}", key, text, "answer.received", shop.now, event.order_id)
        derive(session.connection(), [made_])
    shop.bench.plan()


def states(shop):
    rows = shop.bench.rows("SELECT r.key, s.state, s.reason FROM send s JOIN route r ON r.id = s.route_id")
    return {row[0]: (row[1], row[2]) for row in rows}


def test_who_says_no_is_not_thanked(asking):
    answer(asking, "No, cancel it")
    asking.later(days=1)
    asking.dispatch()
    state, reason = states(asking)["thanks"]
    assert state == "skipped"
    assert "No, cancel it" in reason


def test_who_says_yes_is_thanked_and_not_reminded(asking):
    answer(asking, "Yes")
    asking.later(days=1)
    asking.dispatch()
    assert states(asking)["thanks"][0] == "sent"
    asking.later(days=1)
    asking.dispatch()
    state, reason = states(asking)["remind"]
    assert state == "skipped"
    assert "answered “Yes”" in reason


def test_who_says_nothing_for_two_days_is_reminded_once_the_question_went_out(asking):
    asking.later(hours=47)
    asking.dispatch()
    assert states(asking)["remind"][0] == "scheduled"
    asking.later(hours=2)
    asking.dispatch()
    assert states(asking)["remind"][0] == "sent"


def test_nobody_is_reminded_of_a_question_that_never_went_out(shop):
    from angelon.gateways.interface import Outcome

    shop.bench.change(
        made.source(reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}), SourceRow
    )
    shop.ways["sms"].outcome = Outcome("permanent", "400", "no such number")
    shop.route(key="ask", name="Ask", channel="sms", gateway="line")
    shop.route(
        key="remind",
        name="Remind",
        timing={"amount": 48, "unit": "hours"},
        guards={"after_route": "ask", "even_if_notified": True},
        priority=-5,
    )
    shop.order()
    shop.dispatch()
    shop.later(hours=49)
    shop.dispatch()
    state, reason = states(shop)["remind"]
    assert state == "skipped"
    assert "has not gone out" in reason


def test_a_rehearsal_sees_what_another_route_has_just_planned(asking):
    """The worker plans a moment after an event came in; what the other routes made of it in that moment counts."""
    live = asking.bench.services.setups.get(asking.bench.store_id)
    route = next(active.route for active in live.setup.routes if active.route.key == "remind")
    with asking.bench.database.writing() as session:
        session.connection().exec_driver_sql("UPDATE event SET received_at = received_at - 5000")
    with asking.bench.database.reading() as session:
        from angelon.db.tables import EventRow

        event = session.query(EventRow).filter(EventRow.parent_id.is_(None)).one()
        decision = rehearse_one(session.connection(), live, route, event)
    assert decision.outcome == "send", decision.reason
