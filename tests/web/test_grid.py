"""Moments and channels switched on at once: what can go live does, what can't stays a draft and says why."""

import pytest

from angelon.core.problems import Invalid
from angelon.engine.operations import stages
from angelon.engine.unit import unit
from tests.web.test_pages import post, text


def test_a_moment_is_set_up_with_a_message_and_a_route(client, bench):
    post(client)  # an event to try the text with
    bench.plan()
    page = client.get("/grid").get_data(as_text=True)
    assert 'href="/routes/received"' in page  # what speaks already
    assert "no gateway" in page  # by SMS and chat
    done = text(
        client.post("/grid", data={"cell": ["order.cancelled|email", "parcel.delivered|email"]}, follow_redirects=True)
    )
    routes = dict(bench.rows("SELECT key, \"on\" FROM route WHERE key LIKE '%by-email%'"))
    assert len(routes) == 2
    live = [key for key, on in routes.items() if on]
    assert ("routes are live now" in done or "route is live now" in done) == bool(live)
    for key in routes:
        if key not in live:
            assert "is a draft:" in done
    assert len(bench.rows("SELECT key FROM message")) == 3
    again = client.get("/grid").get_data(as_text=True)
    for key in routes:
        assert f'href="/routes/{key}"' in again


def test_a_form_that_is_sent_twice_makes_one_route(client, bench):
    with unit(bench.services.installation, bench.store_id) as work:
        stages.set_up(work, "order.cancelled", "email", "received", None, [])
    with (
        pytest.raises(Invalid, match="does so already"),
        unit(bench.services.installation, bench.store_id) as work,
    ):
        stages.set_up(work, "order.cancelled", "email", "received", None, [])
    assert bench.rows("SELECT count(*) FROM route") == [(2,)]


def test_nothing_and_nonsense_are_told(client, bench):
    assert "Nothing is ticked." in text(client.post("/grid", data={}, follow_redirects=True))
    assert "Nothing is ticked." in text(client.post("/grid", data={"cell": ["x|y"]}, follow_redirects=True))
    told = text(client.post("/grid", data={"cell": "order.cancelled|sms"}, follow_redirects=True))
    assert "There is no gateway for SMS yet." in told
    assert bench.rows("SELECT count(*) FROM route") == [(1,)]


def test_what_others_say_stands_on_the_line_and_a_double_is_seen(client, bench):
    form = {"said.order.created": "the store’s own confirmation", "said.parcel.delivered": "the carrier’s text"}
    done = client.post("/grid/others", data=form, follow_redirects=True)
    assert 'value="the carrier’s text"' in done.get_data(as_text=True)
    page = client.get("/").get_data(as_text=True)
    assert "the carrier’s text" in page
    assert page.count('class="others doubled"') == 1  # a route tells of created, none of delivered
    client.post("/grid/others", data={})
    assert "the carrier’s text" not in client.get("/").get_data(as_text=True)
