"""A message that no event triggers: for orders, people, an audience, rows of a file; asked, shown, paused, stopped."""

import io
import json
import re

import pytest

from angelon.core.planning.prompts import read_answers
from angelon.core.specs.route import Prompt
from angelon.core.specs.variable import Variable
from angelon.core.values import Day
from angelon.db.setup import specs
from tests import made
from tests.web.test_route_pages import post, text


@pytest.fixture
def shop(bench, client):
    for number in range(1, 4):
        buyer = {"name": f"Jo {number}", "email": f"jo{number}@example.org"}
        post(client, made.body(id=number, reference=f"BK-{number}", buyer=buyer), **{"Store-Delivery": f"d{number}"})
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("DELETE FROM send")
    return bench


def ids(shop):
    return [str(one.id) for one in shop.rows('SELECT id FROM "order" ORDER BY id')]


def the_message(client):
    page = client.get("/runs/new").get_data(as_text=True)
    return re.search(r'value="(message:[^"]+:email)"', page).group(1)


def look(client, **form):
    return client.post("/runs/look", data={"route": the_message(client)} | form)


def send(client, once="o", **form):
    return client.post("/runs", data={"route": the_message(client), "once": once} | form, follow_redirects=True)


def test_a_published_message_is_sent_without_a_route(shop, client):
    page = text(look(client, order=ids(shop)[:2]))
    assert "2 messages would go out for 2 orders" in page
    assert shop.rows("SELECT * FROM send") == []
    done = text(send(client, order=ids(shop)[:2]))
    assert "0 of 2 sends settled" in done
    sends = shop.rows("SELECT * FROM send ORDER BY recipient")
    assert [one.recipient for one in sends] == ["jo1@example.org", "jo2@example.org"]
    (route,) = [one for one in shop.rows("SELECT * FROM route") if one.key.startswith("by-hand")]
    assert route.on
    assert "manual" in text(client.get("/routes"))
    for number in (7, 8):  # no event triggers it
        post(client, made.body(id=number, reference=f"BK-{number}"), **{"Store-Delivery": f"d{number}"})
    shop.plan()
    assert not shop.rows("SELECT * FROM send WHERE route_id = ? AND run_id IS NULL", route.id)
    again = text(look(client, order=ids(shop)[:2]))
    assert "0 messages would go out" in again
    assert "It has sent for this order before" in again


def test_what_is_typed_for_the_run_stands_in_place_of_the_orders_own_values(shop, client):
    names = re.findall(r'name="answer\.(\w+)"', look(client, order=ids(shop)[:1]).get_data(as_text=True))
    assert names
    form = {"order": ids(shop)[:1], f"answer.{names[0]}": "Something else"}
    page = look(client, **form).get_data(as_text=True)
    assert 'value="Something else"' in page
    assert "Something else" in text(send(client, **form))
    kept = json.loads(shop.rows('SELECT "values" AS v FROM send')[0].v)
    assert "Something else" in json.dumps(kept)


def test_a_copy_goes_to_whoever_sends_it_and_answers_too(shop, client):
    page = send(client, order=ids(shop)[:1], cc="me@shop.example", reply_to="me@shop.example")
    assert page.status_code == 200
    draft = json.loads(shop.rows("SELECT draft FROM send")[0].draft)
    assert (draft["envelope"]["cc"], draft["envelope"]["reply_to"]) == ("me@shop.example", "me@shop.example")
    refused = look(client, order=ids(shop)[:1], cc="not me")
    assert refused.status_code == 422
    assert "“not me” is no email address" in text(refused)
    assert 'value="not me"' in refused.get_data(as_text=True)


def test_a_file_gives_each_order_values_of_its_own(shop, client):
    names = re.findall(r'name="answer\.(\w+)"', look(client, order=ids(shop)[:1]).get_data(as_text=True))
    file = (io.BytesIO(f"number;{names[0]}\nBK-1;first\nBK-3;third\n".encode()), "told.csv")
    page = client.post("/runs/look", data={"route": the_message(client), "file": file}).get_data(as_text=True)
    said = re.search(r'name="said"\s+value="([^"]+)"', page).group(1).replace("&#34;", '"')
    orders = re.findall(r'name="order" value="(\d+)"', page)
    send(client, order=orders, said=said)
    kept = [one.v for one in shop.rows('SELECT "values" AS v FROM send ORDER BY recipient')]
    assert ["first" in kept[0], "third" in kept[1], "third" in kept[0]] == [True, True, False]


def test_a_person_and_an_audience_are_written_to_by_their_newest_order(shop, client):
    person = shop.rows("SELECT id FROM contact WHERE email = 'jo2@example.org'")[0].id
    assert "For 1 order: BK-2" in text(client.get(f"/runs/new?person={person}"))
    assert f"/runs/new?person={person}" in client.get(f"/people/{person}").get_data(as_text=True)
    client.post("/segments", data={"name": "Second"})
    holds = {"of": [{"kind": "compare", "of": "order.email", "op": "is", "value": "jo2@example.org"}]}
    client.post("/segments/second", data={"only_if": json.dumps(holds)})
    page = text(look(client, segment="second"))
    assert "1 customer is in the audience “Second”" in page
    assert "2 others are not" in page
    assert "BK-2" in page
    assert "BK-1" not in page


def test_guards_hold_for_what_is_sent_by_hand(shop, client):
    client.post("/suppressions", data={"addresses": "jo1@example.org", "why": "asked us"})
    page = text(look(client, order=ids(shop)[:2]))
    assert "1 message would go out for 2 orders" in page
    assert "1 left out" in page


def test_a_run_is_paused_continued_and_stopped(shop, client):
    send(client, order=ids(shop))
    run = shop.rows("SELECT id FROM run")[0].id
    assert "3 sends are held" in text(client.post(f"/runs/{run}", data={"act": "pause"}, follow_redirects=True))
    assert {one.state for one in shop.rows("SELECT state FROM send")} == {"held"}
    assert "Continue" in text(client.get(f"/runs/{run}"))
    client.post(f"/runs/{run}", data={"act": "go_on"})
    assert {one.state for one in shop.rows("SELECT state FROM send")} == {"scheduled"}
    assert "3 sends are cancelled" in text(client.post(f"/runs/{run}", data={"act": "stop"}, follow_redirects=True))
    assert {one.state for one in shop.rows("SELECT state FROM send")} == {"cancelled"}
    assert client.post(f"/runs/{run}", data={"act": "explode"}).status_code == 400


def test_a_large_run_lets_others_through(shop, client, monkeypatch):
    from angelon.engine.operations import manual_runs

    monkeypatch.setattr(manual_runs, "AT_ONCE", 1)
    send(client, order=ids(shop))
    due = [one.due_at for one in shop.rows("SELECT due_at FROM send ORDER BY due_at")]
    assert [at - due[0] for at in due] == [0, 100_000, 200_000]


def test_a_double_click_sends_once(shop, client):
    send(client, "same", order=ids(shop))
    assert "This run was started already" in text(send(client, "same", order=ids(shop)))
    assert len(shop.rows("SELECT * FROM send")) == 3


def test_answers_are_of_their_variables_types_and_what_is_wrong_is_said(bench):
    with bench.database.writing() as session:
        for name, type_ in (("day", "date"), ("amount", "money"), ("things", "list"), ("size", "text")):
            specs.save_variable(session, bench.store_id, Variable(name=name, type=type_))
    bench.services.setups.forget()
    setup = bench.services.setups.get(bench.store_id).setup
    prompts = [
        Prompt(variable="day", required=True), Prompt(variable="amount"), Prompt(variable="things"),
        Prompt(variable="size", asks="Which size?", options=["S", "L"]),
    ]  # fmt: skip
    values, problems = read_answers(
        prompts, {"day": "2026-12-24", "amount": "12,50 EUR", "things": "a\n\nb", "size": "L"}, setup
    )
    assert problems == []
    assert isinstance(values["day"], Day)
    assert str(values["amount"].amount) == "12.50"
    assert (values["things"], values["size"]) == (["a", "b"], "L")
    values, problems = read_answers(prompts, {"day": "", "amount": "much", "size": "M"}, setup)
    assert values == {}
    assert [one.where for one in problems] == ["answer.day", "answer.amount", "answer.size"]
    assert "“Which size?”" in problems[2].what


def test_a_route_by_hand_needs_no_event_and_asks_as_it_says(shop, client):
    client.post("/routes", data={"name": "Wish"})
    fragment = {"X-Fragment": "1"}
    client.post("/routes/wish", data={"when.there": "1", "by_hand": "1"}, headers=fragment)
    client.post(
        "/routes/wish",
        data={"send": the_message(client).split(":")[1]},
        headers=fragment,
    )
    client.post(
        "/routes/wish",
        data={"asks.there": "1", "asks.variable": "customer_name", "asks.text": "Name?", "asks.options": "Ann; Bo",
              "asks.required": "yes"},
        headers=fragment,
    )  # fmt: skip
    page = text(client.get("/routes/wish"))
    assert "somebody runs it" in page
    switched = client.post("/routes/wish/switch", data={"on": "yes"}, follow_redirects=True)
    shop.services.setups.forget()
    assert shop.rows("SELECT \"on\" AS o FROM route WHERE key = 'wish'")[0].o, text(switched)[:600]
    form = {"route": "wish", "order": ids(shop)[:1]}
    missing = client.post("/runs/look", data=form)
    assert missing.status_code == 422
    assert "“Name?” needs an answer." in text(missing)
    assert client.post("/runs", data=form | {"once": "x"}).status_code == 422
    assert shop.rows("SELECT * FROM run") == []
    client.post("/runs", data=form | {"answer.customer_name": "Bo", "once": "x"})
    assert len(shop.rows("SELECT * FROM run")) == 1


def test_that_a_run_takes_no_more_orders_is_said(client, shop, monkeypatch):
    monkeypatch.setattr("angelon.web.runs.views.MOST", 2)
    page = text(look(client, numbers="BK-1\nBK-2\nBK-3"))
    assert "the first 2 are below, the others are left out" in page
    assert "left out" not in text(look(client, numbers="BK-1\nBK-2")).partition("Result")[0]


def test_two_thousand_orders_with_a_file_and_long_values_are_taken(shop, client):
    said = json.dumps({id_: {"note": "so " * 100} for id_ in range(5000, 7000)})
    page = look(client, order=[*ids(shop)[:1], *map(str, range(5000, 6999))], file=(io.BytesIO(b""), ""), said=said)
    assert page.status_code == 200
    assert "1 message would go out for 1 order" in text(page)
