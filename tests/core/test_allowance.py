"""Rate, quota and credit: what is granted never goes over, whatever is asked in whatever order."""

import datetime as dt
from decimal import Decimal
from zoneinfo import ZoneInfo

from hypothesis import example, given
from hypothesis import strategies as st

from angelon.core.sending.allowance import MICRO, Used, burst, give_back, grant
from angelon.core.specs.gateway import Quota

DUBLIN, UTC = ZoneInfo("Europe/Dublin"), dt.UTC
NOON = dt.datetime(2026, 11, 27, 12, 0, tzinfo=UTC)


@given(
    st.floats(0.1, 50),
    st.lists(st.tuples(st.floats(0, 5), st.integers(1, 40)), min_size=1, max_size=120),
)
@example(1.999999999999993, [(0.0, 3)])
def test_over_any_window_never_more_than_the_burst_and_the_rate(rate, asks):
    quota, used, at, given_ = Quota(per_second=rate), Used(), NOON, []
    for wait, wanted in asks:
        at += dt.timedelta(seconds=wait)
        got = grant(quota, used, wanted, Decimal(0), at, UTC)
        used = got.used
        given_.append((at, got.number))
        assert 0 <= got.number <= wanted
        if got.number < wanted:
            assert got.next_at > at, "whoever waits is told until when"
    for first, (begin, _) in enumerate(given_):
        total = 0
        for end, number in given_[first:]:
            total += number
            assert total <= burst(quota) + rate * (end - begin).total_seconds() + 1e-6


def test_what_waits_for_its_rate_may_go_when_it_was_told():
    quota = Quota(per_second=2)
    first = grant(quota, Used(), 10, Decimal(0), NOON, UTC)
    assert (first.number, first.waits_for) == (2, "rate")
    assert grant(quota, first.used, 1, Decimal(0), first.next_at, UTC).number == 1
    assert grant(quota, first.used, 1, Decimal(0), NOON - dt.timedelta(hours=1), UTC).number == 0, "a clock put back"


@given(
    st.lists(st.tuples(st.integers(0, 40), st.integers(1, 30)), max_size=60), st.integers(1, 50), st.integers(1, 200)
)
def test_a_quota_is_kept_in_every_day_and_month_of_the_shop(asks, per_day, per_month):
    quota, used, at = Quota(per_day=per_day, per_month=per_month), Used(), NOON
    days, months = {}, {}
    for hours, wanted in asks:
        at += dt.timedelta(hours=hours)
        got = grant(quota, used, wanted, Decimal(0), at, DUBLIN)
        used, day = got.used, at.astimezone(DUBLIN).date()
        days[day] = days.get(day, 0) + got.number
        month = (day.year, day.month)
        months[month] = months.get(month, 0) + got.number
    assert all(number <= per_day for number in days.values())
    assert all(number <= per_month for number in months.values())


def test_a_quota_begins_anew_at_the_shop_s_midnight_also_when_the_clocks_change():
    quota = Quota(per_day=1)
    at = dt.datetime(2026, 10, 24, 22, 30, tzinfo=UTC)  # 23:30 in Dublin, the night before the clocks go back
    first = grant(quota, Used(), 2, Decimal(0), at, DUBLIN)
    assert (first.number, first.waits_for) == (1, "day")
    assert first.next_at == dt.datetime(2026, 10, 24, 23, 0, tzinfo=UTC)
    second = grant(quota, first.used, 2, Decimal(0), first.next_at, DUBLIN)
    assert second.next_at == dt.datetime(2026, 10, 26, 0, 0, tzinfo=UTC), "a day of 25 hours"


def test_credit_pays_for_so_many_and_no_more():
    used = Used(balance=int(Decimal("0.11") * MICRO))
    got = grant(Quota(), used, 5, Decimal("0.052"), NOON, UTC)
    assert (got.number, got.waits_for) == (2, "credit")
    assert grant(Quota(), Used(balance=-1), 5, Decimal("0.052"), NOON, UTC).number == 0
    assert grant(Quota(), Used(balance=0), 5, Decimal(0), NOON, UTC).number == 5, "what costs nothing goes"


@given(st.integers(1, 20), st.integers(0, 20))
def test_what_is_given_back_can_be_granted_again(wanted, unused):
    quota = Quota(per_day=20, per_second=100)
    got = grant(quota, Used(), wanted, Decimal(0), NOON, UTC)
    back = give_back(quota, got.used, min(unused, got.number))
    assert back.day_used == got.number - min(unused, got.number)
    assert back.tokens <= burst(quota)
