"""What can be done on an order's page: notes, its sends held, cancelled and sent again, a route run for it."""

from tests import made
from tests.web.test_pages import post, text


def test_a_note_is_kept_with_who_and_when_and_an_empty_or_long_one_is_told(client, bench):
    post(client)
    bench.plan()
    done = client.post(
        "/orders/1/notes", data={"text": " She rang: <b>leave it</b>\nat number 9. "}, follow_redirects=True
    )
    page = done.get_data(as_text=True)
    assert "The note is kept." in text(done)
    assert 'She rang: &lt;b&gt;leave it&lt;/b&gt;\nat number 9.<div class="quiet">' in page
    assert "this machine" in text(done)
    empty = client.post("/orders/1/notes", data={"text": "   "})
    assert (empty.status_code, "The note is empty." in text(empty)) == (422, True)
    long = client.post("/orders/1/notes", data={"text": "x" * 2001})
    assert long.status_code == 422
    assert "x" * 2001 in long.get_data(as_text=True), "nothing typed is lost"
    assert client.post("/orders/99/notes", data={"text": "a"}).status_code == 404


def test_what_is_planned_for_an_order_is_held_and_released_on_its_page(client, bench):
    post(client, made.body())
    bench.plan()
    (send,) = (row[0] for row in bench.rows("SELECT id FROM send"))
    page = client.get("/orders/1").get_data(as_text=True)
    assert f'value="{send}"' in page
    form = {"send": send, "back": "/orders/1"}
    done = client.post("/sends/bulk", data={**form, "act": "hold"}, follow_redirects=True)
    assert "1 send is held." in text(done)
    assert "Sends" in text(done), "back on the order's page"
    assert bench.rows("SELECT state, reason FROM send") == [("held", "Held manually.")]
    client.post("/sends/bulk", data={**form, "act": "retry"})
    assert bench.rows("SELECT state FROM send") == [("scheduled",)]


def test_a_route_is_run_for_the_order_in_hand(client, bench):
    post(client)
    bench.plan()
    page = client.get("/orders/1").get_data(as_text=True)
    assert 'action="/runs/new"' in page
    assert '<option value="received">Received</option>' in page
    assert "BK-7" in text(client.get("/runs/new?order=1&route=received"))


def test_a_customer_is_marked_with_a_tag_and_it_is_taken_off_again(client, bench):
    post(client)
    bench.plan()
    page = client.post("/orders/1/tags", data={"tag": " collects "}, follow_redirects=True)
    assert "Take the tag collects off" in page.get_data(as_text=True)
    assert bench.rows("SELECT tag, set_by FROM contact_tag") == [("collects", "this machine")]
    client.post("/orders/1/tags", data={"tag": "collects"})  # a second click changes nothing
    refused = client.post("/orders/1/tags", data={"tag": "<b>" + "x" * 50}, follow_redirects=True)
    assert "is no tag" in text(refused)
    assert "at most 40 characters" in text(refused)
    client.post("/orders/1/tags", data={"tag": "collects", "act": "remove"})
    assert bench.rows("SELECT tag FROM contact_tag") == []
    assert client.post("/orders/99/tags", data={"tag": "a"}).status_code == 404
