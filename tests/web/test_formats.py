"""How pages say moments, spans and sizes."""

import datetime as dt
from zoneinfo import ZoneInfo

import pytest
from flask import Flask, g

from angelon.web import formats
from tests.made import NOON


@pytest.fixture(autouse=True)
def dublin():
    with Flask("x").app_context():
        g.zone = ZoneInfo("Europe/Dublin")
        yield


@pytest.mark.parametrize(
    ("delta", "said"),
    [
        (dt.timedelta(), "12:00"),
        (dt.timedelta(hours=-10), "02:00"),
        (dt.timedelta(days=-1), "yesterday 12:00"),
        (dt.timedelta(days=1), "tomorrow 12:00"),
        (dt.timedelta(days=-3), "Sat 12:00"),
        (dt.timedelta(days=-20), "14 Oct 13:00"),
        (dt.timedelta(days=-400), "29 Sep 2025 13:00"),
    ],
)
def test_moments_on_the_store_s_clocks(delta, said):
    assert formats.moment(NOON + delta, NOON) == said


@pytest.mark.parametrize(
    ("seconds", "said"),
    [
        (0.04, "40\u00a0ms"),
        (3.21, "3.2 s"),
        (59, "59 s"),
        (61, "1 min 1 s"),
        (3600, "1 h"),
        (3 * 3600 + 600, "3 h 10 min"),
        (90000, "1 d 1 h"),
        (86400 + 61, "1 d"),
    ],
)
def test_spans_in_two_units(seconds, said):
    assert formats.span(dt.timedelta(seconds=seconds)) == said


def test_the_rest():
    assert (formats.size(999), formats.size(2048), formats.size(1_572_864)) == ("999 bytes", "2 KB", "1.5 MB")
    assert (formats.plural(1, "try", "tries"), formats.plural(1200, "send")) == ("1 try", "1,200 sends")
    assert formats.exact(NOON) == "Tuesday 3 November 2026, 12:00:00 GMT"
    assert formats.marked("use `a<b`") == "use <code>a&lt;b</code>"
    assert formats.moment(None) == "never"


@pytest.mark.parametrize(("value", "shown"), [(10.0, 10), (0.5, 0.5), (60, 60), ("soon", "soon"), (None, None)])
def test_a_number_in_a_field_is_as_one_would_write_it(value, shown):
    assert str(formats.bare(value)) == str(shown)
