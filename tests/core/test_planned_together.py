"""Routes planned together decide as each would alone: what they ask alike is worked out once, and nothing leaks."""

import datetime as dt

from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.planning.inputs import ActiveRoute, Contact, Event, Facts, PriorSend
from angelon.core.planning.plan import decide, plan, prior_send_of, work_out
from angelon.core.states import State
from tests import made
from tests.core.test_routes_planned import setup
from tests.made import LONG_AGO, NOON

compares = st.sampled_from(
    [
        {"of": "total", "op": "at_least", "value": "50"},
        {"of": "total", "op": "less", "value": "50"},
        {"of": "order.country", "op": "one_of", "values": ["DE", "IE"]},
        {"of": "gone", "op": "present"},
        {"of": "contact.orders", "op": "greater", "value": "1"},
        {"of": "history.events", "which": "count", "op": "at_least", "value": "1"},
        {"of": "lines", "which": "any", "item": "sku", "op": "is", "value": "X"},
        {"of": "total", "op": "is", "value": "much"},
    ]
)
specs = st.fixed_dictionaries(
    {
        "only_if": st.fixed_dictionaries(
            {"join": st.sampled_from(["all", "any", "none"]), "of": st.lists(compares, max_size=3)}
        ),
        "when": st.sampled_from([["order.created"], ["order.paid"], ["order.created", "order.paid"]]),
        "send": st.sampled_from(["received", "nothing", ""]),
        "to": st.lists(
            st.sampled_from(
                ["customer", "role owner", "role nobody", "path $.buyer.email", "address shop@kites.example"]
            ),
            max_size=2,
            unique=True,
        ),
        "timing": st.sampled_from(
            [
                {},
                {"amount": 3, "unit": "hours"},
                {"anchor": "previous", "amount": 1, "unit": "hours"},
                {"window": {"start": "20:00", "end": "06:00"}, "zone": "store"},
            ]
        ),
        "guards": st.sampled_from(
            [
                {},
                {"even_if_notified": True},
                {"caps": [{"most": 2, "per": "order", "days": 0}]},
                {"skip_refunded": True},
            ]
        ),
        "fallback": st.sampled_from([{}, {"options": [{"gateway": "line", "channel": "sms"}]}]),
        "way": st.sampled_from([("mailroom", "email"), ("line", "sms"), ("gone", "email")]),
        "priority": st.integers(0, 3),
        "once": st.sampled_from(["order", "event", "customer"]),
    }
)
orders = st.sampled_from(
    [
        made.order(),
        made.order(total="12.00"),
        made.order(buyer={"name": "Jo", "country": "JP", "phone": "+353209150001"}),
        made.order(buyer={"name": "", "email": "no address"}),
        {"unlike": "an order"},
    ]
)
facts = st.sampled_from(
    [
        Facts(),
        Facts(contact=Contact(orders=4, language="de"), types=(("order.created", NOON), ("payment.refunded", NOON))),
        Facts(
            prior_sends=(
                PriorSend(
                    "r0", "email", "joerg@example.org", NOON - dt.timedelta(hours=2), NOON - dt.timedelta(hours=1), True
                ),
            ),
            suppressed={"email:joerg@example.org": "asked for it."},
        ),
    ]
)


def made_route(number, spec):
    to = [{"kind": kind, "who": who} for kind, _, who in (one.partition(" ") for one in spec["to"])]
    gateway, channel = spec["way"]
    spec = {name: value for name, value in spec.items() if name != "way"} | {"gateway": gateway, "channel": channel}
    return made.route(**(spec | {"key": f"r{number}", "name": f"Route {number}", "to": to}))


@settings(max_examples=150, deadline=None)
@given(st.lists(specs, min_size=1, max_size=5), orders, facts)
def test_routes_planned_together_decide_as_each_would_alone(given_specs, payload, before):
    routes = [made_route(number, spec) for number, spec in enumerate(given_specs)]
    around = setup(*routes)
    event = Event("ev-1", "order.created", "placed", "shop", payload, NOON)
    together = plan(event, *work_out(around.sources["shop"], around, payload), around, before, NOON)
    assert [decision.route for decision in together] == [route.key for route in routes]
    now_known = before
    for place in sorted(range(len(routes)), key=lambda place: routes[place].priority):
        alone = decide(
            event,
            *work_out(around.sources["shop"], around, payload),
            ActiveRoute(routes[place], LONG_AGO),
            around,
            now_known,
            NOON,
        )
        assert alone == together[place]
        label = tuple(prior_send_of(send, event, NOON) for send in alone.sends if send.state is not State.SKIPPED)
        now_known = now_known.after(label) if label else now_known


@settings(max_examples=50, deadline=None)
@given(specs, orders, facts)
def test_a_decision_is_the_same_however_often_it_is_made_and_its_reason_stands_in_its_trace(spec, payload, before):
    route = made_route(0, spec)
    around = setup(route)
    event = Event("ev-1", "order.created", "placed", "shop", payload, NOON)
    reading, variables = work_out(around.sources["shop"], around, payload)
    first = decide(event, reading, variables, ActiveRoute(route, LONG_AGO), around, before, NOON)
    assert first == decide(event, reading, variables, ActiveRoute(route, LONG_AGO), around, before, NOON)
    whys = [line.why for line in first.trace]
    assert all(line.why for line in first.trace if line.verdict in ("no", "problem"))
    if first.outcome == "send":
        assert not any(line.verdict == "problem" for line in first.trace if line.part in ("when", "from", "if"))
    else:
        assert first.reason
        assert first.reason in whys
    for send in first.sends:
        assert send.due_at >= NOON
        assert bool(send.reason) == (send.state is not State.SCHEDULED)
