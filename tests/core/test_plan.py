"""Planning: what each route makes of an event, with the reason, the same every time."""

import datetime as dt

import pytest

from angelon.core.planning.inputs import ActiveRoute, Event, Facts
from angelon.core.planning.plan import plan, work_out
from angelon.core.states import State
from angelon.core.values import show
from tests import made
from tests.made import LONG_AGO, NOON


def decide(payload=None, setup=None, facts=None, **event):
    setup = setup or made.setup()
    spec = {
        "id": "ev-1",
        "type": "order.created",
        "name": "placed",
        "source": "shop",
        "payload": payload or made.order(),
        "received_at": NOON,
    }
    happened = Event(**(spec | event))
    reading, variables = work_out(setup.sources["shop"], setup, happened.payload)
    (decision,) = plan(happened, reading, variables, setup, facts or Facts(), NOON)
    again = plan(happened, reading, variables, setup, facts or Facts(), NOON)
    assert again == [decision]
    return decision


def verdicts(decision):
    return {line.part: line.verdict for line in decision.trace}


def test_a_matching_event_makes_one_send_in_the_reader_s_language():
    decision = decide()
    send = decision.send
    assert (decision.outcome, send.recipient, send.locale, send.state, send.due_at) == (
        "send",
        "joerg@example.org",
        "de",
        State.SCHEDULED,
        NOON,
    )
    assert show(send.values["total"], "de") == "135,50\u00a0€"
    assert show(send.values["expected_on"], "de") == "Dienstag, 10. November"
    assert send.values["items"] == ["1 × Heron", "2 × line"]
    assert set(verdicts(decision).values()) == {"yes"}


def test_another_event_is_a_no_with_what_was_seen():
    decision = decide(type="order.paid")
    assert (decision.outcome, decision.send) == ("no", None)
    assert decision.reason == "The event is paid, and the route waits for created."


def test_a_name_that_means_nothing_says_so():
    assert "“cart.saved”, which is not mapped to an event yet" in decide(type="", name="cart.saved").reason


def test_an_event_from_before_the_activation_is_a_no():
    setup = made.setup(routes=[ActiveRoute(made.route(), NOON + dt.timedelta(seconds=1))])
    assert "before the route was switched on" in decide(setup=setup).reason


def test_another_source_is_a_no():
    setup = made.setup(routes=[ActiveRoute(made.route(sources=["market"]), LONG_AGO)])
    assert decide(setup=setup).reason == "The event is from Shop, and the route listens to market."


@pytest.mark.parametrize(
    ("payload", "part", "label"),
    [
        (made.order(buyer={"name": "", "email": "a@example.org"}), "send", "customer_name has no value"),
        (made.order(buyer={"name": "Jo", "email": "claire@example,org"}), "to", "no usable email"),
        (made.order(buyer={"name": "Jo", "email": "a@example.org\nBcc: b@example.org"}), "to", "no usable email"),
        (made.order(buyer={"name": "Jo"}), "to", "no usable email"),
        (made.order(total="a lot"), "send", "total has no value. It takes a number"),
    ],
)
def test_what_is_missing_holds_the_send_with_the_reason(payload, part, label):
    decision = decide(payload)
    assert decision.outcome == "held"
    assert decision.send.state is State.HELD
    assert label in decision.send.reason
    assert verdicts(decision)[part] == "problem"


def test_an_optional_variable_without_a_value_holds_nothing():
    blocks = [{"kind": "text", "text": "{{ gift_note }}", "only_if": "gift_note"}]
    setup = made.setup(messages={"received": made.message(email={"en": {"subject": "Hi", "blocks": blocks}})})
    assert decide(setup=setup).outcome == "send"


def test_no_message_no_gateway_and_a_paused_one_hold_the_send():
    assert "not published" in decide(setup=made.setup(messages={})).reason
    assert "no gateway “mailroom”" in decide(setup=made.setup(gateways={})).reason
    assert "Mailroom is paused" in decide(setup=made.setup(gateways={"mailroom": made.gateway(paused=True)})).reason


def test_once_per_order_skips_the_second():
    sent_for_order = Facts(frozenset({("received", "shop", "4711")}))
    decision = decide(facts=sent_for_order)
    assert (decision.outcome, decision.send.state) == ("skipped", State.SKIPPED)
    assert "already sent for order BK-7" in decision.reason
    setup = made.setup(routes=[ActiveRoute(made.route(once="event"), LONG_AGO)])
    assert decide(facts=sent_for_order, setup=setup).outcome == "send"


def test_a_locale_falls_back_step_by_step():
    message = made.message()
    assert [message.locale_for("email", tag) for tag in ("de-AT", "DE", "fr", None, "en_GB")] == [
        "de",
        "de",
        "en",
        "en",
        "en",
    ]
    assert made.message(email={}).locale_for("email", "en") is None


def test_a_reader_abroad_gets_the_text_of_their_country():
    english = made.message().email["en"]
    message = made.message(email={"en": english, "en-AU": english.model_copy(update={"subject": "G’day"})})
    around = made.setup(messages={"received": message}, routes=[ActiveRoute(made.route(), LONG_AGO)])
    for country, locale in (("AU", "en-AU"), ("IE", "en"), ("", "en")):
        payload = made.order(language="en", buyer={"name": "Jo", "email": "jo@example.org", "country": country})
        reading, variables = work_out(around.sources["shop"], around, payload)
        event = Event("ev", "order.created", "placed", "shop", payload, NOON)
        (decision,) = plan(event, reading, variables, around, Facts(), NOON)
        assert decision.send.locale == locale


def test_the_reading_tells_internal_reference_from_customer_facing_number():
    setup = made.setup()
    reading, _ = work_out(setup.sources["shop"], setup, made.order())
    assert (reading.reference, reading.number) == ("4711", "BK-7")
    order = reading.order()
    assert [(line["name"], show(line["price"], "en"), line["quantity"]) for line in order["lines"]] == [
        ("Heron", "€119.00", 1),
        ("line", "€5.00", 2),
    ]
    assert order["parcels"] == []
    assert reading.moment("placed_at") == dt.datetime(2026, 11, 3, 9, 41, 7, tzinfo=dt.UTC)


@pytest.mark.parametrize(
    "payload", [None, 5, "x", [], {}, {"lines": 3, "buyer": []}, {"id": {}, "lines": [None, 1, {}]}]
)
def test_reading_anything_never_raises(payload):
    setup = made.setup()
    reading, _ = work_out(setup.sources["shop"], setup, payload)
    assert isinstance(reading.problems(), list)
    assert reading.order()["lines"] is not None
