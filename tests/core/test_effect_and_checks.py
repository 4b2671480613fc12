"""What a change does to an event, and checks against what comes out: each difference worked out by hand."""

import datetime as dt

import pytest

from angelon.core.planning.checking import expected_of, run, text_of, with_changes
from angelon.core.planning.effect import compare
from angelon.core.planning.inputs import ActiveRoute, Event, Facts
from angelon.core.planning.plan import decide, work_out
from angelon.core.planning.rehearsal_history import RehearsalHistory
from angelon.core.planning.sentence import describe_fallback, describe_guards, describe_once, describe_recipients
from angelon.core.specs.check import Check
from tests import made
from tests.made import LONG_AGO, NOON

SETUP = made.setup()


def decided(route, payload=None, facts=None, at=NOON):
    event = Event("ev", "order.created", "placed", "shop", payload or made.order(), at)
    reading, variables = work_out(SETUP.sources["shop"], SETUP, event.payload)
    return decide(event, reading, variables, ActiveRoute(route, LONG_AGO), SETUP, facts or Facts(), at)


def changes(was, now, payload=None):
    return [(change.kind, change.parts) for change in compare(decided(was, payload), decided(now, payload))]


NEVER = {"of": [{"of": "total", "op": "less", "value": "1"}]}
OTHER = [{"kind": "address", "who": "else@example.org"}]


@pytest.mark.parametrize(
    ("was", "now", "found"),
    [
        ({}, {}, [("same", [])]),
        ({}, {"timing": {"amount": 5}}, [("changed", ["time"])]),
        ({}, {"only_if": NEVER}, [("gone", [])]),
        ({"only_if": NEVER}, {}, [("new", [])]),
        ({"only_if": NEVER}, {"only_if": NEVER}, []),
        ({}, {"to": OTHER}, [("gone", []), ("new", [])]),
        ({}, {"to": [{"kind": "customer"}, *OTHER]}, [("same", []), ("new", [])]),
        ({}, {"timing": {"not_after": "2026-01-01"}}, [("gone", [])]),
        ({}, {"gateway": "nowhere"}, [("changed", ["gateway", "state"])]),
    ],
)
def test_a_change_is_the_same_new_gone_or_changed(was, now, found):
    assert changes(made.route(**was), made.route(**now)) == found


def test_why_something_is_gone_is_told():
    (change,) = compare(decided(made.route()), decided(made.route(only_if=NEVER)))
    assert change.why == "Total is less than 1 does not hold: it is €135.50."


def test_a_rehearsal_remembers_what_it_itself_has_said():
    past, route = RehearsalHistory(), made.route(once="customer", once_days=2)
    event = Event("ev", "order.created", "placed", "shop", made.order(), NOON)

    def spoke(days):
        at = NOON + dt.timedelta(days=days)
        decision = decided(route, facts=past.facts(Facts(), event, f"order-{days}", "jo", f"d{days}"), at=at)
        past.note(decision, event, f"order-{days}", "jo", f"d{days}", at)
        return decision.outcome

    assert [spoke(days) for days in (0, 1, 2, 3)] == ["send", "skipped", "send", "skipped"]
    facts = past.facts(Facts(), event, "order-0", "jo", "d0")
    assert [one.route for one in facts.same_delivery] == ["received"]
    assert facts.sent_for_order == {("received", "shop", "order-0")}
    assert past.facts(Facts(), event, "order-9", "else", "d9") == Facts()


# ---- checks


def check(**changes):
    base = Check(
        key="c",
        name="First",
        route="received",
        source="shop",
        type="order.created",
        event="placed",
        at=NOON,
        payload=made.order(),
    )
    return expected_of(base.model_copy(update=changes), made.route(), SETUP, ("customer_name",))


def differences(check_, route=None, setup=SETUP):
    return run(check_, {"received": route or made.route()}, setup).differences


def test_a_check_that_was_kept_is_green_and_says_what_must_come_out():
    kept = check()
    (send,) = kept.sends
    assert (kept.outcome, send.recipient, send.locale, send.after_seconds, send.values) == (
        "send",
        "joerg@example.org",
        "de",
        0,
        {"customer_name": "Jörg"},
    )
    assert send.text.startswith("Danke, Jörg\n\n")
    assert differences(kept) == []
    assert Check.model_validate(kept.plain()) == kept


def test_each_difference_is_a_line_to_read():
    kept = check()
    assert differences(kept, made.route(timing={"amount": 90})) == [
        "- send: due at once",
        "+ send: due 1 hour 30 minutes after the event",
    ]
    assert differences(kept, made.route(only_if=NEVER)) == [
        "- outcome: send",
        "+ outcome: no",
        "- send: to joerg@example.org by email, which does not come",
    ]
    assert "+ send 2: to else@example.org by email, which was not expected" in differences(
        kept, made.route(to=[{"kind": "customer"}, *OTHER])
    )
    assert "+ send: There is no gateway “nowhere”." in differences(kept, made.route(gateway="nowhere"))


def test_every_word_some_parts_or_nothing_of_the_text_may_count():
    blocks = [{"kind": "text", "text": "You bought {{ items }} for {{ total }}."}]
    other = made.message(email={"de": {"subject": "Danke, {{ customer_name }}", "blocks": blocks}})
    around = with_changes(SETUP, other)
    assert any(line.startswith("+ send: You bought") for line in differences(check(), setup=around))
    kept = check().model_copy(update={"texts": "parts"})
    kept.sends[0].contains = ["135,50", "You   bought"]
    assert differences(kept, setup=around) == []
    kept.sends[0].contains = ["You ordered"]
    assert differences(kept, setup=around) == ["- send: “You ordered” does not stand in the text"]
    assert differences(check().model_copy(update={"texts": "none"}), setup=around) == []


def test_a_check_without_its_route_or_source_is_red_with_the_reason():
    assert run(check(), {}, SETUP).differences == ["There is no route “received” any more."]
    assert differences(check().model_copy(update={"source": "gone"})) == ["There is no source “gone” any more."]


def test_what_can_t_be_made_has_no_text():
    assert text_of(decided(made.route(send="nowhere")).sends[0], SETUP) == ""


# ---- in words


def test_a_route_is_said_in_words():
    route = made.route(
        to=[{"kind": "customer"}, {"kind": "role", "who": "owner"}],
        once="customer",
        once_days=30,
        guards={
            "caps": [{"most": 1, "per": "order", "days": 0}],
            "skip_discounted": True,
            "skip_refunded": True,
            "after_route": "hello",
            "after_answer": True,
            "even_if_notified": True,
        },
        fallback={
            "options": [{"gateway": "line", "channel": "sms"}, {"gateway": "line", "channel": "sms", "send": "short"}],
            "within_minutes": 90,
            "tell": "owner",
        },
    )
    assert describe_recipients(route) == "the customer and the owner"
    assert describe_once(route) == "once per customer in 30 days"
    assert describe_guards(route, {"hello": "Hello"}) == (
        "only after “Hello”, only after the customer’s answer, at most 1 message per order, not for discounted or "
        "refunded orders, even if another route tells them"
    )
    assert describe_fallback(route, {"line": "Text line"}, {"short": "Short"}) == (
        "if it is not out in 1 hour 30 minutes, SMS through Text line, then SMS through Text line with “Short”, "
        "then tell the owner"
    )
    plain = made.route()
    assert (
        describe_recipients(plain),
        describe_once(plain),
        describe_guards(plain, {}),
        describe_fallback(plain, {}, {}),
    ) == (
        "the customer",
        "once per order",
        "",
        "",
    )
