"""A look ahead: worked-out sums, and how often what came was in the range, on made demand of several kinds."""

import datetime as dt
import random

import pytest

from angelon.core.planning.forecast import look_ahead

TODAY = dt.date(2026, 11, 2)  # a Monday
FIRST = TODAY - dt.timedelta(days=28)


def days(amounts, first=FIRST):
    return {first + dt.timedelta(days=n): float(amount) for n, amount in enumerate(amounts)}


def test_days_to_come_are_like_those_of_their_weekday():
    outlook = look_ahead(days([10, 10, 10, 10, 10, 0, 0] * 4), FIRST, TODAY, ahead=7)
    assert outlook.days == [10, 10, 10, 10, 10, 0, 0]
    assert (outlook.usual, outlook.low, outlook.high) == (50, 50, 50)
    assert look_ahead(days([10, 10, 10, 10, 10, 0, 0] * 4), FIRST, TODAY, ahead=30).usual == 4 * 50 + 20


def test_few_days_count_alike_and_today_counts_for_nothing():
    few = look_ahead(days([4, 8], TODAY - dt.timedelta(days=2)) | {TODAY: 1000.0}, TODAY - dt.timedelta(days=2), TODAY)
    assert (few.usual, few.low) == (180, None)
    assert look_ahead({}, TODAY, TODAY).usual == 0
    assert look_ahead({}, FIRST, TODAY).usual == 0


def test_when_credit_ends():
    outlook = look_ahead(days([2] * 28), FIRST, TODAY)
    assert outlook.lasts(10) == 6, "after five days it is at nought, and the sixth can't be paid"
    assert outlook.lasts(60) is None
    assert outlook.lasts(0) == 1


def poisson(rng, mean):
    left, count = rng.expovariate(1), 0
    while left < mean:
        count, left = count + 1, left + rng.expovariate(1)
    return count


def steady(rng, day):
    return poisson(rng, 20)


def by_weekday(rng, day):
    return poisson(rng, (30, 30, 30, 34, 44, 12, 6)[day % 7])


def bursts(rng, day):
    return poisson(rng, 8) + (poisson(rng, 60) if rng.random() < 0.08 else 0)


def noisy(rng, day):
    return poisson(rng, 25 * rng.gammavariate(4, 0.25))


@pytest.mark.parametrize(("demand", "known"), [(steady, 28), (by_weekday, 28), (bursts, 28), (noisy, 28), (steady, 6)])
def test_what_comes_lies_in_the_range_about_four_times_of_five(demand, known):
    inside, rounds, rng = 0, 300, random.Random(7)
    for _ in range(rounds):
        first = TODAY - dt.timedelta(days=known)
        past = days([demand(rng, n) for n in range(28 - known, 28)], first)
        outlook = look_ahead(past, first, TODAY)
        inside += outlook.low <= sum(demand(rng, n) for n in range(30)) <= outlook.high
    assert 0.68 <= inside / rounds <= 0.92, f"{inside / rounds:.2f}"
