"""Nothing overtakes: an event's own facts are planned at once, and only decisions that need an answer wait for it."""

import datetime as dt
import json
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from angelon.core.specs import Route
from angelon.core.specs.variable import Variable
from angelon.db.log import inquiries
from angelon.db.log.inquiries import HANDLER, LOOK_UP, Key, Outcome
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow, SourceRow
from angelon.engine.operations import routes as route_operations
from angelon.engine.planner import Planner
from angelon.engine.unit import unit
from tests import made
from tests.conftest import bench_in

LOOK_UPS = [
    {"name": "stock", "url": "https://erp.example/stock", "parameters": {"n": "$.reference"}},
    {"name": "note", "url": "https://crm.example/note", "parameters": {"n": "$.reference"}, "events": ["changed"]},
]
NAMES = {"placed": "order.created", "changed": "order.updated"}


def shop(bench, look_ups=LOOK_UPS, **reading):
    """A source with look-ups; a route of each kind: one that uses none, one for each look-up, a handler's."""
    given_ = made.source().model_dump(mode="json")
    recipes = given_["recipes"] | {"stock": {"path": "$['+stock'].left"}, "note": {"path": "$['+note'].text"}}
    source = made.source(
        enrichments=look_ups, recipes=recipes, reading=given_["reading"] | reading, event_names=NAMES, delivery_id={}
    )
    bench.change(source, SourceRow)
    with bench.database.writing() as session:
        for name in ("stock", "note"):
            specs.save_variable(session, bench.store_id, Variable(name=name))
            spec = made.message(key=f"about-{name}", name=name).model_dump(mode="json")
            spec["email"]["de"]["blocks"][0]["text"] = f"{{{{ {name} }}}}"
            row = specs.save_draft(
                session, MessageRow, bench.store_id, made.Message.model_validate(spec), bench.clock.now()
            )
            specs.publish(session, row, bench.clock.now())
    with unit(bench.services.installation, bench.store_id) as work:
        route_operations.switch_off(work, "received")
    changed = ["order.status_changed"]
    since = bench.clock.now() - dt.timedelta(days=1)
    for route in (
        made.route(key="plain", name="Plain", when=changed, once="event"),
        made.route(key="stock", name="Stock", send="about-stock", when=["order.created", *changed], once="order"),
        made.route(key="note", name="Note", send="about-note", when=changed, once="event"),
        made.route(key="after", name="After", when=changed, once="event", guards={"after_route": "stock"}),
        Route.model_validate(
            {"key": "handler-f", "name": "F", "handler": "f", "when": ["order.created", *changed], "sources": ["shop"]}
            | {"once": "event"}
        ),
    ):
        with bench.database.writing() as session:
            row = specs.save_draft(session, RouteRow, bench.store_id, route, bench.clock.now())
            specs.publish(session, row, bench.clock.now())
            row.on, row.since = True, since
            session.add(row)
            specs.touch(session, bench.store_id)
    bench.services.setups.forget()


def happens(bench, number, state, name="changed", order="BK-1"):
    """One event, a second after the one before."""
    at = dt.datetime(2026, 3, 2, 12, tzinfo=dt.UTC) + dt.timedelta(minutes=number)
    came = bench.start + dt.timedelta(seconds=number)
    bench.clock.now = lambda: came
    body = made.body(id=order, reference=order, state=state, changed_at=at.isoformat(), number=number)
    return bench.deliver(body, store_event=name).body["event"]


def settle(bench, event_id, kind, name, value=None, problem=""):
    """An answer as whoever asks stores it."""
    outcome = Outcome(Key(event_id, kind, name), bench.clock.now(), 1, value=value, problem=problem)
    with bench.database.connection() as connection:
        inquiries.store(connection, [outcome], bench.clock.now())


def open_inquiries(bench):
    return [tuple(row) for row in bench.rows("SELECT event_id, kind, name FROM inquiry WHERE due_at IS NOT NULL")]


@pytest.fixture
def waiting(bench):
    bench.start = bench.clock.now()
    return bench


def told(bench):
    """What came of everything: by order and moment, in the order of the events."""
    events = bench.rows(
        "SELECT e.id, e.type, e.was, e.now, e.waits_for, e.decisions FROM event e ORDER BY e.received_at, e.type, e.id"
    )
    return [
        (type_, was, now, waits, sorted((one["route"], one["outcome"]) for one in json.loads(decisions or "[]")))
        for _, type_, was, now, waits, decisions in events
    ]


def test_a_status_change_is_told_whatever_is_asked_about_the_order(waiting):
    """The first finding of the second reading: with a handler on `order.created`, the status change was lost."""
    bench = waiting
    shop(bench, [])
    happens(bench, 1, "new", "placed")
    happens(bench, 2, "shipped")
    bench.plan()
    assert ("plain", "scheduled") in bench.rows("SELECT r.key, s.state FROM send s JOIN route r ON r.id = s.route_id")
    assert ("order.status_changed", "new", "shipped") in bench.rows("SELECT type, was, now FROM event")
    assert {name for _, _, name in open_inquiries(bench)} == {"f"}


def test_only_what_uses_an_answer_waits_and_says_for_what(waiting):
    bench = waiting
    shop(bench)
    event_id = happens(bench, 1, "new", "placed")
    bench.plan()
    ((decisions, waits_for),) = bench.rows("SELECT decisions, waits_for FROM event WHERE id = ?", event_id)
    why = {one["route"]: one["trace"][-1]["why"] for one in json.loads(decisions) if one["outcome"] == "waits"}
    assert why.keys() == {"stock", "handler-f"}
    assert why["stock"] == "It waits for the answer of the look-up “stock”."
    assert waits_for == "answers"
    settle(bench, event_id, LOOK_UP, "stock", {"left": "three"})
    assert bench.plan() == 1
    assert [name for _, _, name in open_inquiries(bench)] == ["f"]
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]


def test_an_answer_that_never_comes_holds_that_decision_alone(waiting):
    bench = waiting
    shop(bench)
    event_id = happens(bench, 1, "new", "placed")
    bench.plan()
    settle(bench, event_id, LOOK_UP, "stock", problem="erp.example answered 500")
    settle(bench, event_id, HANDLER, "f", {"skip": "nothing to say"})
    bench.plan()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert state == "held"
    assert "erp.example answered 500" in reason
    assert bench.rows("SELECT waits_for, facts FROM event WHERE id = ?", event_id) == [("", None)]


def test_where_an_answer_says_how_the_order_stands_its_later_events_wait_behind_it_and_others_do_not(waiting):
    bench = waiting
    shop(bench, [LOOK_UPS[0]], status={"path": "$['+stock'].state"})
    first = happens(bench, 1, "x", "placed")
    second = happens(bench, 2, "x")
    other = happens(bench, 3, "x", "placed", order="BK-2")
    bench.plan()
    assert {row[0] for row in bench.rows("SELECT waits_for FROM event")} == {"order:BK-1", "order:BK-2"}
    settle(bench, second, LOOK_UP, "stock", {"state": "shipped"})
    bench.plan()
    assert bench.rows("SELECT id FROM event WHERE planned_at IS NOT NULL") == [], "it stays behind the first"
    settle(bench, other, LOOK_UP, "stock", {"state": "new"})
    bench.plan()
    assert [row[0] for row in bench.rows("SELECT id FROM event WHERE planned_at IS NOT NULL")] == [other]
    settle(bench, first, LOOK_UP, "stock", {"state": "new"})
    bench.plan()
    assert ("order.status_changed", "new", "shipped") in bench.rows("SELECT type, was, now FROM event")
    assert bench.rows("SELECT count(*) FROM event WHERE planned_at IS NULL") == [(0,)]


def answer_for(kind, name, right):
    if not right:
        return {"problem": "failed"}
    if kind == HANDLER:
        return {"value": {"skip": "nothing to say"}}
    return {"value": {"left": "three"} if name == "stock" else {"text": "four"}}


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_late_answers_lead_to_the_same_decisions_as_answers_at_once(migrated, data):
    """Two to five events of one order; each answer comes when it will, right or in vain, and planning is begun anew at
    any time. The model: every answer is there before the next event comes.
    """
    states = data.draw(st.lists(st.sampled_from(["new", "paid", "shipped", "returned"]), min_size=2, max_size=5))
    right: dict[tuple[int, str, str], bool] = {}

    def play(late):
        with tempfile.TemporaryDirectory() as home, bench_in(Path(home) / "home", made.bundle(), migrated) as bench:
            bench.start = bench.clock.now()
            shop(bench)
            bench.rows_of = {}
            number_of = {}

            def number(event_id):
                found = bench.rows("SELECT coalesce(parent_id, id) FROM event WHERE id = ?", event_id)
                return number_of[found[0][0]]

            def answer(some):
                for key in some:
                    event_id, kind, name = key
                    kinds = bench.rows("SELECT type FROM event WHERE id = ?", event_id)[0][0]
                    which = (number(event_id), kind + kinds, name)
                    if which not in right:
                        right[which] = data.draw(st.booleans())
                    settle(bench, event_id, kind, name, **answer_for(kind, name, right[which]))

            def plan():
                while Planner(bench.database, bench.services.setups, bench.clock).run_batch()[0]:
                    pass

            for place, state in enumerate(states, 1):
                number_of[happens(bench, place, state, "placed" if place == 1 else "changed")] = place
                if late and data.draw(st.booleans()):
                    continue  # the next comes before this is planned
                plan()
                while not late and (waits := open_inquiries(bench)):
                    answer(waits)
                    plan()
                if late and (waits := open_inquiries(bench)):
                    answer(data.draw(st.lists(st.sampled_from(waits), unique=True)))
                    if data.draw(st.booleans()):
                        plan()
            plan()
            while waits := open_inquiries(bench):
                answer(data.draw(st.permutations(waits))[: data.draw(st.integers(1, len(waits)))] if late else waits)
                plan()
            sends = bench.rows(
                "SELECT r.key, e.type, e.now, s.state, s.reason FROM send s JOIN route r ON r.id = s.route_id "
                "JOIN event e ON e.id = s.event_id ORDER BY e.received_at, e.type, r.key"
            )
            return told(bench), [tuple(row) for row in sends]

    late = play(True)
    assert late == play(False)
    assert all(waits == "" for _, _, _, waits, _ in late[0])
    assert not any(outcome == "waits" for _, _, _, _, decisions in late[0] for _, outcome in decisions)
