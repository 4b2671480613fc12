"""Parcels told by the order, by a source of parcels, by the clock: each news once, whatever comes when and twice."""

import datetime as dt
import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from angelon.core.parcels.stages import Progress
from angelon.core.specs import Message, Source
from angelon.core.specs.carrier import Carrier
from angelon.db.log import parcels
from angelon.db.tables import MessageRow, SourceRow
from angelon.db.upkeep import forgetting
from angelon.engine.orders.parcels import LateParcels, Parcels, Telling
from tests import made
from tests.engine.test_fallbacks import Shop

GANNET = Carrier(
    key="gannet",
    name="Gannet Post",
    forms=[{"shape": "@@#########@@", "check": "s10"}],
    link="https://gannet.example/f/{number}",
    words={"Gone fishing": "in_transit"},
    days=3,
    counts_after=2,
    lost_after=6,
)
SALTWAY = Carrier(key="saltway", name="Saltway Couriers", forms=[{"shape": "SW########"}])
ONE, TWO = "RR473124829GB", "SW00002220"
TEXT = (
    "Order {{ order.number }}: {{ parcel.carrier }} {{ parcel.number }}"
    "{% if parcel.link %}, {{ parcel.link }}{% endif %}"
)
ON = {"even_if_notified": True}


def watch(**changes):
    """A source that tells of parcels, several in a delivery."""
    parcel = {
        "carrier": "$.by", "number": "$.no", "status": "$.state", "at": "$.when", "order": "$.order",
        "expected_on": "$.due", "place": "$.town",
    }  # fmt: skip
    spec = {"key": "watch", "name": "Parcel watch", "signing": {"scheme": "none"}, "same_body_minutes": 0}
    return Source.model_validate(spec | {"reading": {"parcels": "$.parcels"}, "parcel": parcel} | changes)


@pytest.fixture
def shop(bench):
    shop = Shop(bench)
    shop.store(carriers=[GANNET.plain(), SALTWAY.plain()], base_url="https://shop.example")
    plain = made.source().model_dump(mode="json")
    parcel = {"carrier": "$.by", "number": "$.no", "expected_on": "$.due", "items": "$.skus"}
    reading = plain["reading"] | {"phone": "$.buyer.phone", "parcels": "$.parcels"}
    bench.change(Source.model_validate(plain | {"reading": reading, "parcel": parcel}), SourceRow)
    bench.change(watch(), SourceRow)
    said = {"email": {"en": {"subject": "{{ parcel.number }}", "text": TEXT, "text_only": True}}}
    shop.publish(MessageRow, Message.model_validate({"key": "parcel", "name": "Parcel", "locale": "en", **said}))
    return shop


def told(shop, *tellings, plan=True):
    """A delivery of the source of parcels."""
    shop.later(seconds=1)
    shop.serial = getattr(shop, "serial", 0) + 1
    shop.bench.deliver(
        json.dumps({"parcels": list(tellings), "n": shop.serial}).encode(), "watch", store_delivery=str(shop.serial)
    )
    if plan:
        shop.bench.plan()


def parcel(number=ONE, state="", hours=0, **more):
    at = (made.NOON + dt.timedelta(hours=hours)).isoformat()
    return {"no": number, "state": state, "when": at, **more}


def happened(shop, number="BK-7"):
    """The events of an order about parcels, in turn."""
    rows = shop.bench.rows(
        'SELECT e.type FROM event e JOIN "order" o ON o.id = e.order_id WHERE o.number = ? AND'
        " (e.type LIKE 'parcel.%' OR e.type IN ('order.shipped', 'order.delivered')) AND e.was LIKE 'pc-%'"
        " ORDER BY e.received_at, e.id",
        number,
    )
    return [row.type for row in rows]


def known(shop):
    return {row.number: row for row in shop.bench.rows("SELECT * FROM parcel ORDER BY id")}


def test_an_order_tells_of_its_parcel_and_a_source_of_how_far_it_is(shop):
    shop.now = made.NOON
    shop.route(
        key="told",
        name="Told",
        when=["parcel.added", "parcel.out_for_delivery"],
        send="parcel",
        once="event",
        guards=ON,
    )
    shop.order(parcels=[{"no": "rr 4731 2482 9 gb"}])
    assert happened(shop) == ["parcel.added"]
    assert known(shop)["rr 4731 2482 9 gb"].carrier == "gannet", "by its form and check digit"
    told(shop, parcel(state="picked up", hours=0), parcel(state="OUT FOR DELIVERY", hours=0), parcel(state="Picked up"))
    assert happened(shop) == ["parcel.added", "parcel.picked_up", "order.shipped", "parcel.out_for_delivery"]
    shop.dispatch()
    subjects = [row.subject for row in shop.bench.rows("SELECT subject FROM send ORDER BY created_at")]
    assert subjects == ["rr 4731 2482 9 gb"] * 2
    text = shop.ways["email"].mails[-1].data.decode().replace("=\r\n", "")
    assert "Order BK-7: Gannet Post rr 4731 2482 9 gb, https://gannet.example/f/RR473124829GB" in text


def test_the_parcels_of_an_order_are_in_its_mails_and_the_one_that_it_is_about(shop):
    shop.now = made.NOON
    block = {"en": {"subject": "{{ parcel.number }} by {{ parcel.carrier }}", "blocks": [{"kind": "parcel"}]}}
    shop.publish(MessageRow, Message.model_validate({"key": "all", "name": "All", "locale": "en", "email": block}))
    shop.route(key="told", name="Told", when=["parcel.in_transit"], send="all", guards=ON)
    shop.order(parcels=[{"no": ONE}, {"no": TWO, "due": "2026-11-09"}])
    told(shop, parcel(ONE, "Gone fishing"))
    shop.dispatch()
    (content,) = shop.bench.rows("SELECT subject FROM send")
    assert content.subject == f"{ONE} by Gannet Post"


def test_news_of_a_parcel_come_once_however_often_and_in_which_order_it_is_told(shop):
    shop.now = made.NOON + dt.timedelta(hours=9)
    shop.order(parcels=[{"no": ONE}])
    told(shop, parcel(state="delivered", hours=8))
    told(shop, parcel(state="in transit", hours=2), parcel(state="delivered", hours=8))
    told(shop, parcel(state="picked up", hours=1))
    assert sorted(happened(shop)) == ["order.delivered", "order.shipped", "parcel.added", "parcel.delivered"]
    progress = Progress.from_stored(json.loads(known(shop)[ONE].told))
    assert [one.stage.value for one in progress.told] == ["picked_up", "in_transit", "delivered", "label_printed"]


def test_a_parcel_that_is_told_before_its_order_finds_it(shop):
    shop.now = made.NOON
    told(shop, parcel(state="in transit", order="#bk-7"))
    assert happened(shop) == []
    assert known(shop)[ONE].said_order == "bk-7"
    shop.order()
    assert known(shop)[ONE].said_order == ""
    assert sorted(happened(shop)) == ["order.shipped", "parcel.added", "parcel.in_transit"]


def test_an_order_of_three_parcels_is_shipped_once_and_delivered_with_the_last(shop):
    shop.now = made.NOON + dt.timedelta(hours=5)
    shop.order(parcels=[{"no": ONE, "skus": ["A"]}, {"no": TWO, "skus": ["B"]}], lines=[{"sku": "A"}, {"sku": "B"}])
    told(shop, parcel(TWO, "picked up", 1))
    told(shop, parcel(ONE, "picked up", 2))
    told(shop, parcel(TWO, "delivered", 3))
    assert happened(shop).count("order.shipped") == 1
    assert "order.delivered" not in happened(shop)
    told(shop, parcel(ONE, "delivered", 4))
    assert happened(shop).count("order.delivered") == 1


def test_a_line_in_no_parcel_keeps_the_order_from_being_delivered(shop):
    shop.now = made.NOON + dt.timedelta(hours=5)
    plain = made.source().model_dump(mode="json")
    reading = plain["reading"] | {"parcels": "$.parcels"}
    line = plain["line"] | {"sku": "$.sku"}
    mapped = {"reading": reading, "line": line, "parcel": {"number": "$.no", "items": "$.skus"}}
    shop.bench.change(Source.model_validate(plain | mapped), SourceRow)
    shop.order(parcels=[{"no": ONE, "skus": ["A"]}], lines=[{"sku": "A"}, {"sku": "B"}])
    told(shop, parcel(ONE, "delivered", 4))
    assert "order.delivered" not in happened(shop)
    with shop.bench.database.writing() as session:
        live = shop.bench.services.setups.get(shop.bench.store_id)
        (row,) = shop.bench.rows('SELECT id FROM "order"')
        item = parcels.Item("B", "", "1")
        telling = Telling(TWO, "Ines", words="delivered", items=(item,), order_ids=(row.id,))
        Parcels(session.connection(), live, shop.bench.clock).tell([telling])
    assert happened(shop).count("order.delivered") == 1


def late(shop):
    LateParcels(shop.bench.database, shop.bench.services.setups, shop.bench.clock).run_due()
    shop.bench.plan()


def test_a_parcel_is_late_counts_as_delivered_and_is_told_otherwise(shop):
    shop.now = made.NOON
    shop.order(parcels=[{"no": ONE}])
    told(shop, parcel(state="picked up"))
    shop.route(key="there", name="There", when=["parcel.delivered"], send="parcel", once="order", guards=ON)
    shop.now = dt.datetime.fromisoformat(known_expected(shop)) + dt.timedelta(days=1, hours=2)
    late(shop)
    late(shop)
    assert happened(shop)[-1] == "parcel.late"
    assert happened(shop).count("parcel.late") == 1
    assert known(shop)[ONE].trouble == "late"
    shop.later(days=5)
    late(shop)
    late(shop)
    assert happened(shop).count("parcel.delivered") == 1
    assert known(shop)[ONE].trouble == ""
    told(shop, {"no": ONE, "state": "out for delivery", "when": shop.now.isoformat()})
    assert happened(shop)[-1] == "parcel.not_delivered"
    shop.later(hours=3)
    told(shop, {"no": ONE, "state": "delivered", "when": shop.now.isoformat()})
    assert happened(shop).count("parcel.delivered") == 2, "the real one follows the estimate that was taken back"
    assert shop.bench.rows("SELECT count(*) FROM send WHERE state = 'scheduled' OR state = 'sent'") == [(1,)]


def known_expected(shop):
    from angelon.engine.orders.parcels import ahead_of

    live = shop.bench.services.setups.get(shop.bench.store_id)
    with shop.bench.database.reading() as session:
        (row,) = parcels.by_number(session.connection(), shop.bench.store_id, [ONE])[ONE]
    return f"{ahead_of(live, row, Progress.from_stored(row.told)).expected}T00:00:00+00:00"


def test_no_news_for_days_is_told_once_and_is_over_when_something_comes(shop):
    shop.now = made.NOON
    shop.order(parcels=[{"no": TWO}])
    told(shop, parcel(TWO, "in transit"))
    shop.later(days=16)
    late(shop)
    late(shop)
    assert happened(shop).count("parcel.lost") == 1
    assert known(shop)[TWO].trouble == "lost"
    told(shop, {"no": TWO, "state": "out for delivery", "when": shop.now.isoformat()})
    assert known(shop)[TWO].trouble == ""


def test_nothing_is_expected_of_a_parcel_whose_order_was_cancelled(shop):
    shop.now = made.NOON
    plain = made.source().model_dump(mode="json")
    shop.bench.change(
        Source.model_validate(plain | {"event_names": {**plain["event_names"], "gone": "order.cancelled"}}), SourceRow
    )
    shop.order()
    told(shop, parcel(state="picked up", order="BK-7"))
    shop.later(seconds=1)
    shop.deliver("d-gone", event="gone", id=1)
    shop.bench.plan()
    shop.later(days=20)
    late(shop)
    assert not {"parcel.late", "parcel.lost", "parcel.delivered"} & set(happened(shop))
    assert known(shop)[ONE].look_at is None


def test_what_happened_long_ago_is_taken_in_and_is_nobody_s_news(shop):
    shop.now = made.NOON + dt.timedelta(days=40)
    shop.order()
    told(shop, parcel(state="in transit", hours=1, order="BK-7"))
    assert happened(shop) == ["parcel.added"]
    late(shop)
    late(shop)
    assert happened(shop) == ["parcel.added"], "it has been lost for weeks, and nobody is written to about that now"


def test_words_that_nobody_knows_are_kept_and_the_carrier_s_own_are_known(shop):
    shop.now = made.NOON
    told(shop, parcel(state="Perched"))
    assert (known(shop)[ONE].unknown, known(shop)[ONE].stage) == ("Perched", "")
    told(shop, parcel(state="Gone fishing"))
    assert (known(shop)[ONE].unknown, known(shop)[ONE].stage) == ("", "in_transit")


def test_a_number_that_is_used_again_is_another_parcel(shop):
    shop.now = made.NOON
    shop.order(parcels=[{"no": ONE}])
    told(shop, parcel(state="delivered"))
    shop.later(days=200)
    told(shop, {"no": ONE, "state": "picked up", "when": shop.now.isoformat()})
    rows = shop.bench.rows("SELECT turn, stage FROM parcel ORDER BY turn")
    assert [tuple(row) for row in rows] == [(0, "delivered"), (1, "picked_up")]
    told(shop, {"no": ONE, "state": "in transit", "when": shop.now.isoformat()})
    assert shop.bench.rows("SELECT count(*) FROM parcel") == [(2,)]


def test_numbers_that_say_nothing_are_passed_over_and_the_rest_is_taken(shop):
    shop.now = made.NOON
    shop.order(parcels=[{"no": ""}, {"no": " - "}, {"no": TWO}, {"by": "nobody"}, "odd"])
    assert list(known(shop)) == [TWO]


def test_a_forgotten_order_takes_its_parcels_along(shop):
    shop.now = made.NOON
    shop.order(parcels=[{"no": ONE}])
    shop.order(2, reference="BK-8", parcels=[{"no": ONE}])
    first, second = (row.id for row in shop.bench.rows('SELECT id FROM "order" ORDER BY id'))
    with shop.bench.database.writing() as session:
        parcels.forget(session.connection(), [first])
    assert len(known(shop)) == 1, "the other order is in it"
    with shop.bench.database.writing() as session:
        forgetting.parcels.forget(session.connection(), [second])
    assert known(shop) == {}


def test_a_delivery_with_too_many_parcels_takes_some_and_says_so(shop):
    shop.now = made.NOON
    told(shop, *(parcel(f"SW{n:08}", "in transit") for n in range(150)))
    assert len(known(shop)) == 100
    (event,) = shop.bench.rows("SELECT problem FROM event")
    assert event.problem.startswith("It has 150 parcels, of which the first 100 were taken. On the source’s page")
    shop.bench.change(watch(orders_at="$.parcels", reading={"parcels": "$"}), SourceRow)
    told(shop, *(parcel(f"SW{n:08}", "in transit") for n in range(150)))
    assert len(known(shop)) == 150


def test_one_parcel_told_of_again_and_again_in_one_delivery(shop):
    shop.now = made.NOON + dt.timedelta(hours=24)
    shop.order(parcels=[{"no": TWO}])
    told(shop, *(parcel(TWO, "in transit", n / 10) for n in range(100)))
    assert happened(shop).count("parcel.in_transit") == 1
    assert len(json.loads(known(shop)[TWO].told)) == 60


STATES = ("label printed", "picked up", "in transit", "out for delivery", "delivered", "failed", "not_delivered")


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.sampled_from(STATES), st.integers(0, 20)), min_size=1, max_size=6), st.randoms())
def test_late_repeated_and_crossing_tellings_make_each_event_once(shop, tellings, dice):
    """Whichever way deliveries come: each event of a parcel is stored once, and what is known is the same."""
    shop.now = max(getattr(shop, "now", made.NOON), made.NOON + dt.timedelta(hours=24))
    shop.serial = getattr(shop, "serial", 0) + 1
    number = f"SW{shop.serial:08}"
    order = f"BK-{number}"
    shop.order(f"o-{shop.serial}", reference=order, parcels=[{"no": number}])
    twice = [*tellings, *tellings]
    dice.shuffle(twice)
    for state, hours in twice:
        told(shop, parcel(number, state, hours))
    made_ = happened(shop, order)
    stages = [type_ for type_ in made_ if type_ not in ("parcel.failed", "parcel.delivered", "parcel.not_delivered")]
    assert len(stages) == len(set(stages))
    backs = sum(state == "not_delivered" for state, _ in set(tellings))
    assert made_.count("parcel.delivered") <= 1 + backs
    progress = Progress.from_stored(json.loads(known(shop)[number].told))
    assert {
        (one.stage.value.replace("_", " ").replace("not delivered", "not_delivered"), one.at) for one in progress.told
    } >= {(state, made.NOON + dt.timedelta(hours=hours)) for state, hours in tellings}
