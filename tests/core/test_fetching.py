"""Fetching page by page: whatever changes, fails or shifts meanwhile, every order's last state is had, once."""

import datetime as dt
import json
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.fetching import Position, after, item_of, items_of, news_of, read_page, request_of, since_text
from angelon.core.problems import Invalid
from angelon.core.specs import Source
from angelon.core.specs.fetch import Fetch

NOON = dt.datetime(2026, 3, 2, 12, tzinfo=dt.UTC)
SOURCE = Source.model_validate({"key": "stall", "name": "Stall", "tells": "orders", "reading": {"reference": "$.no"}})
KINDS = {
    "one": {"pages": "one"},
    "link": {"pages": "link"},
    "cursor": {"pages": "cursor", "next_at": "$.next", "page_parameter": "after"},
    "number": {"pages": "number", "page_parameter": "page"},
}


def spec(kind="cursor", **more):
    since = {"since_parameter": "since", "since_at": "$.changed"}
    return Fetch.model_validate(
        {"url": "https://s.example/o?limit=3", "items_at": "$.orders", **since, **KINDS[kind]} | more
    )


class Store:
    """A store as it might be: orders by the time of their last change, in seconds, three a page."""

    def __init__(self, size):
        self.orders = {}
        self.size = size
        self.now = NOON

    def change(self, no, state):
        self.orders[no] = {"no": no, "state": state, "changed": self.now.isoformat(timespec="seconds")}

    def answer(self, url):
        asked = {name: values[0] for name, values in parse_qs(urlsplit(url).query).items()}
        rows = sorted(self.orders.values(), key=lambda one: (one["changed"], one["no"]))
        if "since" in asked:
            rows = [one for one in rows if one["changed"] >= asked["since"].replace("Z", "+00:00")]
        start = 0
        if "page" in asked:
            start = (int(asked["page"]) - 1) * self.size
        elif "after" in asked:
            changed, _, no = asked["after"].partition("|")
            start = sum((one["changed"], one["no"]) <= (changed, no) for one in rows)
        part = rows[start : start + self.size]
        more = start + self.size < len(rows)
        mark = f"{part[-1]['changed']}|{part[-1]['no']}" if part and more else None
        headers = {"date": self.now.strftime("%a, %d %b %Y %H:%M:%S GMT")}
        link = f"/o?{urlencode({**asked, 'after': mark})}" if mark else ""
        return json.dumps({"orders": part, "next": mark}).encode(), headers, link


def one_pass(fetch, store, position, known, came, between=lambda: None, most=200):
    """Pages until a pass is through; `between` happens after each."""
    for _ in range(most):
        url, _ = request_of(fetch, position)
        body, headers, link = store.answer(url)
        page = read_page(fetch, position, url, body, headers, store.now, link)
        news = news_of(items_of(SOURCE, page.items, fetch), known)
        known.update({one.key: (one.digest, one.at) for one in news})
        came += [(one.payload["no"], one.payload["state"], one.payload["changed"]) for one in news]
        position, through = after(fetch, position, page, bool(news))
        between()
        if through:
            return position
    raise AssertionError("a pass without end")


@pytest.mark.parametrize("kind", ["link", "cursor"])
def test_two_states_in_the_second_in_which_an_order_is_read_are_both_had(kind):
    """However long the pass goes on, and however far others change after that."""
    store, fetch, known, came = Store(1), spec(kind), {}, []
    for no in "abc":
        store.change(no, "s0")
    pages = iter(range(9))

    def live():  # the first changes again at once, the others one by one, each as it was read
        number = next(pages, 9)
        store.now += dt.timedelta(seconds=0 if number in (0, 9) else 50)
        if number < 9:
            store.change(came[-1][0], f"s{number + 1}")

    position = one_pass(fetch, store, Position(), known, came, live)
    assert ("a", "s1") not in {(no, state) for no, state, _ in came}, "the page with it had been read"
    one_pass(fetch, store, position, known, came)
    assert [state for no, state, _ in came if no == "a"] == ["s0", "s1"]


@pytest.mark.parametrize("kind", ["link", "cursor", "number"])
@given(data=st.data())
@settings(max_examples=60)
def test_the_last_state_of_every_order_is_had_and_no_state_twice(kind, data):
    store, fetch = Store(data.draw(st.integers(1, 4))), spec(kind)
    position, known, came = Position(), {}, []
    orders = st.sampled_from("abcdefgh")

    def live():
        store.now += dt.timedelta(seconds=data.draw(st.integers(0, 40)))
        for no in data.draw(st.lists(orders, max_size=3)):
            store.change(no, f"s{data.draw(st.integers(0, 2))}")

    live()
    for _ in range(data.draw(st.integers(1, 4))):
        position = one_pass(fetch, store, position, known, came, live)
    for _ in range(2):  # nothing changes any more
        position = one_pass(fetch, store, position, known, came)
    last = {no: (state, changed) for no, state, changed in came}
    assert last == {no: (one["state"], one["changed"]) for no, one in store.orders.items()}
    assert len(came) == len(dict.fromkeys(came))


def test_pages_by_number_that_shift_while_they_are_read_leave_nothing_out():
    store, fetch = Store(2), spec("number")
    for number, no in enumerate("abcd"):
        store.now = NOON + dt.timedelta(seconds=number)
        store.change(no, "s0")
    store.now += dt.timedelta(hours=1)
    moved = iter(
        [lambda: store.change("a", "s1")]
    )  # after page 1: `c` moves up onto it, and is on no page that follows
    known, came = {}, []
    position = one_pass(fetch, store, Position(), known, came, lambda: next(moved, lambda: None)())
    assert {no for no, _, _ in came} == set("abcd")
    assert position.since.startswith("2026-03-02T13:00:03")


def test_what_is_said_to_be_in_the_future_leaves_out_nothing_that_follows():
    store, fetch = Store(5), spec("link")
    store.change("a", "s0")
    store.orders["b"] = {"no": "b", "state": "s0", "changed": "2099-01-01T00:00:00+00:00"}
    known, came = {}, []
    position = one_pass(fetch, store, Position(), known, came)
    assert position.since.startswith("2026-03-02T12:00:00")
    store.now += dt.timedelta(minutes=5)
    store.change("c", "s0")
    one_pass(fetch, store, position, known, came)
    assert [no for no, _, _ in came] == ["a", "b", "c"]


def test_a_state_that_comes_back_is_news_and_an_older_one_read_late_is_none():
    fetch = spec(since_parameter="", since_at="")
    first, second = ({"no": "a", "state": state} for state in ("paid", "held"))
    known, came = {}, []
    for payload in (first, second, first, first):
        news = news_of([item_of(SOURCE, payload, fetch)], known)
        known |= {one.key: (one.digest, one.at) for one in news}
        came += [one.payload["state"] for one in news]
    assert came == ["paid", "held", "paid"]
    dated = spec()
    new = item_of(SOURCE, {"no": "a", "state": "sent", "changed": "2026-03-02T12:00:09+00:00"}, dated)
    old = item_of(SOURCE, {"no": "a", "state": "paid", "changed": "2026-03-02T14:00:00+02:00"}, dated)
    assert news_of([new, old], {}) == [new]
    assert news_of([old], {new.key: (new.digest, new.at)}) == []


@pytest.mark.parametrize(
    ("form", "said"),
    [
        ("iso", "2026-03-02T11:58:00Z"),
        ("unix", "1772452680"),
        ("date", "2026-03-02"),
        ("id", "2026-03-02T12:00:00+00:00"),
    ],
)
def test_the_newest_time_is_written_as_the_store_takes_it(form, said):
    assert since_text(spec(since_form=form), NOON.isoformat()) == said


def test_ids_that_are_numbers_count_as_numbers():
    fetch = spec("link", since_form="id", since_at="$.no", since_parameter="after_id")
    body = json.dumps({"orders": [{"no": 9}, {"no": 10}]}).encode()
    page = read_page(fetch, Position(), fetch.url, body, {}, NOON)
    assert page.highest == "10"
    position, through = after(fetch, Position("4"), page, True)
    assert (position.since, through) == ("10", True)
    assert request_of(fetch, position)[0] == "https://s.example/o?limit=3&after_id=10"


@pytest.mark.parametrize(
    ("body", "link", "told"),
    [
        (b"<html>Log in", "", "is not JSON"),
        (b'{"items": []}', "", "no list at $.orders in the answer. There are: items."),
        (b'{"orders": []}', "https://other.example/o", "at https://other.example:443"),
        (b'{"orders": []}', "https://s.example/p2", "itself as the next page"),
    ],
)
def test_an_answer_that_cannot_be_used_says_why(body, link, told):
    with pytest.raises(Invalid) as refused:
        read_page(spec("link"), Position(page="https://s.example/p2"), "https://s.example/o", body, {}, NOON, link)
    assert told in refused.value.problems[0].what


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ({"url": "ftp://s.example"}, "no web address"),
        ({"url": "https://me:pw@s.example"}, "holds no password"),
        ({"items_at": "orders"}, "is no path"),
        ({"next_at": ""}, "at which path of the answer"),
        ({"page_parameter": ""}, "names no parameter"),
        ({"since_at": ""}, "has no path to it"),
    ],
)
def test_a_request_that_cannot_work_is_refused(wrong, told):
    with pytest.raises(ValueError, match=told):
        spec("cursor", **wrong)


def test_a_feed_of_events_is_known_by_its_events_and_not_by_their_orders():
    feed = Source.model_validate({
        "key": "feed", "name": "Feed", "reading": {"reference": "$.no"}, "event_name": "$.what", "delivery_id": "$.id",
    })  # fmt: skip
    first, second = ({"id": n, "no": "a", "what": what} for n, what in ((1, "placed"), (2, "paid")))
    known, came = {}, []
    for page in ([first], [first, second], [first, second], [second, first]):
        news = news_of(items_of(feed, page), known)
        known |= {one.key: (one.digest, one.at) for one in news}
        came += [one.payload["id"] for one in news]
    assert came == [1, 2]
