"""The next 30 days: the page over a demo's month, shortages in words, and a shop that nothing has come to."""

import datetime as dt
import json

from angelon.core.planning.forecast import ForecastDays
from angelon.core.specs import Gateway
from angelon.db.tables import GatewayUseRow
from angelon.web.forecast.views import shortages

TODAY = dt.date(2026, 11, 27)
STEADY = ForecastDays(300.0, 250.0, 350.0, [10.0] * 30)


def run(client):
    answer = client.get("/forecast/run")
    assert answer.status_code == 200
    lines = [json.loads(line) for line in answer.text.splitlines()]
    assert all(one["done"] <= one["of"] for one in lines[:-1])
    return lines[-1]["html"]


def gateway(**quota):
    return Gateway(key="line", name="Line", kind="sms", price="0.05", quota=quota)


def test_a_shop_that_nothing_has_come_to(client):
    assert client.get("/forecast").status_code == 200
    assert "Nothing would have been sent" in run(client)


def test_what_will_not_be_enough_is_said():
    used = GatewayUseRow(gateway_id=1, balance=55_000_000)
    told = shortages(gateway(per_day=8, per_month=200), used, STEADY, STEADY, TODAY)
    assert told == [
        "The credit is used up about 2 December.",
        "Its quota of 8 a day is less than a day’s 10.",
        "Its quota of 200 a month is less than the 300 expected.",
    ]
    assert shortages(gateway(), GatewayUseRow(gateway_id=1, balance=301_000_000), STEADY, STEADY, TODAY) == []
    assert shortages(gateway(per_day=10), None, STEADY, STEADY, TODAY) == []
