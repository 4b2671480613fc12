"""A gateway's limits at work: two workers share one rate, what waits goes by itself, credit is never wrong."""

import datetime as dt
import threading
import time
from decimal import Decimal

import pytest

from angelon.db.tables import GatewayRow
from angelon.db.upkeep import gateway_use
from angelon.engine.operations import gateways as operations
from angelon.engine.unit import unit
from angelon.gateways.interface import Outcome
from tests import made
from tests.web.test_forms import fields
from tests.web.test_pages import text


class Counting:
    """A gateway that takes everything and notes when."""

    def __init__(self, balance=None):
        self.at, self.balance = [], balance

    def deliver(self, mail, key):
        self.at.append(time.monotonic())
        return Outcome("accepted", "250", "taken", balance=self.balance)

    def close(self): ...


def limited(bench, **changes):
    bench.change(made.gateway(**changes), GatewayRow)
    bench.services.setups.forget()
    return bench.services.setups.get(bench.store_id).gateway_ids["mailroom"]


def orders(bench, number, start=0):
    for one in range(start, start + number):
        body = made.body(id=one, reference=f"BK-{one}", buyer={"name": "A", "email": f"a{one}@example.org"})
        bench.deliver(body, store_delivery=f"d-{one}")
    bench.plan()


def dispatchers(bench, transport, number=2):
    made_ = [bench.dispatcher() for _ in range(number)]
    for count, one in enumerate(made_):
        one.name, one._make_transport = f"worker-{count}-0", lambda *_: transport
    return made_


def test_two_workers_keep_one_rate(bench):
    gateway_id = limited(bench, quota={"per_second": 20})
    orders(bench, 60)
    transport, began = Counting(), time.monotonic()
    until = began + 1.6

    def work(dispatcher):
        while time.monotonic() < until:
            if not dispatcher.run_batch(8, gateway_id=gateway_id):
                time.sleep(0.01)

    threads = [threading.Thread(target=work, args=(one,)) for one in dispatchers(bench, transport)]
    [one.start() for one in threads]
    [one.join() for one in threads]
    took = time.monotonic() - began
    assert 20 < len(transport.at) <= 20 + 20 * took
    ((waiting,),) = bench.rows("SELECT count(*) FROM send WHERE state = 'scheduled'")
    assert waiting == 60 - len(transport.at), "what is more waits, and no try is counted"
    assert bench.rows("SELECT DISTINCT tries FROM send WHERE state = 'scheduled'") == [(0,)]


def test_over_its_quota_it_waits_and_goes_by_itself_on_the_next_day(bench, client):
    gateway_id = limited(bench, quota={"per_day": 3})
    orders(bench, 5)
    (dispatcher,) = dispatchers(bench, Counting(), 1)
    dispatcher.run_batch(8)
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state ORDER BY state") == [
        ("scheduled", 2),
        ("sent", 3),
    ]
    assert "Mailroom: daily quota used" in text(client.get("/"))
    assert "Messages that are due wait until" in text(client.get("/gateways/mailroom"))
    assert "daily quota used" in text(client.get("/gateways"))
    with bench.database.reading() as session:
        assert gateway_id in gateway_use.waiting(session.connection(), bench.clock.now())
    later = bench.clock.now() + dt.timedelta(days=1)
    bench.clock.now = lambda: later
    dispatcher.run_batch(8)
    assert bench.rows("SELECT state FROM send GROUP BY state ORDER BY state") == [("sent",)]


def test_credit_goes_down_by_what_is_accepted_and_stops_at_its_end(bench, client):
    spec = made.provider("sms", 1) | {"key": "mailroom", "kind": "smtp", "sender": made.gateway().sender.model_dump()}
    gateway_id = limited(bench, price="0.10", **{k: v for k, v in spec.items() if k in ("retry",)})
    with unit(bench.services.installation, bench.store_id) as work:
        operations.set_balance(work, work.live.setup.gateways["mailroom"], "0,35")
    orders(bench, 5)
    (dispatcher,) = dispatchers(bench, Counting(), 1)
    dispatcher.run_batch(8)
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state ORDER BY state") == [
        ("scheduled", 2),
        ("sent", 3),
    ]
    assert bench.rows("SELECT balance FROM gateway_use") == [(50_000,)]
    assert "Mailroom: no credit Sends wait until there is credit again." in text(client.get("/"))
    later = bench.clock.now() + dt.timedelta(minutes=9)
    bench.clock.now = lambda: later
    waits = "There is no credit left at Mailroom."
    (waiting,) = {id_ for (id_,) in bench.rows("SELECT id FROM send WHERE state = 'scheduled' LIMIT 1")}
    for page in ("/", "/gateways", f"/sends/{waiting}", "/sends?state=scheduled&span=all", "/gateways/mailroom"):
        assert "no credit" in text(client.get(page)), f"{page} says nothing"
    assert waits in text(client.get(f"/sends/{waiting}"))
    client.post("/gateways/mailroom/balance", data={"balance": "10"})
    dispatcher.run_batch(8)
    assert bench.rows("SELECT balance FROM gateway_use WHERE gateway_id = ?", gateway_id) == [(9_800_000,)]
    assert "ends soon" not in text(client.get("/")), "it lasts longer than the week that it is measured by"
    client.post("/gateways/mailroom/balance", data={"balance": "0.3"})
    assert "At the pace of the last 7 days it lasts 4 days." in text(client.get("/"))
    refused = client.post("/gateways/mailroom/balance", data={"balance": "a lot"}, follow_redirects=True)
    assert "“a lot” is no amount." in text(refused)


def test_what_went_out_today_counts_against_a_quota_that_is_entered_later(bench):
    limited(bench)
    orders(bench, 4)
    (dispatcher,) = dispatchers(bench, Counting(), 1)
    dispatcher.run_batch(8)
    limited(bench, quota={"per_day": 5})
    orders(bench, 4, 10)
    dispatcher.run_batch(8)
    states = dict(map(tuple, bench.rows("SELECT state, count(*) FROM send GROUP BY state")))
    assert states == {"sent": 5, "scheduled": 3}


def test_what_another_worker_has_in_hand_is_not_spent_twice(bench):
    gateway_id = limited(bench, price="0.10")
    with bench.database.connection() as connection:
        gateway_use.set_balance(connection, gateway_id, Decimal("0.50"))
    orders(bench, 8)
    transport = Counting()
    first, second = dispatchers(bench, transport)
    taken = first._claim(4, gateway_id)
    assert len(taken) == 4
    assert second.run_batch(8, gateway_id=gateway_id) == 1, "0.40 of the credit is in the first worker's hands"
    first._deliver(taken, 8, None)
    first.store()
    assert len(transport.at) == 5
    assert bench.rows("SELECT balance FROM gateway_use") == [(0,)]


def test_what_a_provider_says_is_left_counts(bench):
    limited(bench, price="0.10")
    orders(bench, 1)
    (dispatcher,) = dispatchers(bench, Counting(balance=Decimal("7.25")), 1)
    dispatcher.run_batch(8)
    assert bench.rows("SELECT balance FROM gateway_use") == [(7_250_000,)]


def test_balances_are_right_however_workers_interleave(bench):
    gateway_id = limited(bench, price="0.01")
    with bench.database.connection() as connection:
        gateway_use.set_balance(connection, gateway_id, Decimal(100))

    def spend():
        for _ in range(40):
            with bench.database.connection() as connection:
                gateway_use.spend(connection, {gateway_id: Decimal("0.01")})

    threads = [threading.Thread(target=spend) for _ in range(4)]
    [one.start() for one in threads]
    [one.join() for one in threads]
    assert bench.rows("SELECT balance FROM gateway_use") == [(98_400_000,)]


def test_limits_are_written_on_the_page_and_what_is_none_is_told(client, bench):
    page = client.get("/gateways/mailroom").get_data(as_text=True)
    assert 'name="quota.per_second"' in page
    form = {"name": "Mailroom", "quota.per_second": "2.5", "quota.per_day": "1000", "sender.address": "a@kites.example"}
    client.post("/gateways/mailroom", data=form)
    quota = bench.services.setups.get(bench.store_id).setup.gateways["mailroom"].quota
    bench.services.setups.forget()
    quota = bench.services.setups.get(bench.store_id).setup.gateways["mailroom"].quota
    assert (quota.per_second, quota.per_day) == (2.5, 1000)
    refused = client.post("/gateways/mailroom", data={**form, "quota.per_day": "many"})
    assert refused.status_code == 422


@pytest.mark.parametrize("number", ["1", "2"])
def test_connections_bound_the_threads_of_a_process(bench, number):
    from angelon.engine.sending.breakers import Breakers
    from angelon.engine.sending.gateway_pools import GatewayPools

    gateway_id = limited(bench, quota={"connections": int(number)})
    pools = GatewayPools(
        bench.database, bench.clock, Breakers(), "t", lambda _: None, lambda: None, 4, bench.services.setups
    )
    assert pools._most(gateway_id) == int(number)
    assert pools._most(None) == 4


def test_a_quota_is_entered_used_up_and_raised_on_the_gateway_s_page(bench, client):
    """As a person does it: what went out before counts, the rest says what it waits for, and goes once it is raised."""
    noon = bench.clock.now().replace(hour=12)
    bench.clock.now = lambda: noon  # a day's quota begins anew at midnight, which must not be in between
    (dispatcher,) = dispatchers(bench, Counting(), 1)
    bench.change(made.gateway(), GatewayRow)
    orders(bench, 2)
    dispatcher.run_batch(8)
    for per_day, sent in (("3", 3), ("5", 5)):
        form, _ = fields(client.get("/gateways/mailroom").get_data(as_text=True))
        form["quota.per_day"] = per_day
        saved = client.post("/gateways/mailroom", data=form, follow_redirects=True)
        assert saved.status_code == 200
        bench.services.setups.forget()
        orders(bench, 3, 10 * sent)
        later = bench.clock.now() + dt.timedelta(minutes=10)
        bench.clock.now = lambda at=later: at
        dispatcher.run_batch(8)
        assert bench.rows("SELECT count(*) FROM send WHERE state = 'sent'") == [(sent,)]
        (waiting,) = bench.rows("SELECT id FROM send WHERE state = 'scheduled' LIMIT 1")
        for page in (f"/sends/{waiting.id}", "/gateways/mailroom", "/gateways", "/"):
            assert "daily quota" in text(client.get(page)) or "Messages that are due wait" in text(client.get(page)), (
                page
            )
        assert f"Used: {sent} today" in text(client.get("/gateways/mailroom"))
    refused = client.post("/gateways/mailroom", data={**form, "quota.per_day": "plenty"})
    assert refused.status_code == 422
    assert "“plenty”" in text(refused)
