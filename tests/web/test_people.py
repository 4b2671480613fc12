"""A customer's page, everything as a file, and its erasure: afterwards no cell of the database says who it was."""

import json
import sqlite3

import pytest
import sqlalchemy as sa

from angelon.core.specs import Variable
from angelon.db.setup import specs
from angelon.db.tables import ContactRow, SourceRow
from angelon.engine.feedback.returns import Returns
from angelon.engine.followers import indexing
from angelon.engine.operations import people as operations
from angelon.engine.unit import unit
from tests import made
from tests.engine.test_returns import bounce
from tests.web.test_pages import text

JO = {"name": "Jorinde Ferrand-Ohm", "email": "jorinde@ferrand.example", "phone": "+353 20 915 0377"}
MARKS = ("Jorinde", "jorinde@", "ferrand", "9150377", "915 0377")


@pytest.fixture
def person(bench, client):
    with bench.database.writing() as session:
        specs.save_variable(session, bench.store_id, Variable(name="customer_name", keep=True))
    bench.services.setups.forget()
    bench.deliver(made.body(id=1, reference="BK-1", buyer=JO), store_delivery="d-1")
    other = {"name": "Tam", "email": "tam@tam.example"}
    bench.deliver(made.body(id=2, reference="BK-2", buyer=other), store_delivery="d-2")
    bench.plan()
    bench.dispatcher().run_batch(8)
    ((order_id, contact_id),) = bench.rows("SELECT id, contact_id FROM \"order\" WHERE number = 'BK-1'") or [(0, 0)]
    client.post(f"/orders/{order_id}/notes", data={"text": "Jorinde called about her parcel"})
    client.post(f"/orders/{order_id}/tags", data={"tag": "collects"})
    return contact_id


def cells(bench):
    """Every text of the database that has a mark of the person, by table and column."""
    indexing.follow(bench.database)  # as the worker does every few seconds
    found = set()
    with sqlite3.connect(bench.home / "angelon.db") as connection:
        for (table,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            rows = connection.execute(f'SELECT * FROM "{table}"')
            names = [one[0] for one in rows.description]
            for row in rows:
                for name, value in zip(names, row, strict=True):
                    shown = value.decode(errors="replace") if isinstance(value, bytes) else str(value)
                    if any(mark in shown for mark in MARKS):
                        found.add(f"{table}.{name}")
    return found


def states(bench, was, now):
    with bench.database.engine.begin() as connection:
        changed = connection.exec_driver_sql("UPDATE send SET state = ? WHERE state = ?", (now, was))
        assert changed.rowcount == 1


def test_everything_as_a_file(bench, client, person):
    page = text(client.get(f"/people/{person}"))
    assert "BK-1" in page
    assert "jorinde@ferrand.example" in page
    assert "€135.50" in page
    assert "HER-180" in page
    assert "customer name" in page
    answer = client.get(f"/people/{person}/data.json")
    assert "attachment" in answer.headers["Content-Disposition"]
    told = json.loads(answer.data)
    assert told["person"]["email"] == JO["email"]
    assert told["tags"] == ["collects"]
    assert [(one["name"], one["value"]) for one in told["kept"]] == [("customer_name", JO["name"])]
    assert [order["number"] for order in told["orders"]] == ["BK-1"]
    assert told["events"][0]["payload"]["buyer"]["name"] == JO["name"]
    assert [send["to"] for send in told["sends"]] == [JO["email"]]
    assert "tam" not in answer.text
    assert client.get("/people/9999").status_code == 404


def test_of_a_delivery_with_several_orders_only_their_own_is_given_out(bench, client):
    bench.change(made.source(orders_at="$.orders", delivery_id={"header": "Store-Delivery"}), SourceRow)
    orders = [made.order(id=7, reference="BK-7", buyer=JO)]
    orders.append(made.order(id=8, reference="BK-8", buyer={"name": "Tam", "email": "tam@tam.example"}))
    bench.deliver(json.dumps({"orders": orders}).encode(), store_delivery="both")
    bench.plan()
    ((person,),) = bench.rows("SELECT id FROM contact WHERE email = ?", JO["email"])
    answer = client.get(f"/people/{person}/data.json")
    assert json.loads(answer.data)["events"][0]["payload"]["reference"] == "BK-7"
    assert "tam" not in answer.text.lower()
    with bench.database.engine.begin() as connection:
        connection.exec_driver_sql(
            "UPDATE event SET planned_at = NULL WHERE order_id IN (SELECT id FROM \"order\" WHERE number = 'BK-8')"
        )
    refused = client.post(f"/people/{person}/erase", data={"typed": JO["name"]})
    assert refused.status_code == 422, "the other's order still needs the delivery"
    assert "being planned" in text(refused)


@pytest.mark.sqlite
def test_after_erasure_nothing_says_who_it_was_and_figures_stay(bench, client, person):
    before = bench.rows("SELECT count(*), sum(tries) FROM send")
    with bench.database.connection() as connection:
        answered = (
            "INSERT INTO test_answer (gateway_id, at, body) SELECT id, 0, '{\"to\": \"' || :to || '\"}' FROM gateway"
        )
        connection.execute(sa.text(answered), {"to": JO["email"]})
    assert cells(bench), "or the search finds nothing"
    refused = client.post(f"/people/{person}/erase", data={"typed": "Somebody"})
    assert refused.status_code == 422
    assert "not the person’s name or address" in text(refused)
    done = client.post(f"/people/{person}/erase", data={"typed": " jorinde FERRAND-ohm "}, follow_redirects=True)
    assert "Erased" in text(done)
    assert cells(bench) == set()
    assert bench.rows("SELECT count(*), sum(tries) FROM send") == before
    assert bench.rows("SELECT recipient FROM send ORDER BY recipient") == [("",), ("tam@tam.example",)]
    for path in ("/orders", "/sends", "/", f"/sources/{made.source().key}/read"):
        assert client.get(path).status_code == 200
    ((order_id,),) = bench.rows("SELECT id FROM \"order\" WHERE number = 'BK-1'")
    assert client.get(f"/orders/{order_id}").status_code == 200
    for (send_id,) in bench.rows("SELECT id FROM send"):
        assert client.get(f"/sends/{send_id}").status_code == 200
    ((send_id,),) = bench.rows("SELECT id FROM send WHERE recipient = ''")
    Returns(bench.database, bench.services.setups, bench.vault, bench.clock).take(send_id, bounce())
    assert bench.rows("SELECT * FROM suppression") == [], "nobody is there to be suppressed"
    again = client.post(f"/people/{person}/erase", data={"typed": JO["name"]})
    assert "erased already" in text(again)


def test_what_waits_is_not_sent_and_what_is_under_way_is_not_cut(bench, client, person):
    bench.deliver(made.body(id=3, reference="BK-3", buyer=JO), store_delivery="d-3")
    bench.plan()
    states(bench, "scheduled", "sending")
    refused = client.post(f"/people/{person}/erase", data={"typed": JO["email"]})
    assert refused.status_code == 422
    assert "handed over at this moment" in text(refused)
    states(bench, "sending", "scheduled")
    client.post(f"/people/{person}/erase", data={"typed": JO["email"]})
    assert cells(bench) == set()
    assert bench.rows("SELECT state FROM send WHERE state = 'scheduled'") == []
    assert ("skipped", "The person’s data was erased.") in bench.rows("SELECT state, reason FROM send")


@pytest.mark.sqlite
def test_corrected_addresses_are_erased_with_their_person(bench, client, person):
    """To another's address and back: what the list of changes says of it names nobody afterwards."""
    bench.deliver(made.body(id=5, reference="BK-5", buyer={"name": "Tam", "email": "t@tam.example"}))
    bench.plan()
    ((send_id,),) = bench.rows("SELECT id FROM send WHERE state = 'scheduled'")
    for to in (JO["email"], "tam@tam.example"):
        client.post(f"/sends/{send_id}/address", data={"to": to})
    assert "change.after" in cells(bench)
    client.post(f"/people/{person}/erase", data={"typed": JO["email"]})
    assert cells(bench) == set()


@pytest.mark.sqlite
def test_what_is_sent_while_sends_are_looked_for_is_erased_as_well(bench, client, person):
    """All sends are gone through before the write; those of the last minutes once more in it."""
    with bench.database.reading() as session:
        before = operations.found_before(session.connection(), session.get(ContactRow, person), bench.clock.now())
    bench.deliver(made.body(id=6, reference="BK-6", buyer={"name": "Tam", "email": "t@tam.example"}))
    bench.plan()
    ((send_id,),) = bench.rows("SELECT id FROM send WHERE state = 'scheduled'")
    client.post(f"/sends/{send_id}/address", data={"to": JO["email"]})
    assert send_id not in before.ids
    with unit(bench.services.installation, bench.store_id) as work:
        operations.erase(work, person, JO["email"], before)
    assert cells(bench) == set()


def test_a_send_that_was_given_to_another_meanwhile_stays_theirs(bench, client, person):
    bench.deliver(made.body(id=7, reference="BK-7", buyer={"name": "Tam", "email": "t@tam.example"}))
    bench.plan()
    ((send_id,),) = bench.rows("SELECT id FROM send WHERE state = 'scheduled'")
    client.post(f"/sends/{send_id}/address", data={"to": JO["email"]})
    with bench.database.reading() as session:
        before = operations.found_before(session.connection(), session.get(ContactRow, person), bench.clock.now())
    assert send_id in before.ids
    client.post(f"/sends/{send_id}/address", data={"to": "tam@tam.example"})
    with unit(bench.services.installation, bench.store_id) as work:
        operations.erase(work, person, JO["email"], before)
    assert bench.rows("SELECT recipient, state FROM send WHERE id = ?", send_id) == [("tam@tam.example", "scheduled")]


def test_a_suppression_stays_so_that_nobody_is_written_to_again(bench, client, person):
    client.post("/suppressions", data={"address": JO["email"], "why": "asked by phone"})
    client.post(f"/people/{person}/erase", data={"typed": JO["email"]})
    assert {one.partition(".")[0] for one in cells(bench)} <= {"suppression", "change"}
    bench.deliver(made.body(id=4, reference="BK-4", buyer=JO), store_delivery="d-4")
    bench.plan()
    assert ("skipped",) in bench.rows("SELECT state FROM send")
