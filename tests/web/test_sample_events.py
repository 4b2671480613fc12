"""The sample event: any one can be chosen, by order number, customer or kind; the one asked for is never replaced."""

import pytest

from tests import made
from tests.web.test_pages import post, text

NAMES = {"placed": "order.created", "paid": "order.paid"}


def deliver(client, bench, number, name="placed", who="Jo"):
    body = made.body(id=number, reference=f"BK-{number}", buyer={"name": who, "email": f"{who.lower()}@example.org"})
    headers = {"Content-Type": "application/json", "Store-Event": name, "Store-Delivery": f"{name}-{number}"}
    assert client.post("/in/shop", data=body, headers=headers).status_code == 202


def many(client, bench):
    """An order by Wilhelmina, then fifty by others: hers is not among the last forty."""
    from angelon.db.tables import SourceRow

    bench.change(made.source(event_names=NAMES), SourceRow)
    deliver(client, bench, 1, who="Wilhelmina")
    for number in range(2, 52):
        deliver(client, bench, number)
    bench.plan()
    return {row[1]: row[0] for row in bench.rows('SELECT id, reference FROM "order"')}


def sample(page):
    return text(page).partition("Sample event")[2][:160]


def test_an_order_long_past_is_found_by_its_number_or_customer_and_chosen(client, bench):
    many(client, bench)
    for words in ("BK-1 wilhelmina", "wilhelmina@example.org", "Wilhelmina"):
        page = client.get("/routes/received", query_string={"find": words})
        assert "created BK-1 Wilhelmina" in text(page)
    (event_id,) = bench.rows("SELECT id FROM event ORDER BY received_at, id LIMIT 1")[0]
    for address in ("/routes/received", "/sources/shop/read", "/messages/received", "/sources/shop/ask"):
        shown = sample(client.get(address, query_string={"sample": event_id}))
        assert "BK-1 ·" in shown, address
        assert "chosen" in shown, address


def test_the_chosen_one_is_taken_along_from_page_to_page(client, bench):
    many(client, bench)
    (event_id,) = bench.rows("SELECT id FROM event ORDER BY received_at, id LIMIT 1")[0]
    client.get("/sources/shop/read", query_string={"sample": event_id})
    for address in ("/routes/received", "/messages/received", "/sources/shop/read"):
        assert "BK-1 ·" in sample(client.get(address)), address


def test_a_link_from_an_order_takes_that_order_along(client, bench):
    by_number = many(client, bench)
    order_id = by_number["1"]
    page = client.get(f"/orders/{order_id}").get_data(as_text=True)
    assert f'href="/routes/received?order={order_id}"' in page
    assert f'href="/sources/shop/read?order={order_id}"' in page
    assert "BK-1 ·" in sample(client.get("/routes/received", query_string={"order": order_id}))


def test_another_event_of_the_same_order_is_taken_where_its_kind_fits(client, bench):
    many(client, bench)
    deliver(client, bench, 1, "paid", "Wilhelmina")
    bench.plan()
    (paid,) = bench.rows("SELECT id FROM event WHERE name = 'paid'")[0]
    assert "paid BK-1 ·" in sample(client.get("/sources/shop/read", query_string={"sample": paid}))
    assert "created BK-1 ·" in sample(client.get("/routes/received"))  # it waits for created


def test_kinds_of_events_are_found_by_what_they_are_called(client, bench):
    many(client, bench)
    deliver(client, bench, 3, "paid")
    bench.plan()
    page = text(client.get("/sources/shop/read", query_string={"find": "paid"}))
    assert "paid BK-3 Jo" in page


def test_what_is_not_there_is_said_and_nonsense_does_no_harm(client, bench):
    many(client, bench)
    assert "matches “nobody at all”" in text(client.get("/routes/received", query_string={"find": "nobody at all"}))
    for nonsense in ({"order": "99999"}, {"order": "x"}, {"sample": "ev-gone"}, {"order": "9" * 30}):
        page = client.get("/routes/received", query_string=nonsense)
        assert page.status_code == 200
        assert "BK-51 ·" in sample(page)


def test_going_through_samples_keeps_what_else_the_address_says(client, bench):
    post(client)
    post(client, made.body(id=2, reference="BK-2"))
    page = client.get("/messages/received?channel=email&locale=de").get_data(as_text=True)
    assert 'href="?channel=email&amp;locale=de&amp;sample=ev-' in page


@pytest.mark.parametrize("order", ["²", "٣", "9" * 400, "-1", "1.5", ""])
def test_an_order_that_is_no_id_in_the_address_is_no_fault(client, order):
    for page in ("/sources/shop/read", "/sources/shop/ask", "/messages/received", "/routes/received"):
        assert client.get(page, query_string={"order": order}).status_code == 200
    assert client.get("/suppressions", query_string={"before": f"2026-01-01T00:00:00+00:00~{order}"}).status_code == 200


def test_an_event_that_was_erased_is_passed_over(client, bench):
    for number in (1, 2):
        deliver(client, bench, number)
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            "UPDATE delivery SET body = '' WHERE id = (SELECT delivery_id FROM event ORDER BY received_at DESC LIMIT 1)"
        )
    for page in ("/routes/received", "/sources/shop/read", "/messages/received"):
        assert "BK-1" in sample(client.get(page)), page
