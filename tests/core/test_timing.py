"""When a send is due: worked-out cases, clock changes, and laws over every zone and every day of two years."""

import datetime as dt
from zoneinfo import ZoneInfo, available_timezones

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from angelon.core.specs.timing import Timing, Window
from angelon.core.timing.due import describe, due, inside, moment, next_inside
from angelon.core.timing.places import is_holiday, zone_of

DUBLIN, BERLIN, NEW_YORK = ZoneInfo("Europe/Dublin"), ZoneInfo("Europe/Berlin"), ZoneInfo("America/New_York")


def never(day):
    return False


def at(text, zone=dt.UTC):
    return dt.datetime.fromisoformat(text).replace(tzinfo=zone).astimezone(dt.UTC)


def worked(spec, anchor, now=None, zone=DUBLIN, holiday=never):
    anchor = at(anchor) if isinstance(anchor, str) else anchor
    found = due(Timing.model_validate(spec), anchor, at(now) if now else anchor, zone, holiday)
    return found.at, found.why


@pytest.mark.parametrize(
    ("spec", "anchor", "expected"),
    [
        ({}, "2026-11-03T12:00", "2026-11-03T12:00"),
        ({"amount": 10}, "2026-11-03T12:00", "2026-11-03T12:10"),
        ({"amount": 25, "unit": "hours"}, "2026-03-28T12:00", "2026-03-29T13:00"),  # exact, over a clock change
        (
            {"amount": 1, "unit": "days"},
            "2026-03-28T12:00",
            "2026-03-29T11:00",
        ),  # the same local time: summer time began
        ({"amount": 1, "unit": "days", "at": "09:30"}, "2026-11-03T12:00", "2026-11-04T09:30"),
        ({"amount": 1, "unit": "business_days"}, "2026-11-06T12:00", "2026-11-09T12:00"),  # Friday to Monday
        ({"amount": 3, "unit": "business_days", "at": "08:00"}, "2026-11-05T12:00", "2026-11-10T08:00"),
        ({"window": {"start": "08:00", "end": "20:00"}}, "2026-11-03T21:00", "2026-11-04T08:00"),
        ({"window": {"start": "08:00", "end": "20:00"}}, "2026-11-03T20:00", "2026-11-04T08:00"),  # the end is outside
        ({"window": {"start": "08:00", "end": "20:00"}}, "2026-11-03T08:00", "2026-11-03T08:00"),
        ({"window": {"start": "22:00", "end": "06:00"}}, "2026-11-03T03:00", "2026-11-03T03:00"),  # over midnight
        ({"window": {"start": "22:00", "end": "06:00"}}, "2026-11-03T12:00", "2026-11-03T22:00"),
        ({"window": {"weekdays": [0]}}, "2026-11-03T12:00", "2026-11-09T08:00"),
        ({"not_before": "2026-11-10"}, "2026-11-03T12:00", "2026-11-10T00:00"),
    ],
)
def test_worked_out_by_hand(spec, anchor, expected):
    assert worked(spec, anchor)[0] == at(expected)


def test_a_day_as_anchor_is_nine_in_the_morning_there_or_the_time_given():
    day = dt.date(2026, 12, 24)
    assert worked(
        {"anchor": "expected", "variable": "d", "amount": -1, "unit": "days"}, day, "2026-11-03T12:00", BERLIN
    )[0] == at("2026-12-23T09:00", BERLIN)
    assert worked(
        {"anchor": "expected", "variable": "d", "amount": -2, "unit": "business_days", "at": "17:15"},
        day,
        "2026-11-03T12:00",
        BERLIN,
    )[0] == at("2026-12-22T17:15", BERLIN)
    assert worked(
        {"anchor": "expected", "variable": "d", "amount": -3, "unit": "hours"}, day, "2026-11-03T12:00", BERLIN
    )[0] == at("2026-12-24T06:00", BERLIN)


def test_what_has_passed_goes_at_once_or_not_at_all():
    spec = {"anchor": "expected", "variable": "d", "amount": -1, "unit": "days"}
    assert worked(spec, dt.date(2026, 11, 3), "2026-11-03T12:00") == (
        at("2026-11-03T12:00"),
        "1 day before d, its time has passed, so at once",
    )
    assert worked(spec | {"late": "skip"}, dt.date(2026, 11, 3), "2026-11-03T12:00") == (
        None,
        "Its time, 2 November 2026 09:00, has passed.",
    )


def test_after_the_last_day_it_goes_no_more():
    found, why = worked({"not_after": "2026-11-03", "window": {}}, "2026-11-03T21:00")
    assert found is None
    assert why == "It would go out on 4 November 2026 08:00, after 3 November 2026, the last day."


def test_holidays_are_passed_over_where_asked():
    christmas = lambda day: is_holiday("DE", day)  # noqa: E731
    spec = {"window": {"holidays": False}}
    assert worked(spec, "2026-12-25T12:00", zone=BERLIN, holiday=christmas)[0] == at("2026-12-27T08:00", BERLIN)
    assert worked({"amount": 1, "unit": "business_days"}, "2026-12-24T12:00", zone=BERLIN, holiday=christmas)[0] == at(
        "2026-12-28T13:00", BERLIN
    )
    assert not is_holiday("XX", dt.date(2026, 12, 25))


def test_a_time_that_the_clocks_skip_comes_as_much_later():
    assert moment(dt.date(2026, 3, 29), dt.time(2, 30), BERLIN) == at("2026-03-29T01:30")  # 03:30 summer time
    assert moment(dt.date(2026, 10, 25), dt.time(2, 30), BERLIN) == at("2026-10-25T00:30")  # the first of the two
    assert worked({"amount": 1, "unit": "days", "at": "02:30"}, "2026-03-28T12:00", zone=BERLIN)[0] == at(
        "2026-03-29T01:30"
    )
    window = Window(start="02:15", end="02:45")
    opens = next_inside(window, at("2026-03-29T00:00"), BERLIN, never)
    assert opens == at("2026-03-30T00:15"), "on the day of the gap it does not open"
    assert next_inside(Window(start="02:15", end="05:00"), at("2026-03-29T00:00"), BERLIN, never) == at(
        "2026-03-29T01:00"
    ), "it opens when the clocks have skipped its beginning"


@pytest.mark.parametrize(
    ("spec", "said_"),
    [
        ({"window": {"weekdays": []}}, "never opens"),
        ({"window": {"start": "08:00", "end": "08:00"}}, "never opens"),
        ({"window": {"start": "25:00"}}, "no time of day"),
        ({"at": "9"}, "no time of day"),
        ({"not_before": "2026-12-02", "not_after": "2026-12-01"}, "ends before it begins"),
        ({"anchor": "expected"}, "needs the variable"),
        ({"amount": -5}, "before the event itself"),
        ({"window": {"weekdays": [7]}}, "weekday that is none"),
    ],
)
def test_a_timing_that_makes_no_sense_is_refused_in_words(spec, said_):
    with pytest.raises(ValidationError, match=said_):
        Timing.model_validate(spec)


def test_the_laws_hold_in_every_zone_on_every_day_of_two_years():
    """Never before now, never before its time, never outside the window; and no earlier moment would do."""
    windows = [
        Window(),
        Window(start="22:30", end="05:15"),
        Window(start="00:00", end="00:30", weekdays=[1, 4]),
        Window(start="02:00", end="03:00"),
        Window(start="12:00", end="11:59"),
    ]
    first = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)
    for index, name in enumerate(sorted(available_timezones())):
        zone = ZoneInfo(name)
        for day in range(index % 5, 730, 5):  # every zone, every fifth day, so that five neighbours see them all
            now = first + dt.timedelta(days=day, minutes=(index * 37 + day * 61) % 1440)
            window = windows[(index + day) % 5]
            amount, unit = [(0, "minutes"), (95, "minutes"), (2, "days"), (1, "business_days")][(index * 3 + day) % 4]
            timing = Timing(amount=amount, unit=unit, window=window)
            found = due(timing, now, now, zone, never)
            assert found.at is not None
            assert found.at >= now
            assert inside(window, found.at, zone, never), (name, now, window, found)
            bare = due(timing.model_copy(update={"window": None}), now, now, zone, never).at
            assert found.at >= bare
            if found.at > bare:
                assert not inside(window, bare, zone, never)
                assert (
                    not inside(window, found.at - dt.timedelta(minutes=1), zone, never)
                    or found.at - dt.timedelta(minutes=1) < bare
                )


@settings(max_examples=150, deadline=None)
@given(
    st.datetimes(dt.datetime(2026, 1, 1), dt.datetime(2027, 12, 31)),
    st.sampled_from(
        [
            "Europe/Berlin",
            "America/New_York",
            "Australia/Lord_Howe",
            "Asia/Kathmandu",
            "Pacific/Apia",
            "Africa/Casablanca",
        ]
    ),
    st.integers(0, 23),
    st.integers(0, 59),
    st.integers(1, 23 * 60),
)
def test_the_next_opening_is_the_first_minute_at_which_it_is_open(now, name, hour, minute, length):
    zone, now = ZoneInfo(name), now.replace(second=0, microsecond=0, tzinfo=dt.UTC)
    start = dt.time(hour, minute)
    end = (dt.datetime.combine(dt.date(2026, 1, 1), start) + dt.timedelta(minutes=length)).time()
    window = Window(start=f"{start:%H:%M}", end=f"{end:%H:%M}")
    found = next_inside(window, now, zone, never)
    plain = next(
        now + dt.timedelta(minutes=m)
        for m in range(4 * 1440)
        if inside(window, now + dt.timedelta(minutes=m), zone, never)
    )
    assert found == plain


def test_whose_clock_it_is():
    assert zone_of("IE", "", "Europe/Berlin")[0].key == "Europe/Dublin"
    assert zone_of("DE", "", "Europe/Dublin")[0].key == "Europe/Berlin", "Büsingen keeps Berlin's time"
    assert zone_of("US", "+12125550123", "Europe/Dublin")[0].key == "America/New_York"
    assert zone_of("US", "", "America/Chicago")[0].key == "America/Chicago"
    assert zone_of("", "", "Europe/Dublin") == (ZoneInfo("Europe/Dublin"), "the shop’s time")


def test_a_timing_is_said_as_people_say_it():
    assert describe(Timing()) == "at once"
    assert describe(Timing(amount=10)) == "10 minutes after the event"
    assert (
        describe(
            Timing.model_validate(
                {
                    "anchor": "expected",
                    "variable": "expected_on",
                    "amount": -1,
                    "unit": "days",
                    "at": "09:00",
                    "window": {"weekdays": [0, 1]},
                }
            )
        )
        == "1 day before expected on at 09:00, between 08:00 and 20:00 on Mon, Tue there"
    )


@pytest.mark.parametrize(
    ("first", "last", "day", "goes"),
    [
        ("2026-12-01", "2026-12-24", "2029-12-01", True),
        ("2026-12-01", "2026-12-24", "2029-12-24", True),
        ("2026-12-01", "2026-12-24", "2029-12-25", False),
        ("2026-12-01", "2026-12-24", "2029-11-30", False),
        ("2026-12-20", "2026-01-06", "2030-01-06", True),
        ("2026-12-20", "2026-01-06", "2030-01-07", False),
        ("2026-12-20", "2026-01-06", "2029-12-31", True),
        ("2024-02-29", "2024-03-02", "2027-03-01", True),
        ("2024-02-29", "2024-03-02", "2027-02-28", False),
    ],
)
def test_a_season_returns_every_year(first, last, day, goes):
    timing = Timing(not_before=first, not_after=last, yearly=True)
    zone = ZoneInfo("Europe/Dublin")
    now = dt.datetime.combine(dt.date.fromisoformat(day), dt.time(12), zone).astimezone(dt.UTC)
    found = due(timing, now, now, zone, lambda _: False)
    assert (found.at == now) is goes
    if not goes:
        assert "outside its season" in found.why
        assert "of every year" in found.why


def test_a_season_goes_by_the_reader_s_day_and_by_when_a_window_opens():
    timing = Timing(
        not_before="2026-12-01", not_after="2026-12-24", yearly=True, window={"start": "09:00", "end": "18:00"}
    )
    late = dt.datetime(2028, 12, 24, 20, tzinfo=dt.UTC)
    assert due(timing, late, late, ZoneInfo("Europe/Dublin"), lambda _: False).at is None  # opens on the 25th
    west = due(timing, late, late, ZoneInfo("America/New_York"), lambda _: False)
    assert west.at == late  # still three in the afternoon there


def test_a_season_needs_both_its_days_and_is_described():
    with pytest.raises(ValueError, match="needs its first day and its last"):
        Timing(not_before="2026-12-01", yearly=True)
    assert "only from 1 December to 24 December of every year" in describe(
        Timing(not_before="2026-12-01", not_after="2026-12-24", yearly=True)
    )
