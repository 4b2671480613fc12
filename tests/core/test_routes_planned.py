"""Routes planned whole: conditions, recipients, timing, guards, other ways; each worked out by hand."""

import datetime as dt

import pytest

from angelon.core.planning.inputs import ActiveRoute, Answer, Contact, Event, Facts, PriorSend
from angelon.core.planning.plan import decide, plan, plan_fallback, work_out
from angelon.core.planning.readiness import problems_of
from angelon.core.specs.recipients import Recipient
from angelon.core.states import State
from tests import made
from tests.made import LONG_AGO, NOON

TEAM = [
    {"name": "Nuala", "role": "owner", "email": "nuala@kites.example", "phone": "+353209150001"},
    {"name": "Tomas", "role": "developer", "email": "tomas@kites.example"},
]
TEXT = made.message().model_copy(update={"sms": {}}).model_dump(mode="json") | {
    "sms": {"en": {"text": "Order of {{ customer_name }}"}}
}
LINE = {
    "key": "line",
    "name": "Text line",
    "kind": "sms",
    "sender_id": "Kites",
    "call": {"url": "https://sms.example/send", "body": '{"text": {{ text | json }}}'},
}


def setup(*routes, **changes):
    spec = {
        "store": made.store().model_copy(
            update={"team": made.store().model_validate(made.store().model_dump() | {"team": TEAM}).team}
        ),
        "sources": {
            "shop": made.source(
                reading=made.source().model_dump(mode="json")["reading"]
                | {"phone": "$.buyer.phone", "discount": "$.off"}
            )
        },
        "messages": {"received": made.Message.model_validate(TEXT)},
        "gateways": {"mailroom": made.gateway(), "line": made.Gateway.model_validate(LINE)},
        "routes": [ActiveRoute(route, LONG_AGO) for route in routes],
    }
    return made.setup(**(spec | changes))


def decided(route, payload=None, facts=None, now=NOON, manual=False, setup_=None, **event):
    around = setup_ or setup(route)
    spec = {
        "id": "ev-1",
        "type": "order.created",
        "name": "placed",
        "source": "shop",
        "payload": payload or made.order(),
        "received_at": NOON,
    }
    happened = Event(**(spec | event))
    reading, variables = work_out(around.sources["shop"], around, happened.payload)
    return decide(happened, reading, variables, ActiveRoute(route, LONG_AGO), around, facts or Facts(), now, manual)


def line(decision, part):
    return next(line for line in decision.trace if line.part == part)


def only_if(*compares, join="all"):
    return made.route(
        only_if={"join": join, "of": [{"of": of, "op": op, "value": value} for of, op, value in compares]}
    )


# ---- if


def test_a_condition_that_holds_lets_the_route_speak_and_shows_the_value():
    decision = decided(only_if(("total", "at_least", "100")))
    assert decision.outcome == "send"
    assert line(decision, "if").saw == "total is at least 100: €135.50"


def test_a_condition_that_does_not_hold_is_a_no_with_the_value_it_saw():
    decision = decided(only_if(("total", "at_least", "200")))
    assert (decision.outcome, decision.sends) == ("no", [])
    assert decision.reason == "Total is at least 200 does not hold: it is €135.50."


def test_a_condition_on_a_variable_that_was_deleted_holds_the_send_with_the_reason():
    decision = decided(only_if(("gone_variable", "present", "")))
    assert decision.send.state is State.HELD
    assert decision.send.reason == "There is no variable “gone_variable” any more."


def test_the_customer_s_history_and_segments_are_asked():
    route = only_if(("contact.orders", "at_least", "2"))
    assert decided(route).outcome == "no"
    assert decided(route, facts=Facts(contact=Contact(2))).outcome == "send"
    store = made.store().model_validate(
        made.store().model_dump()
        | {
            "segments": [
                {
                    "key": "regulars",
                    "name": "Regulars",
                    "holds": {"of": [{"of": "contact.orders", "op": "at_least", "value": "3"}]},
                }
            ]
        }
    )
    within = only_if(("segment.regulars", "yes", ""))
    assert decided(within, facts=Facts(contact=Contact(3)), setup_=setup(within, store=store)).outcome == "send"
    sent_for_order = decided(within, facts=Facts(contact=Contact(2)), setup_=setup(within, store=store))
    assert sent_for_order.reason == "It does not hold that the customer is in “regulars”."
    assert "no audience" in decided(within).send.reason


# ---- to


def test_each_recipient_gets_a_send_of_its_own_and_nobody_two():
    to = [
        {"kind": "customer"},
        {"kind": "role", "who": "Owner"},
        {"kind": "address", "who": "nuala@kites.example"},
        {"kind": "path", "who": "$.seller[*]"},
    ]
    decision = decided(made.route(to=to), made.order(seller=["a@example.com", "b@example.com"]))
    assert [(send.recipient, send.to, send.locale) for send in decision.sends] == [
        ("joerg@example.org", "customer", "de"),
        ("nuala@kites.example", "role:Owner", "en"),
        ("a@example.com", "path:$.seller[*]", "de"),
        ("b@example.com", "path:$.seller[*]", "de"),
    ]
    assert decision.outcome == "send"


@pytest.mark.parametrize(
    ("to", "why"),
    [
        ([], "The route has no recipient."),
        ([{"kind": "role", "who": "packer"}], "Nobody of the shop has the role “packer”."),
        ([{"kind": "path", "who": "$.seller"}], "There is nothing at $.seller in this event."),
        ([{"kind": "address", "who": "not an address"}], "“not an address” is no email address"),
    ],
)
def test_a_recipient_without_an_address_holds_the_send_with_the_reason(to, why):
    decision = decided(made.route(to=to))
    assert decision.outcome == "held"
    assert why in decision.send.reason


def test_the_language_is_the_order_s_else_the_customer_s_else_their_country_s_where_the_shop_speaks_it():
    store = made.store().model_validate(made.store().model_dump() | {"locales": ["de", "fr"]})

    def locale(payload, known=None):
        return decided(made.route(), payload, Facts(contact=known), setup_=setup(made.route(), store=store)).send.locale

    plain = made.order(language=None)
    assert locale(made.order()) == "de"
    assert locale(plain, Contact(language="de-AT")) == "de"
    assert locale(plain) == "de"
    assert locale(made.order(language=None, buyer={"name": "A", "email": "a@example.org", "country": "JP"})) == "en"


# ---- timing


def test_a_delay_and_a_window_in_the_reader_s_hours_say_when_and_why():
    decision = decided(made.route(timing={"amount": 10, "window": {"start": "08:00", "end": "12:00"}}))
    assert decision.send.due_at == dt.datetime(
        2026, 11, 4, 7, 0, tzinfo=dt.UTC
    )  # noon UTC is 13:00 in Berlin: the next morning at 8
    assert (
        line(decision, "timing").saw
        == "10 minutes after the event, moved into the window 08:00 to 12:00: 4 November 08:00, the time in Berlin"
    )


def test_after_the_last_day_nothing_goes_out():
    decision = decided(made.route(timing={"not_after": "2026-11-02"}))
    assert (decision.outcome, decision.send.state) == ("skipped", State.SKIPPED)
    assert "the last day" in decision.reason


def test_the_previous_message_is_an_anchor():
    before = PriorSend(
        "other", "email", "joerg@example.org", NOON - dt.timedelta(days=1), NOON - dt.timedelta(hours=2), True
    )
    decision = decided(
        made.route(timing={"anchor": "previous", "amount": 5, "unit": "hours"}), facts=Facts(prior_sends=(before,))
    )
    assert decision.send.due_at == NOON + dt.timedelta(hours=3)


# ---- guards


def guarded(**guards):
    return made.route(guards=guards)


def prior_sends(route="other", minutes=0, channel="email", address="joerg@example.org", out=True, message="received"):
    at = NOON - dt.timedelta(minutes=minutes)
    return PriorSend(route, channel, address, at, at, out, message=message)


@pytest.mark.parametrize(
    ("route", "facts", "payload", "why"),
    [
        (guarded(skip_discounted=True), Facts(), made.order(off="10.00"), "The order was discounted"),
        (
            guarded(skip_refunded=True),
            Facts(types=(("payment.refunded", NOON),)),
            None,
            "The order was refunded on 3 November 2026",
        ),
        (
            guarded(after_route="hello"),
            Facts(prior_sends=(prior_sends("hello", out=False),)),
            None,
            "It is sent only after “hello” has",
        ),
        (guarded(after_answer=True), Facts(), None, "no answer has come"),
        (
            guarded(after_route="hello", after_answer=True),
            Facts(prior_sends=(prior_sends("hello", 5),), answers=(Answer("Yes", NOON - dt.timedelta(minutes=9)),)),
            None,
            "no answer has come",
        ),
        (
            guarded(caps=[{"most": 2, "per": "customer", "days": 1}]),
            Facts(sent_to_customer=(NOON - dt.timedelta(hours=23), NOON)),
            None,
            "2 messages for the customer in 1 day, and 2 is the most",
        ),
        (
            guarded(caps=[{"most": 1, "per": "order", "days": 0}]),
            Facts(prior_sends=(prior_sends(minutes=9999),)),
            None,
            "1 messages for order BK-7",
        ),
        (
            guarded(),
            Facts(suppressed={"email:joerg@example.org": "it bounced."}),
            None,
            "joerg@example.org must not be written to: it bounced.",
        ),
        (
            guarded(),
            Facts(same_delivery=(prior_sends("other", 3),)),
            None,
            "The route “other” already tells joerg@example.org by email about this.",
        ),
    ],
)
def test_a_guard_says_no_with_the_reason_and_the_send_is_kept_as_skipped(route, facts, payload, why):
    decision = decided(route, payload, facts)
    assert (decision.outcome, decision.send.state) == ("skipped", State.SKIPPED)
    assert why in decision.send.reason
    assert [line.why for line in decision.trace if line.part == "guards" and line.verdict == "no"] == [
        decision.send.reason
    ]


@pytest.mark.parametrize(
    ("route", "facts"),
    [
        (guarded(skip_discounted=True, skip_refunded=True), Facts()),
        (
            guarded(after_route="hello", after_answer=True),
            Facts(prior_sends=(prior_sends("hello", 9),), answers=(Answer("Yes", NOON - dt.timedelta(minutes=5)),)),
        ),
        (
            guarded(caps=[{"most": 2, "per": "customer", "days": 1}]),
            Facts(sent_to_customer=(NOON - dt.timedelta(hours=25), NOON)),
        ),
        (guarded(), Facts(suppressed={"phone:+49301234": "no"})),
        (
            guarded(),
            Facts(
                same_delivery=(
                    prior_sends("other", 30),
                    prior_sends("other", 1, "sms"),
                    prior_sends("other", 1, address="else@example.org"),
                )
            ),
        ),
        (guarded(even_if_notified=True), Facts(same_delivery=(prior_sends("other", 3),))),
        (guarded(), Facts(same_delivery=(prior_sends("other", 3, message="care"),))),
        (guarded(), Facts(same_delivery=(prior_sends("other", 3, message=""),))),
    ],
)
def test_guards_that_have_nothing_to_say_let_it_pass(route, facts):
    assert decided(route, facts=facts).outcome == "send"


def test_consent_is_needed_where_the_store_says_so():
    store = made.store().model_validate(made.store().model_dump() | {"team": TEAM, "consent": {"email": "gift_note"}})
    source = setup().sources["shop"]
    asked = source.model_copy(
        update={
            "recipes": source.recipes
            | {"gift_note": made.source(recipes={"gift_note": "$.agrees"}).recipes["gift_note"]}
        }
    )
    around = setup(made.route(), store=store, sources={"shop": asked})
    assert decided(made.route(), made.order(agrees=True), setup_=around).outcome == "send"
    for no in (False, "no", None, ""):
        assert "has not agreed to email" in decided(made.route(), made.order(agrees=no), setup_=around).reason
    owner = made.route(to=[{"kind": "role", "who": "owner"}])
    assert decided(owner, made.order(agrees=False), setup_=around).outcome == "send"


def test_of_two_routes_that_would_tell_the_same_the_lower_rank_speaks():
    first, second = made.route(key="first", priority=1), made.route(key="second", name="Second", priority=0)
    around = setup(first, second)
    event = Event("ev", "order.created", "placed", "shop", made.order(), NOON)
    reading, variables = work_out(around.sources["shop"], around, event.payload)
    one, two = plan(event, reading, variables, around, Facts(), NOON)
    assert (one.route, one.outcome, two.route, two.outcome) == ("first", "skipped", "second", "send")
    assert "“Second” already tells" in one.reason


def test_another_text_of_the_same_news_is_one_too_many_and_other_news_is_not():
    texts = {
        key: made.message(key=key, name=key, tells_of=news)
        for key, news in (("received", "order.created"), ("twin", "order.created"), ("care", ""))
    }
    around = setup(made.route(), messages=texts)
    told = decided(made.route(), facts=Facts(same_delivery=(prior_sends(message="twin"),)), setup_=around)
    assert (told.send.state, "already tells" in told.reason) == (State.SKIPPED, True)
    care = decided(
        made.route(send="care"), facts=Facts(same_delivery=(prior_sends(message="received"),)), setup_=around
    )
    assert care.outcome == "send"


def test_once_per_customer_forgets_after_its_days():
    route = made.route(once="customer", once_days=30)
    at = {"received": NOON - dt.timedelta(days=29)}
    assert "it sends once per customer in 30 days" in decided(route, facts=Facts(last_sent_to_customer=at)).reason
    assert (
        decided(route, facts=Facts(last_sent_to_customer={"received": NOON - dt.timedelta(days=30)})).outcome == "send"
    )
    assert (
        decided(
            made.route(once="customer"), facts=Facts(last_sent_to_customer={"received": NOON - dt.timedelta(days=3000)})
        ).outcome
        == "skipped"
    )


# ---- otherwise


WAYS = {"options": [{"gateway": "line", "channel": "sms"}], "tell": "owner"}


def test_somebody_without_an_address_is_reached_by_the_next_way():
    payload = made.order(buyer={"name": "Jo", "email": "", "phone": "+49 30 23125014", "country": "DE"})
    decision = decided(made.route(fallback=WAYS), payload)
    assert (decision.outcome, decision.send.channel, decision.send.recipient, decision.send.step) == (
        "send",
        "sms",
        "+493023125014",
        1,
    )
    assert line(decision, "fallback").saw.endswith("So by SMS.")
    neither = decided(made.route(fallback=WAYS), made.order(buyer={"name": "Jo"}))
    assert (neither.outcome, neither.send.step) == ("held", 0)


def test_the_next_way_after_a_failure_is_planned_by_the_same_rules():
    route = made.route(fallback=WAYS, timing={"amount": 3, "unit": "days"})
    around = setup(route)
    payload = made.order(buyer={"name": "Jo", "email": "jo@example.org", "phone": "+49 30 23125014", "country": "DE"})
    event = Event("ev", "order.created", "placed", "shop", payload, NOON)
    reading, variables = work_out(around.sources["shop"], around, payload)

    def instead(step, facts=None, **more):
        return plan_fallback(
            event, reading, variables, route, around, facts or Facts(), NOON, Recipient(), step, "Given up.", **more
        )

    assert (instead(0).channel, instead(0).recipient, instead(0).due_at, instead(0).state) == (
        "sms",
        "+493023125014",
        NOON,
        State.SCHEDULED,
    )
    assert instead(1) is None
    assert instead(0, Facts(suppressed={"phone:+493023125014": "no"})).state is State.SKIPPED
    told = Facts(same_delivery=(prior_sends("other", 3, "sms", address="+493023125014"),))
    assert instead(0, told).state is State.SKIPPED
    assert instead(0, told, manual=True).state is State.SCHEDULED  # somebody chose the order


def test_by_hand_a_route_takes_any_event_and_waits_for_nothing_but_the_hours():
    route = made.route(
        when=["parcel.delivered"], timing={"amount": 3, "unit": "days", "window": {"start": "08:00", "end": "20:00"}}
    )
    assert decided(route).outcome == "no"
    decision = decided(route, manual=True)
    assert (decision.outcome, decision.send.due_at) == ("send", NOON)


# ---- before it goes live


@pytest.mark.parametrize(
    ("route", "part", "label"),
    [
        (made.route(to=[]), "to", "has no recipient"),
        (made.route(to=[{"kind": "role", "who": "packer"}]), "to", "Nobody of the shop has the role “packer”"),
        (made.route(to=[{"kind": "address", "who": "+353209150001"}]), "to", "is no email address"),
        (only_if(("gone_variable", "present", "")), "if", "looks at “gone_variable”, which is not there any more"),
        (
            made.route(fallback={"options": [{"gateway": "mailroom", "channel": "email"}]}),
            "fallback",
            "goes in a circle",
        ),
        (
            made.route(
                fallback={"options": [{"gateway": "line", "channel": "sms"}, {"gateway": "line", "channel": "sms"}]}
            ),
            "fallback",
            "goes in a circle",
        ),
        (
            made.route(fallback={"options": [{"gateway": "nowhere", "channel": "sms"}]}),
            "fallback",
            "no gateway “nowhere”",
        ),
        (made.route(fallback={"tell": "packer"}), "fallback", "has an email address"),
        (made.route(guards={"after_route": "received"}), "guards", "waits for itself"),
        (made.route(guards={"after_route": "gone"}), "guards", "no such route any more"),
        (made.route(timing={"anchor": "expected", "variable": "gone_day"}), "timing", "no such variable any more"),
        (made.route(timing={"not_after": "2026-11-02"}), "timing", "has passed"),
        (made.route(when=[]), "when", "No event is chosen"),
    ],
)
def test_what_keeps_a_route_off_is_said_at_its_part(route, part, label):
    found = problems_of(route, setup(), {"received": "Received"}, NOON.date())
    assert any(problem.where == part and label in problem.what and problem.severity == "error" for problem in found), (
        found
    )


def test_a_sound_route_has_nothing_to_say_and_an_echo_is_a_warning():
    assert problems_of(made.route(fallback=WAYS), setup(), {"received": "Received"}, NOON.date()) == []
    (echo,) = problems_of(made.route(key="second"), setup(made.route()))
    assert echo.severity == "warning"
    assert "“Received” tells the customer by email about the same event" in echo.what
    later = made.route(key="second", timing={"amount": 1, "unit": "days"})
    assert problems_of(later, setup(made.route())) == []


# ---- no address, orders under way


def test_without_an_address_a_send_is_held_or_skipped_as_the_route_says():
    nobody = made.order(buyer={"name": "Jörg", "email": ""})
    held = decided(made.route(), nobody)
    assert (held.outcome, held.send.state) == ("held", State.HELD)
    skipped = decided(made.route(fallback={"no_address": "skip"}), nobody)
    assert (skipped.outcome, skipped.send.state) == ("skipped", State.SKIPPED)
    assert skipped.reason.endswith("The route skips those.")
    assert decided(made.route(fallback={"no_address": "skip"})).outcome == "send"


def test_a_route_for_new_orders_leaves_those_under_way_alone():
    """It was switched on at noon: an order placed before is under way, whatever happens to it later."""
    route = made.route(only_new_orders=True, when=["order.updated", "order.created"])
    around = setup(route)

    def came(placed, type_="order.updated", route=route):
        event = Event("ev", type_, "changed", "shop", made.order(placed_at=placed), NOON + dt.timedelta(hours=2))
        reading, variables = work_out(around.sources["shop"], around, event.payload)
        return decide(
            event, reading, variables, ActiveRoute(route, NOON), around, Facts(), NOON + dt.timedelta(hours=2)
        )

    before, after = (NOON - dt.timedelta(hours=1)).isoformat(), (NOON + dt.timedelta(hours=1)).isoformat()
    early = came(before)
    assert early.outcome == "no"
    assert "is for orders placed since" in early.reason
    assert came(after).outcome == "send"
    assert came("").outcome != "no", "an order that does not say when it was placed is not kept out"
    assert came(before, "order.created").outcome == "send", "told late, it is still a new order"
    assert came(before, route=made.route(when=["order.updated"])).outcome == "send"
