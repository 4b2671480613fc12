"""Ids sort by time, and say when they were made."""

import datetime as dt

from hypothesis import given
from hypothesis import strategies as st

from angelon.core.ids import first_of, make_id, time_of

moments = st.datetimes(dt.datetime(2000, 1, 1), dt.datetime(2100, 1, 1), timezones=st.just(dt.UTC))
noises = st.integers(0, 2**50 - 1)


def in_milliseconds(at):
    return at.replace(microsecond=at.microsecond // 1000 * 1000)


@given(moments, noises)
def test_an_id_says_when_it_was_made(at, noise):
    assert time_of(make_id("sd", at, noise)) == in_milliseconds(at)


@given(moments, moments, noises, noises)
def test_ids_sort_by_time(a, b, one, other):
    if in_milliseconds(a) < in_milliseconds(b):
        assert make_id("sd", a, one) < make_id("sd", b, other)
        assert make_id("sd", a, one) < first_of("sd", b) < make_id("sd", b, other)


def test_what_is_no_id_of_ours_says_nothing():
    assert time_of("sd-001") is None
    assert time_of("sd-il0000000") is None
    assert time_of("") is None
    assert time_of(None) is None
