"""Many routes and messages: searched, filtered, grouped by event; what is off does not fill an order's page."""

import pytest

from angelon.core.specs import Message
from angelon.db.setup import specs
from angelon.db.tables import MessageRow, RouteRow
from tests import made
from tests.web.test_pages import text


@pytest.fixture
def many(bench):
    """Thirty routes of three events and twelve messages; every third route is live."""
    with bench.database.writing() as session:
        now = bench.clock.now()
        for number in range(30):
            when = ("order.created", "order.paid", "parcel.delivered")[number % 3]
            spec = made.route(key=f"r{number}", name=f"Route {number:02}", when=[when])
            row = specs.save_draft(session, RouteRow, bench.store_id, spec, now)
            specs.publish(session, row, now)
            specs.switch(session, row, number % 3 == 0, now)
        for number in range(12):
            plain = made.message().model_dump(mode="json") | {"key": f"m{number}", "name": f"Message {number:02}"}
            if number == 7:
                plain["email"]["en"]["blocks"].append({"kind": "text", "text": "We recieve it"})
            row = specs.save_draft(session, MessageRow, bench.store_id, Message.model_validate(plain), now)
            specs.publish(session, row, now)
    bench.services.setups.forget()
    return bench


def listed(page, prefix):
    said = text(page).partition("Show all" if "Show all" in text(page) else "Find")[2]
    return sorted({word for word in (f"{prefix} {n:02}" for n in range(30)) if word in said})


def test_routes_are_found_by_words_and_filters_and_stand_in_groups(many, client):
    page = client.get("/routes")
    assert "31 of 31" in text(page)
    assert page.text.count('class="group"') >= 3
    assert 'href="#new"' in page.text, "the button for a new one is at the top"
    assert listed(client.get("/routes?words=route+07"), "Route") == ["Route 07"]
    assert len(listed(client.get("/routes?state=live"), "Route")) == 10
    assert len(listed(client.get("/routes?event=order.paid"), "Route")) == 10
    assert listed(client.get("/routes?event=order.paid&state=live"), "Route") == []
    assert "No route matches." in text(client.get("/routes?words=nothing"))
    assert client.get("/routes?state=%00&event=x").status_code == 200


def test_messages_are_found_by_what_they_say(many, client):
    assert listed(client.get("/messages?words=recieve"), "Message") == ["Message 07"]
    assert len(listed(client.get("/messages?state=unused"), "Message")) == 12
    assert "No message matches." in text(client.get("/messages?language=fr"))


def test_problems_of_one_cause_are_one_line(many, client):
    page = text(client.get("/"))
    assert "12 messages are in no route" in page
    assert page.count("in no route") == 1


def test_routes_that_are_off_are_folded_on_an_order(many, client):
    many.deliver(made.body())
    many.plan()
    (order,) = many.rows('SELECT id FROM "order"')[0]
    page = client.get(f"/orders/{order}").text
    assert "20 routes are off" in text(client.get(f"/orders/{order}"))
    table, _, folded = page.partition("20 routes are off")
    assert "Route 01" not in table
    assert "Route 01" in folded


def test_a_typo_is_replaced_in_all_texts_and_kept_as_drafts(many, client):
    page = client.get("/messages/-/replace?words=recieve&instead=receive")
    assert "<mark>ie</mark>" in page.text
    assert "1 place in 1 message" in text(page)
    form = {"words": "recieve", "instead": "receive"}
    assert "Nothing is ticked." in text(client.post("/messages/-/replace", data=form, follow_redirects=True))
    at = page.text.partition('name="at" value="')[2].partition('"')[0]
    said = text(client.post("/messages/-/replace", data=form | {"at": at}, follow_redirects=True))
    assert "Replaced in the drafts of Message 07." in said
    assert "No text contains “recieve”." in text(client.get("/messages/-/replace?words=recieve"))
    assert many.services.setups.get(many.store_id).setup.messages["m7"].email["en"].blocks[-1].text == "We recieve it"
    assert "No text contains" in text(client.get("/messages/-/replace?words=%3Cscript%3E&instead=x"))
