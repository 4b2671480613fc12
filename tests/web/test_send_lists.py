"""The list of sends: facets, a person's, files, views under a name; the box that finds; the overview's figures."""

import csv
import datetime as dt
import html
import io
import json
import re
import threading
import time

import pytest

from angelon.db.derived import counting, searching
from angelon.db.log.sends import Filter
from angelon.engine.followers import indexing
from angelon.engine.operations import accounts
from tests import made
from tests.web.test_pages import text
from tests.web.test_stopping import dispatch


@pytest.fixture
def shop(bench):
    for number in range(5):
        buyer = {"name": f"Person {number % 2}", "email": f"p{number % 2}@example.org", "country": "DE"}
        bench.deliver(made.body(id=number, reference=f"BK-7{number}", buyer=buyer), store_delivery=f"d-{number}")
    bench.plan()
    return bench


def test_facets_count_by_day_and_by_what_is_chosen(client, shop):
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'held', reason = 'No address.' WHERE id IN "
                                   "(SELECT id FROM send ORDER BY id LIMIT 2)")  # fmt: skip
    page = text(client.get("/sends?span=day&state=held"))
    assert "scheduled 3" in page  # what is chosen of a facet does not narrow its own counts
    assert "held 2" in page
    assert "email 2" in page  # but others'
    assert "email 5" in text(client.get("/sends?span=all"))
    assert "email 5" in text(client.get("/sends?span=all&words=example.org"))
    assert "email 1" in text(client.get("/sends?words=BK-73"))


def test_a_person_s_sends_are_a_list_of_their_own(client, shop):
    ((person,),) = shop.rows("SELECT id FROM contact WHERE email = 'p1@example.org'")
    page = client.get(f"/sends?person={person}&span=all").get_data(as_text=True)
    assert "p1@example.org" in page
    assert "p0@example.org" not in page
    assert "Show everybody" in page
    assert client.get("/sends?person=x").status_code == 200


def test_the_list_is_given_out_as_csv_and_as_json_lines(client, shop):
    answer = client.get("/sends/all.csv?words=p1&span=all")
    rows = list(csv.DictReader(io.StringIO(answer.get_data(as_text=True))))
    assert [row["order"] for row in rows] == ["BK-73", "BK-71"]
    assert rows[0]["to"] == "p1@example.org"
    assert (rows[0]["amount"], rows[0]["currency"], rows[0]["total"]) == ("135.5", "EUR", "€135.50")
    assert "attachment" in answer.headers["Content-Disposition"]
    lines = [json.loads(line) for line in client.get("/sends/all.jsonl?span=all").get_data(as_text=True).splitlines()]
    assert len(lines) == 5
    assert sum(line["amount"] for line in lines) == 5 * 135.5
    assert dt.datetime.fromisoformat(lines[0]["created_at"]).tzinfo is not None
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET recipient_name = '=HYPERLINK(1)'")
    assert "'=HYPERLINK(1)" in client.get("/sends/all.csv?span=all").get_data(as_text=True)


def test_orders_and_customers_are_given_out_as_files(client, shop):
    rows = list(csv.DictReader(io.StringIO(client.get("/orders/all.csv").text)))
    assert len(rows) == 5
    assert {(row["amount"], row["currency"], row["source"], row["status"]) for row in rows} == {
        ("135.5", "EUR", "shop", "paid")
    }
    found = list(csv.DictReader(io.StringIO(client.get("/orders/all.csv?words=BK-73").text)))
    assert [row["number"] for row in found] == ["BK-73"]
    people = [json.loads(line) for line in client.get("/people/all.jsonl").text.splitlines()]
    assert {one["email"] for one in people} == {row["email"] for row in rows}


def test_who_may_only_look_gets_no_addresses_in_a_file(client, shop):
    kept = accounts.hashed("a long enough password", "w@example.org")
    with shop.database.writing() as session:
        accounts_row = accounts.create(session, "w@example.org", "W", kept, "viewer", dt.datetime.now(dt.UTC))
        assert accounts_row is not None
    client.post("/sign-in", data={"email": "w@example.org", "password": "a long enough password"})
    for kind in ("csv", "jsonl"):
        said = client.get(f"/sends/all.{kind}?span=all").get_data(as_text=True)
        assert "BK-73" in said
        assert "p1@example.org" not in said


def test_a_view_is_kept_under_a_name_and_deleted(client, shop):
    query = "state=held&state=failed&span=week"
    kept = client.post("/sends/views", data={"name": "Stuck ones", "query": query}, follow_redirects=True)
    assert "Kept as “Stuck ones”" in text(kept)
    page = client.get("/sends").get_data(as_text=True)
    assert "Stuck ones" in page
    assert "state=held&amp;state=failed&amp;span=week" in page
    assert "Delete this view" in text(client.get(f"/sends?{query}"))
    refused = client.post("/sends/views", data={"name": " ", "query": query}, follow_redirects=True)
    assert "The view has no name." in text(refused)
    refused = client.post("/sends/views", data={"name": "All", "query": "evil=1"}, follow_redirects=True)
    assert "Nothing is chosen that a view could keep." in text(refused)
    client.post("/sends/views", data={"name": "Stuck ones", "query": query, "act": "drop"})
    assert "Stuck ones" not in client.get("/sends").get_data(as_text=True)


def test_the_box_finds_in_groups_and_says_where_nothing_is(client, shop):
    page = text(client.get("/find?words=p1@example.org"))
    for heading in ("Orders", "People", "Sends"):
        assert heading in page
    assert "BK-73" in page
    assert "Messages that say so" in text(client.get("/find?words=received"))
    fragment = client.get("/find?words=BK-73", headers={"X-Fragment": "1"}).get_data(as_text=True)
    assert "<html" not in fragment
    assert "BK-73" in fragment
    assert "Nothing has “zzz” in it" in text(client.get("/find?words=zzz"))
    assert client.get("/find").status_code == 200
    assert client.get('/find?words="%20OR%20*').status_code == 200


def test_the_overview_groups_what_needs_attention_by_its_cause_and_says_what_is_due(client, shop):
    page = text(client.get("/"))
    assert "Due next" in page
    assert "by email to Person" in page
    dispatch(shop)
    page = text(client.get("/"))
    assert "5 taken" in page
    assert "95 %" in page
    assert "Nothing is scheduled." in page
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'failed', reason = '550 Nobody' WHERE order_id != 1")
    page = client.get("/").get_data(as_text=True)
    assert "Failed: 4 sends" in page
    assert "cause=550+Nobody" in page


def test_what_was_found_is_what_the_rows_say_after_a_change(client, shop):
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE contact SET name = 'Zwirbel' WHERE email = 'p1@example.org'")
    indexing.follow(shop.database)
    assert "BK-73" in text(client.get("/orders?words=zwirbel"))


def test_a_route_s_figures_say_what_it_sent_and_which_part_said_no(client, shop):

    page = text(client.get("/routes/received/figures"))
    assert "scheduled" in page
    assert "Every event it waits for led to a send." in page
    with shop.database.connection() as connection:
        ((id_, decisions),) = connection.exec_driver_sql(
            "SELECT id, decisions FROM event WHERE decisions IS NOT NULL LIMIT 1"
        ).fetchall()
        told = json.loads(decisions)
        told[0] |= {"outcome": "no", "trace": [{"part": "when", "verdict": "yes"}, {"part": "if", "verdict": "no"}]}
        connection.exec_driver_sql("UPDATE event SET decisions = ? WHERE id = ?", (json.dumps(told), id_))
    assert shop.rows("SELECT route, outcome, part, number FROM decision_count WHERE number != 0") == [
        (told[0]["route"], "no", "if", 1)
    ]
    assert "a condition did not hold 1" in text(client.get(f"/routes/{told[0]['route']}/figures"))
    with shop.database.connection() as connection:
        counting.count_decisions(connection)
    assert shop.rows("SELECT sum(number) FROM decision_count") == [(1,)]
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE event SET decisions = NULL")
    assert shop.rows("SELECT sum(number) FROM decision_count") == [(1,)], "figures stay"
    assert client.get("/routes/none/figures").status_code == 404


def test_a_source_s_page_says_when_events_came_and_when_it_fell_silent(client, shop):
    page = client.get("/sources/shop/capture").get_data(as_text=True)
    assert "5 events in the last two days" in page
    later = shop.clock.now() + dt.timedelta(days=3)
    shop.clock.now = lambda: later
    assert "Nothing has come in the last two days" in text(client.get("/sources/shop/capture"))


def test_a_stream_says_that_something_was_stored(client, shop):
    answer = client.get("/live")
    pieces = iter(answer.response)
    assert next(pieces).startswith(b"retry")
    told = []
    thread = threading.Thread(target=lambda: told.append(next(pieces)))
    thread.start()
    until = time.monotonic() + 8
    while not told and time.monotonic() < until:
        with shop.database.connection() as connection:
            connection.exec_driver_sql("UPDATE send SET subject = subject || '.' WHERE id = (SELECT min(id) FROM send)")
        time.sleep(0.3)
    thread.join(5)
    assert told == [b"event: changed\ndata: \n\n"]
    answer.close()


def test_tabs_that_are_too_many_look_by_themselves(client, shop, monkeypatch):
    from angelon.web.live import views

    monkeypatch.setattr(views, "WATCHERS", threading.BoundedSemaphore(1))
    first = client.get("/live")
    assert first.status_code == 200
    assert client.get("/live").status_code == 204
    first.close()  # never begun
    again = client.get("/live")
    assert again.status_code == 200
    again.close()


def test_what_acts_on_all_that_fit_is_not_bound_to_what_a_page_looks_at(client, shop, monkeypatch):
    monkeypatch.setattr(searching, "MOST", 2)
    page = text(client.get("/sends?words=example.org&span=all"))
    assert "Counted are the newest 2 sends that have these words" in page
    rows = client.get("/sends/all.csv?words=example.org&span=all").get_data(as_text=True).strip().splitlines()
    assert len(rows) == 6
    form = {"act": "cancel", "all": "yes", "words": "example.org", "span": "all"}
    assert "5 sends are cancelled" in text(client.post("/sends/bulk", data=form, follow_redirects=True))


def test_pages_of_what_has_words_go_on_to_the_oldest_whatever_else_narrows_them(client, shop, monkeypatch):
    monkeypatch.setattr(searching, "MOST", 2)
    monkeypatch.setattr(Filter, "most", 2, raising=False)
    with shop.database.connection() as connection:
        first = "(SELECT ref FROM search_send ORDER BY id LIMIT 1)"
        connection.exec_driver_sql(f"UPDATE send SET state = 'held' WHERE id = {first}")
    ((oldest,),) = shop.rows("SELECT id FROM send WHERE state = 'held'")
    address, seen = "/sends?words=example.org&span=all&state=held", []
    while address:
        page = client.get(address).get_data(as_text=True)
        seen.append(oldest in page)
        found = re.search(r'href="([^"]*further=[^"]*)"', page)
        address = html.unescape(found[1]) if found else ""
    assert seen == [False, False, True], "two at a time, and the fifth on the third page"


def test_a_send_that_changed_lately_makes_no_other_be_passed_over(client, shop, monkeypatch):
    monkeypatch.setattr(searching, "MOST", 2)
    monkeypatch.setattr(Filter, "most", 2, raising=False)
    assert client.get("/sends?words=example.org").status_code == 200
    with shop.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET subject = 'Other' WHERE id = (SELECT min(id) FROM send)")
    indexing.follow(shop.database)
    address, seen = "/sends?words=example.org&span=all", []
    while address:
        page = client.get(address).get_data(as_text=True)
        seen += re.findall(r'href="/sends/(sd-\w+)"', page)
        found = re.search(r'href="([^"]*further=[^"]*)"', page)
        address = html.unescape(found[1]) if found else ""
    assert set(seen) == {id_ for (id_,) in shop.rows("SELECT id FROM send")}


def test_orders_that_have_words_are_reached_to_the_oldest(client, shop, monkeypatch):
    monkeypatch.setattr(searching, "MOST", 2)
    address, seen = "/orders?words=example.org", []
    while address:
        page = client.get(address).get_data(as_text=True)
        seen += re.findall(r"<strong>(BK-7\d)</strong>", page)
        found = re.search(r'href="([^"]*further=[^"]*)"', page)
        address = html.unescape(found[1]) if found else ""
    assert sorted(seen) == [f"BK-7{number}" for number in range(5)], "each once"
    assert client.get("/orders?words=example.org&further=x").status_code == 200
