"""Tags and values of customers: set by a route that sends, by an answer, by hand."""

import pytest

from angelon.core.specs import Message, Route, Variable
from angelon.core.specs.marks import Marks, read_marks, written_marks
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow
from angelon.engine.feedback.answers import Answers, Given, Reply
from angelon.engine.orders.marking import problems_of
from tests import made
from tests.engine.test_fallbacks import Shop
from tests.web.test_route_pages import text


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    with bench.database.writing() as session:
        for name, type_, keep in (("size", "text", True), ("visits", "number", True), ("unkept", "text", False)):
            specs.save_variable(session, bench.store_id, Variable(name=name, type=type_, keep=keep, required=False))
    bench.services.setups.forget()
    return shop


def tags(shop):
    return {row.tag for row in shop.bench.rows("SELECT tag FROM contact_tag")}


def values(shop):
    return [(row.name, row.value) for row in shop.bench.rows("SELECT name, value FROM contact_value ORDER BY id")]


def test_a_route_that_sends_marks_the_customer_and_conditions_see_it_at_once(shop):
    route = made.route().model_dump(mode="json")
    shop.publish(RouteRow, Route.model_validate(route | {"marks": {"tags": {"told": True}, "values": {"size": "L"}}}))
    asks = {"of": [{"kind": "compare", "of": "contact.tags", "which": "any", "op": "is", "value": "told"}]}
    second = {"key": "second", "name": "Second", "when": ["order.status_changed"], "only_if": asks,
              "guards": {"even_if_notified": True}}  # fmt: skip
    shop.publish(RouteRow, Route.model_validate(route | second))
    shop.bench.deliver(made.body())
    shop.bench.plan()
    assert tags(shop) == {"told"}
    assert values(shop) == [("size", '"L"')]
    shop.later(minutes=1)
    shop.bench.deliver(made.body(state="packed"), store_event="changed", store_delivery="d-2")
    shop.bench.plan()
    assert [row.key for row in shop.bench.rows("SELECT r.key FROM send s JOIN route r ON r.id = s.route_id")].count(
        "second"
    ) == 1


def test_a_route_that_does_not_send_marks_nobody(shop):
    never = {"of": [{"kind": "compare", "of": "order.country", "op": "is", "value": "ZZ"}]}
    route = made.route().model_dump(mode="json") | {"only_if": never, "marks": {"tags": {"told": True}}}
    shop.publish(RouteRow, Route.model_validate(route))
    shop.bench.deliver(made.body())
    shop.bench.plan()
    assert tags(shop) == set()


def test_an_answer_marks_whoever_gives_it_once(shop):
    answers = [{"key": "yes", "means": "yes", "words": {"de": "Ja"}, "marks": {"tags": {"wants": True},
                "values": {"visits": "3"}}}, {"key": "no", "means": "no", "words": {"de": "Nein"}}]  # fmt: skip
    spec = made.message().model_dump(mode="json") | {"question": {"answers": answers}}
    shop.publish(MessageRow, Message.model_validate(spec))
    shop.bench.deliver(made.body())
    shop.bench.plan()
    with shop.bench.database.connection() as connection:
        row = connection.exec_driver_sql("SELECT * FROM question").first()
        live = shop.bench.services.setups.get(shop.bench.store_id)
        from angelon.db.log import questions

        row = questions.by_id(connection, row.id)
        taker = Answers(connection, live, shop.bench.clock)
        assert taker.give(row, "yes", Reply("Ja", "page", "x")) is Given.TAKEN
        assert taker.give(row, "yes", Reply("Ja", "page", "x")) is Given.AGAIN
    assert tags(shop) == {"wants"}
    assert values(shop) == [("visits", '{"$number":"3"}')]


def test_a_value_is_noted_by_hand_and_what_is_none_is_refused(shop, client):
    shop.bench.deliver(made.body())
    shop.bench.plan()
    done = client.post("/people/1/value", data={"name": "size", "value": "XL"}, follow_redirects=True)
    assert "Noted." in text(done)
    assert "XL" in text(client.get("/people/1"))
    for name, value, told in (("visits", "many", "Not noted"), ("unkept", "x", "no variable that is kept")):
        refused = client.post("/people/1/value", data={"name": name, "value": value}, follow_redirects=True)
        assert told in text(refused)
    assert values(shop) == [("size", '"XL"')]


def test_marks_are_written_as_lines(shop):
    typed = "+vip\n-lead\nsize = L M"
    marks = Marks.model_validate(read_marks(typed))
    assert (marks.tags, marks.values) == ({"vip": True, "lead": False}, {"size": "L M"})
    assert written_marks(marks) == typed
    for wrong in ("vip", "size =", "+", "= x"):
        with pytest.raises(ValueError, match="says nothing to note"):
            read_marks(wrong)
    live = shop.bench.services.setups.get(shop.bench.store_id)
    assert [one.what for one in problems_of(Marks(values={"unkept": "x"}), live.setup, "x")] == [
        "“unkept” is no variable that is kept with customers."
    ]


def test_the_route_s_page_takes_marks_and_says_what_is_none(shop, client):
    fragment = {"X-Fragment": "1"}
    client.post("/routes/received", data={"marks.there": "1", "marks.text": "+told\nsize = L"}, headers=fragment)
    assert "+told, size = L" in text(client.get("/routes/received"))
    refused = client.post("/routes/received", data={"marks.there": "1", "marks.text": "told"}, headers=fragment)
    assert refused.status_code == 422
    client.post("/routes/received", data={"marks.there": "1", "marks.text": "unkept = x"}, headers=fragment)
    assert "“unkept” is no variable that is kept" in text(client.get("/routes/received"))
