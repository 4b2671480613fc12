"""What a rehearsal shows is what the worker does, for random events and routes; and guards hold in whatever order
things happen.
"""

import datetime as dt
import random
from itertools import chain

import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from angelon.core.specs import Route, Variable
from angelon.db.log.events import in_order
from angelon.db.people import suppressions
from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from angelon.engine.past.rehearsals import Span, rehearse, rehearse_fallbacks, rehearse_one
from angelon.engine.planner import Planner
from angelon.gateways.interface import Outcome
from tests import made
from tests.engine.test_fallbacks import PHONE, Shop

NAMES = {
    "placed": "order.created",
    "changed": "order.updated",
    "paid": "order.paid",
    "back": "return.received",
    "refund": "payment.refunded",
    "gone": "order.cancelled",
}
PEOPLE = [
    PHONE,
    {"name": "Mio", "email": "mio@example.org", "country": "JP"},
    {"name": "", "email": "nobody@example.org"},
    {"name": "Al", "email": "al@@example"},
]
BUYERS = {1: PEOPLE[0], 2: PEOPLE[0], 3: PEOPLE[1], 4: PEOPLE[2], 5: PEOPLE[3]}
"""Whose each order is; two are the same person's."""

events = st.lists(
    st.fixed_dictionaries(
        {
            "event": st.sampled_from(sorted(NAMES)),
            "id": st.integers(1, 5),
            "total": st.sampled_from(["5.00", "80.00"]),
            "state": st.sampled_from(["paid", "packed", "shipped"]),
            "sku": st.sampled_from(["K-1", "K-2"]),
            "minutes": st.integers(1, 700),
        }
    ),
    min_size=1,
    max_size=8,
)
compares = st.sampled_from(
    [
        {"of": "total", "op": "at_least", "value": "50"},
        {"of": "contact.orders", "op": "at_least", "value": "2"},
        {"of": "history.events", "which": "none", "op": "is", "value": "order.paid"},
        {"of": "history.statuses", "which": "any", "op": "is", "value": "packed"},
        {"of": "status", "op": "changed"},
        {"of": "contact.returned", "op": "no"},
        {"of": "contact.spent", "op": "at_least", "value": "80"},
        {"of": "contact.products", "which": "any", "item": "sku", "op": "is", "value": "K-2"},
        {"of": "contact.country", "op": "is", "value": "DE"},
        {"of": "kept.last_state", "op": "is", "value": "packed"},
        {"of": "gone", "op": "present"},
    ]
)
routes = st.fixed_dictionaries(
    {
        "when": st.lists(
            st.sampled_from([*NAMES.values(), "order.status_changed", "parcel.picked_up"]),
            min_size=1,
            max_size=3,
            unique=True,
        ),
        "only_if": st.fixed_dictionaries(
            {"join": st.sampled_from(["all", "any", "none"]), "of": st.lists(compares, min_size=1, max_size=2)}
        )
        | st.just({}),
        "once": st.sampled_from(["order", "event", "customer"]),
        "once_days": st.sampled_from([0, 1]),
        "timing": st.sampled_from(
            [
                {},
                {"amount": 2, "unit": "hours"},
                {"amount": 1, "unit": "days", "at": "09:00"},
                {"window": {"start": "22:00", "end": "06:00"}},
                {"anchor": "previous", "amount": 1, "unit": "hours"},
            ]
        ),
        "guards": st.sampled_from(
            [
                {},
                {"skip_refunded": True},
                {"caps": [{"most": 1, "per": "customer", "days": 1}]},
                {"caps": [{"most": 2, "per": "order", "days": 0}]},
                {"even_if_notified": True},
            ]
        ),
        "to": st.sampled_from(
            [["customer"], [{"kind": "role", "who": "owner"}, "customer"], [{"kind": "path", "who": "$.buyer.email"}]]
        ),
        "fallback": st.sampled_from([{}, {"options": [{"gateway": "line", "channel": "sms"}]}]),
    }
)


def route_of(spec, **changes):
    to = [{"kind": "customer"} if one == "customer" else one for one in spec["to"]]
    return Route.model_validate(made.route().model_dump(mode="json") | spec | {"to": to} | changes)


def shown(sends):
    return [(s.recipient, s.channel, s.state.value, s.reason, s.due_at, s.to) for s in sends]


@pytest.fixture
def fresh(bench):
    """A shop whose events, orders and sends are taken away before each example."""
    shop = Shop(bench)
    bench.change(
        made.source(
            event_names=NAMES,
            reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"},
            recipes=made.source().model_dump(mode="json")["recipes"]
            | {"last_state": {"path": "$.state", "default": "unknown"}},
        ),
        SourceRow,
    )
    with bench.database.writing() as session:
        specs.save_variable(session, bench.store_id, Variable(name="last_state", keep=True))
    bench.services.setups.forget()
    started = shop.now

    def again():
        with bench.database.connection() as connection:
            for table in (
                "attempt",
                "content",
                "send",
                "event",
                '"order"',
                "contact_value",
                "contact",
                "shape",
                "suppression",
            ):
                connection.exec_driver_sql(f"DELETE FROM {table}")
        shop.now = started
        return shop

    return again


@settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
    phases=[Phase.explicit, Phase.generate],
    derandomize=True,
)
@given(events, routes)
def test_what_a_rehearsal_shows_is_what_the_worker_does(fresh, happened, spec):
    shop = fresh()
    route = route_of(spec)
    shop.publish(made_table(), route)
    for number, one in enumerate(happened):
        shop.later(minutes=one["minutes"])
        shop.deliver(
            f"d{number}",
            one["event"],
            id=one["id"],
            buyer=BUYERS[one["id"]],
            total=one["total"],
            state=one["state"],
            lines=[{"sku": one["sku"], "title": "A kite", "quantity": 1, "price": one["total"]}],
            changed_at=shop.now.isoformat(),
        )
        shop.bench.plan()
    did = {}
    for event_id, recipient, channel, state, reason, due, whom in shop.bench.rows(
        "SELECT event_id, recipient, channel, state, reason, due_at, whom FROM send ORDER BY rowid"
    ):
        at = dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(microseconds=due)
        did.setdefault(event_id, []).append((recipient, channel, state, reason, at, whom))
    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.reading() as session:
        came = [
            one for _, _, some in rehearse(session.connection(), live, {"now": route}, Span(), shop.now) for one in some
        ]
        alone = {
            row.id: rehearse_one(session.connection(), live, route, row)
            for row in in_order(session.connection(), [one.event_id for one in came])
        }
    assert {one.event_id: shown(one.decisions["now"].sends) for one in came if one.decisions["now"].sends} == did
    assert {event_id: shown(decision.sends) for event_id, decision in alone.items() if decision.sends} == did


def test_what_an_order_of_a_customer_says_counts_for_the_next_in_the_same_batch(fresh):
    """Whether planning takes events one by one or together, a customer is the same."""
    asked = [
        {"of": "contact.returned", "op": "yes"},
        {"of": "contact.spent", "op": "is", "value": "80"},
        {"of": "contact.products", "which": "count", "op": "is", "value": "2"},
        {"of": "kept.last_state", "op": "is", "value": "packed"},
    ]
    route = route_of({"once": "order", "only_if": {"of": asked}, "to": ["customer"]})
    for together in (False, True):
        shop = fresh()
        shop.publish(made_table(), route)
        said = [("placed", 1, "80.00", "packed"), ("placed", 3, "7.00", None), ("gone", 3, "7.00", None)]
        said += [("back", 1, "80.00", "packed"), ("placed", 2, "0.00", None)]
        for number, (event, id_, total, state) in enumerate(said):
            shop.deliver(f"d{number}", event, id=id_, buyer=PHONE, total=total, state=state)
            if not together:
                shop.bench.plan()
        shop.bench.plan()
        sent = """SELECT o.reference FROM send s JOIN "order" o ON o.id = s.order_id WHERE s.state = 'scheduled'"""
        assert shop.bench.rows(sent) == [("2",)], together


def test_a_rehearsed_fallback_is_what_the_worker_falls_back_to(fresh):
    """Whoever is reached by another way where the first fails, and which guards stop that: as it is rehearsed."""
    cases = [
        ({}, {}),
        ({"skip_discounted": True}, {"off": "5.00"}),
        ({"skip_refunded": True}, {}),
        ({"unless_answered": True}, {}),
        ({"caps": [{"most": 1, "per": "order", "days": 0}]}, {}),
    ]
    for guards, changes in cases:
        for buyer in BUYERS.values():
            for suppressed in (False, True):
                shop = fresh()
                route = route_of(
                    {"to": ["customer"]},
                    guards=guards,
                    fallback={"options": [{"gateway": "line", "channel": "sms"}]},
                )
                shop.publish(made_table(), route)
                shop.deliver("d1", "placed", id=1, buyer=buyer, **changes)
                shop.bench.plan()
                if suppressed:
                    with shop.bench.database.writing() as session:
                        key = f"phone:{PHONE['phone'].replace(' ', '')}"
                        suppressions.add(session, shop.bench.store_id, key, "stop.", shop.now)
                live = shop.bench.services.setups.get(shop.bench.store_id)
                with shop.bench.database.reading() as session:
                    connection = session.connection()
                    (event,) = [
                        row
                        for row in in_order(connection, [r[0] for r in shop.bench.rows("SELECT id FROM event")])
                        if row.type == "order.created"
                    ]
                    decision = rehearse_one(connection, live, route, event)
                    after = rehearse_fallbacks(connection, live, route, event, decision.sends)
                shop.ways["email"].outcome = Outcome("permanent", "550", "no such mailbox")
                shop.dispatch()
                shop.follow()
                shop.ways["email"].outcome = Outcome("accepted", "250", "taken")
                rows = shop.bench.rows(
                    "SELECT recipient, channel, state, reason FROM send WHERE step = 1 ORDER BY rowid"
                )
                first = [send for send in decision.sends if send.step == 1]
                shown_ = [
                    (s.recipient, s.channel, s.state.value, s.reason) for s in [*first, *chain.from_iterable(after)]
                ]
                assert [tuple(row) for row in rows] == shown_, (guards, buyer, suppressed)


def made_table():
    from angelon.db.tables import RouteRow

    return RouteRow


@settings(
    max_examples=30,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
    phases=[Phase.explicit, Phase.generate],
    derandomize=True,
)
@given(events, routes, st.integers(0, 10_000))
def test_guards_hold_in_whatever_order_things_happen(fresh, happened, spec, seed):
    shop = fresh()
    first = route_of(
        spec,
        guards={"caps": [{"most": 2, "per": "customer", "days": 1}]},
        once="order",
        only_if={},
        to=["customer"],
        fallback={"options": [{"gateway": "line", "channel": "sms"}]},
    )
    shop.publish(made_table(), first)
    shop.publish(
        made_table(),
        route_of(
            spec,
            key="other",
            name="Other",
            once="event",
            only_if={},
            to=["customer"],
            fallback={},
            timing={},
            priority=1,
            guards={},
        ),
    )
    rng = random.Random(seed)
    planner = Planner(shop.bench.database, shop.bench.services.setups, shop.bench.clock)
    stopped = None
    waiting = list(enumerate(happened))
    while waiting or rng.random() < 0.8:
        act = rng.choice(["deliver", "plan", "dispatch", "later", "suppress"])
        if act == "deliver" and waiting:
            number, one = waiting.pop(0)
            shop.deliver(
                f"d{number}",
                one["event"],
                id=one["id"],
                buyer=BUYERS[one["id"]],
                total=one["total"],
                state=one["state"],
                changed_at=shop.now.isoformat(),
            )
        elif act == "plan":
            planner.run_batch(rng.choice([1, 100]))
        elif act == "dispatch":
            shop.dispatch()
        elif act == "later":
            shop.later(minutes=rng.choice([1, 200, 1500]))
        elif act == "suppress" and stopped is None and rng.random() < 0.3:
            with shop.bench.database.writing() as session:
                suppressions.add(session, shop.bench.store_id, "email:jo@example.org", "stop.", shop.now)
            stopped = shop.now
    shop.bench.plan()
    said = "state NOT IN ('skipped', 'cancelled') AND route_id = (SELECT id FROM route WHERE key = 'received')"
    assert (
        shop.bench.rows(f"SELECT order_id, count(*) FROM send WHERE {said} GROUP BY order_id HAVING count(*) > 1") == []
    )
    if stopped:
        after = (stopped - dt.datetime(1970, 1, 1, tzinfo=dt.UTC)) // dt.timedelta(microseconds=1)
        assert (
            shop.bench.rows(
                "SELECT id FROM send WHERE recipient = 'jo@example.org' AND state = 'sent' AND settled_at > ?", after
            )
            == []
        )
    twice = """SELECT a.id FROM send a JOIN event e ON e.id = a.event_id
        JOIN send b ON b.recipient = a.recipient AND b.channel = a.channel AND b.route_id <> a.route_id
        JOIN event f ON f.id = b.event_id AND coalesce(f.parent_id, f.id) = coalesce(e.parent_id, e.id)
        WHERE a.state <> 'skipped' AND b.state <> 'skipped' AND a.recipient <> ''
        AND abs(a.due_at - b.due_at) <= 600000000"""
    assert shop.bench.rows(twice) == []
    capped = """SELECT a.id FROM send a JOIN "order" o ON o.id = a.order_id WHERE a.state <> 'skipped'
        AND a.route_id = (SELECT id FROM route WHERE key = 'received')
        AND
        (SELECT count(*) FROM send b JOIN "order" p ON p.id = b.order_id WHERE p.contact_id = o.contact_id
        AND b.rowid < a.rowid AND b.state NOT IN ('skipped', 'cancelled')
        AND a.created_at - b.created_at < 86400000000) >= 2"""
    assert shop.bench.rows(capped) == []
