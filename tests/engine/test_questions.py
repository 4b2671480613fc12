"""A question about an order: asked with a send, answered by each way, once; and what follows from its outcome."""

import datetime as dt
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from angelon.core.specs import Gateway, Message
from angelon.core.specs.stored import from_stored
from angelon.db.log import events, questions
from angelon.db.tables import GatewayRow, MessageRow, RouteRow, SourceRow
from angelon.db.upkeep import forgetting
from angelon.engine.feedback import receipts
from angelon.engine.feedback.answers import Answers, Given, Questions, Reply
from angelon.engine.feedback.preferences import Links
from angelon.engine.operations.consequences import follows
from angelon.engine.past.rehearsals import rehearse_one
from angelon.gateways.interface import Outcome
from tests import made
from tests.engine.test_fallbacks import PHONE, Shop

ANSWERS = [
    {"key": "yes", "means": "yes", "words": {"en": "Yes, send it"}},
    {"key": "no", "means": "no", "words": {"en": "No, cancel it"}},
]
ASK = {
    "key": "ask",
    "name": "Shall we send it?",
    "sms": {"en": {"text": "Shall we send {{ order.number }}? YES or NO, or {{ question.link }}"}},
    "email": {"en": {"subject": "Shall we send it?", "blocks": [{"kind": "answers"}]}},
    "question": {"title": {"en": "Shall we send it?"}, "answers": ANSWERS, "open_hours": 48},
}
PLAIN = {"email": {"en": {"subject": "Thanks", "blocks": [{"kind": "text", "text": "Hello"}]}}}
RECEIPTS = {
    "id_at": "$.id",
    "state_at": "$.state",
    "text_at": "$.text",
    "from_at": "$.from",
    "delivered": ["delivered"],
    "failed": ["failed"],
    "answered": ["answered"],
}


def condition(outcome):
    return {"of": [{"of": "question.ask", "op": "is", "value": outcome}]}


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(base_url="https://shop.example")
    with bench.database.reading() as session:
        row = next(row for row in session.query(GatewayRow) if row.key == "line")
        spec = from_stored(Gateway, row.spec | {"receipts": RECEIPTS})
    bench.change(spec, GatewayRow)
    shop.publish(MessageRow, Message.model_validate(ASK))
    for key in ("thanks", "sorry", "told", "late"):
        shop.publish(MessageRow, Message.model_validate({"key": key, "name": key, **PLAIN}))
    asks = {"channel": "sms", "gateway": "line"}
    shop.route(key="ask", name="Ask", send="ask", **asks)
    when = ["answer.received", "question.expired", "question.not_asked"]
    shop.route(key="yes", name="On yes", send="thanks", when=when, only_if=condition("yes"))
    shop.route(key="no", name="On no", send="sorry", when=when, only_if=condition("no"))
    shop.route(key="silent", name="On silence", send="told", when=when, only_if=condition("no_answer"))
    shop.route(key="lost", name="Not asked", send="told", when=when, only_if=condition("not_asked"))
    shop.route(key="late", name="Too late", send="late", when=["answer.late"])
    shop.publish(RouteRow, made.route(key="received"), on=False)
    return shop


def asked(shop):
    columns = "state, answer, way, unmatched, late_answer"
    return [tuple(row) for row in shop.bench.rows(f"SELECT {columns} FROM question ORDER BY asked_at, id")]


def follow(shop):
    """All that follows by now, as the worker does it."""
    while Questions(shop.bench.database, shop.bench.services.setups, shop.bench.clock).run_due():
        pass
    shop.bench.plan()


def tell(shop, body):
    live = shop.bench.services.setups.get(shop.bench.store_id)
    gateway = live.setup.gateways["line"]
    said = receipts.take_all(shop.bench.database, live, gateway, [body], shop.bench.clock)
    follow(shop)
    return said[0]


def routes(shop):
    sql = (
        "SELECT route.key FROM send JOIN route ON route.id = send.route_id "
        "WHERE route.key != 'ask' AND send.state != 'skipped' ORDER BY send.rowid"
    )
    return [row[0] for row in shop.bench.rows(sql)]


def send_it(shop, reference="r-1"):
    """The question goes out, under an id of the provider's."""
    shop.ways["sms"].outcome = Outcome("accepted", "200", "taken", reference=reference)
    shop.dispatch()


def give(shop, answer, way="page", said=""):
    """An answer on the page."""
    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.writing() as session:
        row = questions.by_id(session.connection(), shop.bench.rows("SELECT id FROM question")[0][0])
        given = Answers(session.connection(), live, shop.bench.clock).give(row, answer, Reply(said, way, ""))
    follow(shop)
    return given


def test_a_question_is_asked_with_its_send_and_the_text_has_its_link(shop):
    shop.order()
    assert asked(shop) == [("open", "", "", "", "")]
    send_it(shop)
    text = shop.ways["sms"].mails[0].values["text"]
    link = text.rpartition(" ")[2]
    assert text.startswith("Shall we send BK-7? YES or NO, or https://shop.example/a/")
    assert len(link) < 60
    links = Links(shop.bench.vault)
    id_ = shop.bench.rows("SELECT id FROM question")[0][0]
    assert links.read_question(link.rpartition("/")[2]) == id_
    other = link.rpartition("/")[2].replace(id_[3:], "0" * 19)
    assert links.read_question(other) is None


def test_its_time_begins_when_it_was_sent_and_again_when_it_was_delivered(shop):
    shop.order()
    shop.later(hours=2)
    send_it(shop)
    sent = shop.now
    shop.later(minutes=1)
    follow(shop)
    row = read(shop)
    assert (row.opened_at, row.ends_at - row.opened_at) == (sent, dt.timedelta(hours=48))
    shop.later(minutes=9)
    tell(shop, {"id": "r-1", "state": "delivered"})
    assert (read(shop).opened_at, read(shop).delivered) == (shop.now, True)


def read(shop):
    with shop.bench.database.reading() as session:
        return questions.by_id(session.connection(), shop.bench.rows("SELECT id FROM question")[0][0])


@pytest.mark.parametrize(
    ("body", "outcome"),
    [
        ({"id": "r-1", "state": "answered", "text": "Yes, send it"}, ("answered", "yes", "sms")),
        ({"state": "answered", "text": "yes please!", "from": "+49 30 23125014"}, ("answered", "yes", "sms")),
        ({"state": "answered", "text": "Cancel", "from": "+49 30 23125014"}, ("answered", "no", "sms")),
    ],
)
def test_it_is_answered_by_a_reply_with_and_without_the_send_s_id(shop, body, outcome):
    shop.order()
    send_it(shop)
    assert tell(shop, body) == "answered."
    assert asked(shop)[0][:3] == outcome
    assert routes(shop) == [outcome[1]]
    assert shop.bench.rows("SELECT count(*) FROM suppression")[0][0] == 0


def test_stop_is_a_stop_whatever_is_open(shop):
    shop.order()
    send_it(shop)
    tell(shop, {"state": "answered", "text": "STOP", "from": "+49 30 23125014"})
    assert asked(shop)[0][0] == "open"
    assert shop.bench.rows("SELECT origin FROM suppression") == [("stop",)]


def test_a_reply_that_is_no_answer_is_for_the_team_and_closes_nothing(shop):
    shop.order()
    send_it(shop)
    tell(shop, {"state": "answered", "text": "Yes, but the address is wrong", "from": "+49 30 23125014"})
    assert asked(shop) == [("open", "", "", "Yes, but the address is wrong", "")]
    assert routes(shop) == []
    names = [row[0] for row in shop.bench.rows("SELECT name FROM event WHERE type = 'answer.received'")]
    assert names == ["Yes, but the address is wrong"]
    tell(shop, {"state": "answered", "text": "yes", "from": "+49 30 23125014"})
    assert asked(shop)[0][:4] == ("answered", "yes", "sms", "")


def test_of_two_open_questions_the_one_whose_number_is_named_is_answered(shop):
    shop.order(1, reference="BK-7")
    shop.order(2, reference="BK-8")
    send_it(shop)
    tell(shop, {"state": "answered", "text": "yes", "from": "+49 30 23125014"})
    assert [row[0] for row in asked(shop)] == ["open", "open"]
    tell(shop, {"state": "answered", "text": "BK-8 yes", "from": "+49 30 23125014"})
    assert [row[:2] for row in asked(shop)] == [("open", ""), ("answered", "yes")]
    tell(shop, {"state": "answered", "text": "no", "from": "+49 30 23125014"})
    assert [row[:2] for row in asked(shop)] == [("answered", "no"), ("answered", "yes")]


def test_silence_is_an_outcome_once_and_a_later_yes_is_too_late(shop):
    shop.order()
    send_it(shop)
    shop.later(minutes=1)
    follow(shop)
    shop.later(hours=48)
    follow(shop)
    assert (asked(shop)[0][0], routes(shop)) == ("no_answer", ["silent"])
    shop.later(hours=3)
    assert give(shop, "yes") is Given.LATE
    assert give(shop, "yes") is Given.LATE
    assert asked(shop)[0] == ("no_answer", "", "", "", "yes")
    assert routes(shop) == ["silent", "late"]


def test_an_answer_after_the_end_is_late_though_nobody_has_looked_since(shop):
    shop.order()
    send_it(shop)
    shop.later(minutes=1)
    follow(shop)
    shop.later(hours=49)
    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.writing() as session:
        given = Answers(session.connection(), live, shop.bench.clock).give(read(shop), "yes", Reply("", "page", ""))
    follow(shop)
    assert (given, asked(shop)[0][0], routes(shop)) == (Given.LATE, "no_answer", ["silent", "late"])


def test_the_first_answer_counts_and_another_is_kept(shop):
    shop.order()
    send_it(shop)
    assert [give(shop, "yes"), give(shop, "yes"), give(shop, "no")] == [Given.TAKEN, Given.AGAIN, Given.LATE]
    assert asked(shop)[0] == ("answered", "yes", "page", "", "no")
    assert routes(shop) == ["yes", "late"]


def test_a_cancelled_order_is_asked_nothing_any_more(shop):
    shop.bench.change(
        made.source(
            event_names={"placed": "order.created", "gone": "order.cancelled"},
            reading=made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"},
        ),
        SourceRow,
    )
    shop.order()
    shop.deliver("d-9", "gone", id=1, buyer=PHONE)
    shop.bench.plan()
    assert asked(shop)[0][0] == "withdrawn"
    send_it(shop)
    assert shop.sends() == [("sms", "+493023125014", "skipped")]
    assert give(shop, "yes") is Given.LATE
    assert routes(shop) == ["late"]


def test_what_did_not_reach_anybody_could_not_be_asked(shop):
    shop.order()
    shop.ways["sms"].outcome = Outcome("permanent", "400", "no such number")
    shop.dispatch()
    shop.later(minutes=10)
    follow(shop)
    assert (asked(shop)[0][0], routes(shop)) == ("not_asked", ["lost"])
    assert "no such number" in read(shop).why


def test_what_is_held_could_not_be_asked_only_when_its_time_is_over(shop):
    shop.store(base_url="")
    shop.order()
    shop.dispatch()
    assert shop.bench.rows("SELECT state, reason FROM send")[0][0] == "held"
    shop.later(hours=47)
    follow(shop)
    assert asked(shop)[0][0] == "open"
    shop.later(hours=2)
    follow(shop)
    assert (asked(shop)[0][0], routes(shop)) == ("not_asked", ["lost"])


def test_the_other_way_asks_the_same_question(shop):
    shop.route(
        key="ask",
        name="Ask",
        send="ask",
        channel="sms",
        gateway="line",
        fallback={"options": [{"gateway": "mailroom", "channel": "email"}]},
    )
    shop.order()
    shop.ways["sms"].outcome = Outcome("permanent", "400", "no")
    shop.dispatch()
    shop.follow()
    shop.dispatch()
    shop.later(minutes=1)
    follow(shop)
    assert len(asked(shop)) == 1
    assert asked(shop)[0][0] == "open"
    page = shop.ways["email"].mails[0].data.decode()
    assert "?answer=3Dyes" in page or "?answer=yes" in page
    assert give(shop, "yes") is Given.TAKEN


def test_the_confirmation_waits_for_no_open_question(shop):
    shop.route(key="received", guards={"unless_asking": True}, priority=1)
    shop.order()
    assert [row[2] for row in shop.sends()] == ["skipped", "scheduled"] or [row[2] for row in shop.sends()] == [
        "scheduled",
        "skipped",
    ]
    reason = shop.bench.rows("SELECT reason FROM send WHERE state = 'skipped'")[0][0]
    assert (
        reason == "“Shall we send it?” is not answered yet, and the route does not send as long as a question is open."
    )
    send_it(shop)
    give(shop, "yes")
    shop.deliver("d-2", id=1, buyer=PHONE)
    shop.bench.plan()
    assert "received" in routes(shop)


def test_a_rehearsal_sees_the_outcome_as_it_was_then(shop):
    shop.order()
    send_it(shop)
    shop.later(hours=1)
    give(shop, "yes")
    live = shop.bench.services.setups.get(shop.bench.store_id)
    ids = [
        shop.bench.rows("SELECT id FROM event WHERE type = ?", type_)[0][0]
        for type_ in ("order.created", "answer.received")
    ]
    route = made.route(key="new", when=["order.created", "answer.received"], only_if=condition("yes"))
    with shop.bench.database.reading() as session:
        found = events.by_ids(session.connection(), ids)
        seen = [rehearse_one(session.connection(), live, route, found[id_]).outcome for id_ in ids]
    assert seen == ["no", "send"]


def test_an_order_that_goes_takes_its_questions_along(shop):
    shop.order()
    send_it(shop)
    give(shop, "no", said="no")
    shop.later(days=400)
    shop.dispatch()
    with shop.bench.database.connection() as connection:
        while forgetting.orders(connection, shop.bench.store_id, shop.now):
            pass
    assert (asked(shop), shop.bench.rows('SELECT count(*) FROM "order"')[0][0]) == ([], 0)


ACTS = st.lists(
    st.sampled_from(["yes", "no", "sms yes", "sms no", "later", "much later", "follow", "send", "cancel", "same"]),
    min_size=1,
    max_size=12,
)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(acts=ACTS)
def test_there_is_one_outcome_and_each_consequence_once_whatever_comes_in_whichever_order(shop, acts):
    """Each example is another order of the same shop."""
    names = {"placed": "order.created", "gone": "order.cancelled"}
    phone = made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}
    shop.bench.change(made.source(event_names=names, reading=phone), SourceRow)
    shop.number = getattr(shop, "number", 100) + 1
    number = shop.number
    buyer = PHONE | {"phone": f"+49 30 23125{number:03}", "email": f"p{number}@example.org"}
    shop.deliver(f"o-{number}", id=number, buyer=buyer)
    shop.bench.plan()
    id_ = shop.bench.rows("SELECT id FROM question ORDER BY asked_at DESC, id DESC LIMIT 1")[0][0]
    live = shop.bench.services.setups.get(shop.bench.store_id)
    seen = []
    for act in acts:
        if act in ("yes", "no"):
            with shop.bench.database.writing() as session:
                row = questions.by_id(session.connection(), id_)
                Answers(session.connection(), live, shop.bench.clock).give(row, act, Reply("", "page", ""))
        elif act.startswith("sms"):
            body = {"state": "answered", "text": act[4:], "from": buyer["phone"]}
            receipts.take_all(shop.bench.database, live, live.setup.gateways["line"], [body], shop.bench.clock)
        elif act == "send":
            send_it(shop, f"r-{number}")
        elif act == "cancel":
            shop.deliver(f"c-{number}", "gone", id=number, buyer=buyer)
            shop.bench.plan()
        elif act == "same":
            shop.deliver(f"o-{number}", id=number, buyer=buyer)
            shop.bench.plan()
        elif act == "follow":
            follow(shop)
        else:
            shop.later(hours=1 if act == "later" else 50)
        state = shop.bench.rows("SELECT state, answer FROM question WHERE id = ?", id_)[0]
        if state[0] != "open":
            seen.append(tuple(state))
    follow(shop)
    follow(shop)
    assert len(set(seen)) <= 1, "an outcome has changed"
    sql = (
        "SELECT route.key FROM send JOIN route ON route.id = send.route_id JOIN question ON question.id = ? "
        "AND question.order_id = send.order_id WHERE route.key IN ('yes', 'no', 'silent', 'lost')"
    )
    followed = [row[0] for row in shop.bench.rows(sql, id_)]
    state, answer = shop.bench.rows("SELECT state, answer FROM question WHERE id = ?", id_)[0]
    wanted = {"answered": [answer], "no_answer": ["silent"], "not_asked": ["lost"]}.get(state, [])
    assert followed == wanted, (acts, state, answer)


def test_answers_and_the_end_at_the_same_moment_from_several_machines_give_one_outcome(shop):
    """Threads with connections of their own, as processes or machines have them."""
    for number in range(6):
        buyer = PHONE | {"phone": f"+49 30 2312{number:04}", "email": f"m{number}@example.org"}
        shop.deliver(f"m-{number}", id=number, reference=f"M-{number}", buyer=buyer)
    shop.bench.plan()
    live, clock = shop.bench.services.setups.get(shop.bench.store_id), shop.bench.clock
    ids = [row[0] for row in shop.bench.rows("SELECT id FROM question ORDER BY id")]
    with shop.bench.database.connection() as connection:
        for id_ in ids:
            questions.change(connection, id_, ends_at=shop.now, opened_at=shop.now, look_at=shop.now)
    failed = []

    def act(turn):
        try:
            if turn % 3 == 2:
                Questions(shop.bench.database, shop.bench.services.setups, clock).run_due()
                return
            with shop.bench.database.connection() as connection:
                row = questions.by_id(connection, ids[turn % len(ids)])
                Answers(connection, live, clock).give(row, ("yes", "no")[turn % 2], Reply("", "page", ""))
        except Exception as error:
            failed.append(error)

    with ThreadPoolExecutor(6) as pool:
        list(pool.map(act, range(60)))
    assert failed == []
    follow(shop)
    sql = (
        "SELECT question.id, count(*) FROM event JOIN question ON question.order_id = event.order_id "
        "WHERE event.type IN ('answer.received', 'question.expired') GROUP BY 1"
    )
    assert {number for _, number in shop.bench.rows(sql)} == {1}
    assert len(routes(shop)) - routes(shop).count("late") == len(ids)


def _is(value, op="is"):
    return {"of": "question.ask", "op": op, "value": value}


@pytest.mark.parametrize(
    ("outcome", "when", "only_if", "waits"),
    [
        ("yes", "answer.received", {}, True),
        ("yes", "answer.received", {"of": [_is("yes")]}, True),
        ("no", "answer.received", {"of": [_is("yes")]}, False),
        ("no", "answer.received", {"of": [_is("yes", "is_not")]}, True),
        ("no", "answer.received", {"join": "any", "of": [_is("yes"), _is("no")]}, True),
        ("maybe", "answer.received", {"join": "any", "of": [_is("yes"), _is("no")]}, False),
        (
            "no",
            "answer.received",
            {"join": "any", "of": [_is("yes"), {"of": "total", "op": "greater", "value": "5"}]},
            True,
        ),
        ("no", "answer.received", {"join": "none", "of": [_is("no")]}, False),
        ("yes", "answer.received", {"of": [{"of": "question.other", "op": "is", "value": "yes"}]}, False),
        ("no_answer", "question.expired", {}, True),
        ("no_answer", "answer.received", {}, False),
        ("late", "answer.late", {"of": [_is("yes")]}, True),
        ("open", "answer.received", {}, False),
        ("withdrawn", "answer.received", {}, False),
    ],
)
def test_what_follows_from_an_outcome_is_what_its_conditions_let_through(outcome, when, only_if, waits):
    route = made.route(when=[when], only_if=only_if)
    assert follows(route, Message.model_validate(ASK), outcome) is waits
