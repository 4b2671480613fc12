"""One order that two sources tell of: one row, one story, one message; joined and parted by hand; and told apart."""

import itertools

import pytest

from angelon.core.orders import alike_number, families
from angelon.core.specs import Source
from angelon.db.tables import SourceRow
from tests import made
from tests.engine.test_fallbacks import Shop

SHOP, FAIR = "shop", "fair"


def fair(**changes):
    """A second source: its own references, the shop's numbers."""
    plain = made.source().model_dump(mode="json")
    reading = {**plain["reading"], "reference": "$.fair_id", "number": "$.no"}
    return Source.model_validate(plain | {"key": FAIR, "name": "Fairground", "reading": reading} | changes)


class Told(Shop):
    serial = itertools.count()

    def tell(self, source, event="placed", **changes):
        self.later(seconds=5)
        key = f"{source}-{next(self.serial)}"
        self.bench.deliver(made.body(**changes), source, store_delivery=key, store_event=event)
        self.bench.plan()

    def at_the_fair(self, number, fair_id="f-1", event="placed", **changes):
        self.tell(FAIR, event, no=number, fair_id=fair_id, **changes)

    def orders(self):
        return self.bench.rows('SELECT reference, number, status FROM "order" ORDER BY id')

    def sends(self):
        return [state for (state,) in self.bench.rows("SELECT state FROM send ORDER BY created_at, id")]


@pytest.fixture
def shop(bench):
    shop = Told(bench)
    bench.change(fair(same_orders={"source": SHOP, "by": "number"}), SourceRow)
    shop.route(sources=[SHOP, FAIR], once="event")
    return shop


def test_an_order_that_two_sources_tell_is_one_and_is_told_once(shop):
    shop.tell(SHOP, id=7)
    number = shop.orders()[0].number
    shop.at_the_fair(f"#{number.upper()}")
    assert len(shop.orders()) == 1
    assert shop.sends().count("scheduled") == 1
    assert "has told the same about this order" in str(shop.bench.rows("SELECT reason FROM send"))
    shop.at_the_fair("", event="changed", state="packed")  # by its own reference, which is known by now
    assert [row.status for row in shop.orders()] == ["packed"]


def test_it_is_the_same_whoever_comes_first_and_in_one_batch(shop):
    shop.later(seconds=1)
    shop.bench.deliver(made.body(no="K-9", fair_id="f-9"), FAIR, store_delivery="a", store_event="placed")
    shop.later(seconds=1)
    shop.bench.deliver(made.body(id=9, reference="k-9"), SHOP, store_delivery="b", store_event="placed")
    shop.bench.plan()
    assert [row.reference for row in shop.orders()] == ["f-9"]
    assert shop.sends().count("scheduled") == 1


def test_a_source_s_own_orders_of_one_number_are_not_made_one(shop):
    shop.at_the_fair("K-1", "f-1")
    shop.at_the_fair("K-1", "f-2")
    assert len(shop.orders()) == 2


def test_without_being_told_so_sources_have_orders_of_their_own(shop):
    shop.bench.change(fair(), SourceRow)
    shop.tell(SHOP, id=7)
    shop.at_the_fair(shop.orders()[0].number)
    assert len(shop.orders()) == 2
    assert shop.sends().count("scheduled") == 2


def test_by_number_and_email_another_buyer_is_another_order(shop):
    shop.bench.change(fair(same_orders={"source": SHOP, "by": "number_and_email"}), SourceRow)
    shop.tell(SHOP, id=7)
    number = shop.orders()[0].number
    shop.at_the_fair(number, "f-1", buyer={"name": "Vi", "email": "vi@example.org"})
    assert len(shop.orders()) == 2
    shop.at_the_fair(number, "f-2")
    assert len(shop.orders()) == 2


def test_what_differs_is_told_by_either_source(shop):
    shop.route(sources=[SHOP, FAIR], when=["order.status_changed"], once="event")
    shop.tell(SHOP, id=7, state="paid")
    number = shop.orders()[0].number
    shop.tell(SHOP, "changed", id=7, state="packed")
    shop.at_the_fair(number, event="changed", state="shipped")
    assert shop.sends().count("scheduled") == 2
    shop.tell(SHOP, "changed", id=7, state="shipped")
    assert shop.sends().count("scheduled") == 2, "that it is shipped was told already"


def test_orders_are_joined_and_parted_by_hand(shop, client):
    shop.bench.change(fair(), SourceRow)
    shop.tell(SHOP, id=7, state="paid")
    shop.at_the_fair("other", state="packed")
    first, second = (row.id for row in shop.bench.rows('SELECT id FROM "order" ORDER BY id'))
    said = client.post(f"/orders/{first}/join", data={"number": "nowhere"}, follow_redirects=True).text
    assert "There is no other order “nowhere”" in said
    assert len(shop.orders()) == 2
    page = client.post(f"/orders/{second}/join", data={"number": shop.orders()[0].number}, follow_redirects=True).text
    assert "Joined with order other of “Fairground”" in page
    assert [row.status for row in shop.orders()] == ["packed"]
    assert shop.bench.rows("SELECT DISTINCT order_id FROM send") == [(first,)]
    shop.at_the_fair("other", event="changed", state="shipped")
    assert [row.status for row in shop.orders()] == ["shipped"]
    page = client.post(f"/orders/{first}/part", data={"source": FAIR}, follow_redirects=True).text
    assert "Parted from order" in page
    assert [row.status for row in shop.orders()] == ["paid", "shipped"]
    assert len(shop.bench.rows("SELECT DISTINCT order_id FROM send")) == 2
    shop.bench.change(fair(same_orders={"source": SHOP, "by": "number"}), SourceRow)
    shop.at_the_fair(shop.orders()[0].number, event="changed", state="back")
    assert [row.status for row in shop.orders()] == ["paid", "back"], "who parted them is believed"
    page = client.post(f"/orders/{first}/part", data={"source": FAIR}, follow_redirects=True).text
    assert "nothing of this order that could be split off" in page


@pytest.mark.parametrize(("one", "other"), [("#BK-7 ", "bk-7"), ("BK 7", "bk7"), ("＃1", "＃1")])
def test_numbers_that_are_alike(one, other):
    assert alike_number(one) == alike_number(other)


def test_families_are_joined_over_several_sources():
    plain = made.source()
    named = {key: plain.model_copy(update={"key": key}) for key in "abcd"}
    same = {"b": "a", "c": "b"}
    named |= {
        key: Source.model_validate(plain.model_dump() | {"key": key, "same_orders": {"source": other}})
        for key, other in same.items()
    }
    found = families(named)
    assert {key: family.sources for key, family in found.items()} == dict.fromkeys("abc", frozenset("abc"))
