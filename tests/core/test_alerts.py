"""When trouble begins, is told and is over: what comes and goes is told once."""

import datetime as dt
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.alerts import AWAY, LASTS, Known, Trouble, is_quiet, looked, subject_of, text_of, to_tell
from angelon.core.specs.alerts import Alerts

NOON = dt.datetime(2026, 11, 3, 12, 0, tzinfo=dt.UTC)
DUBLIN = ZoneInfo("Europe/Dublin")
AWAY_MAIL = Trouble("gateway_unreachable", "mailroom", "Mailroom: refused.", "/gateways/mailroom")
LOW = Trouble("credit", "sms", "The SMS line has 1.00 EUR of credit left.", "/gateways/sms")


def at(seconds):
    return NOON + dt.timedelta(seconds=seconds)


def test_trouble_is_told_once_it_has_lasted_and_once_when_it_is_over():
    spec, known, told = Alerts(on=True), [], []
    for second in range(0, 600, 15):
        seen = [AWAY_MAIL] if second < 300 else []
        known = looked(known, seen, at(second))
        telling = to_tell(known, spec, at(second), DUBLIN, None)
        told += [(second, "begun") for _ in telling.begun] + [(second, "over") for _ in telling.over]
        known = [
            Known(
                one.trouble, one.began_at, at(second) if one in telling.begun else one.told_at, one.gone_at, one.over_at
            )
            for one in known
            if one not in telling.over
        ]
    assert told == [(15, "begun"), (390, "over")]


@given(st.lists(st.booleans(), min_size=1, max_size=80))
def test_whatever_comes_and_goes_is_told_no_more_often_than_it_was_away_for_long(seen):
    known, begun, over, gaps, away = [], 0, 0, 0, 0
    for number, here in enumerate(seen):
        now = at(15 * number)
        away = 0 if here else away + 1
        gaps += away == int(AWAY.total_seconds() / 15) + 1
        known = looked(known, [AWAY_MAIL] if here else [], now)
        telling = to_tell(known, Alerts(on=True), now, DUBLIN, None)
        begun, over = begun + len(telling.begun), over + len(telling.over)
        known = [
            Known(one.trouble, one.began_at, now if one in telling.begun else one.told_at, one.gone_at, one.over_at)
            for one in known
            if one.over_at is None
        ]
        assert len(known) <= 1
    assert over <= begun <= gaps + 1


def test_what_is_not_urgent_is_gathered_and_waits_for_the_morning():
    spec = Alerts(on=True, quiet_from="22:00", quiet_until="07:00", gather_minutes=60)
    known = [Known(LOW, NOON), Known(AWAY_MAIL, NOON)]
    night, morning = NOON.replace(hour=23), NOON.replace(hour=23) + dt.timedelta(hours=8, minutes=5)
    assert [one.trouble for one in to_tell(known, spec, night, DUBLIN, None).begun] == [AWAY_MAIL]
    assert len(to_tell(known, spec, morning, DUBLIN, None).begun) == 2
    soon = morning - dt.timedelta(minutes=59)
    assert [one.trouble for one in to_tell(known, spec, morning, DUBLIN, soon).begun] == [AWAY_MAIL]


def test_what_is_left_out_is_not_told_and_what_lasts_too_short_neither():
    assert not to_tell([Known(LOW, NOON)], Alerts(on=True, leave_out=["credit"]), at(60), DUBLIN, None)
    assert not to_tell([Known(AWAY_MAIL, NOON)], Alerts(on=True), NOON + LASTS / 2, DUBLIN, None)


@pytest.mark.parametrize(
    ("begin", "end", "hour", "quiet"),
    [("22:00", "07:00", 23, True), ("22:00", "07:00", 6, True), ("22:00", "07:00", 7, False), ("", "07:00", 3, False),
     ("12:00", "13:00", 12, True), ("12:00", "13:00", 13, False), ("09:00", "09:00", 9, False)],
)  # fmt: skip
def test_quiet_hours_may_lie_across_midnight(begin, end, hour, quiet):
    moment = dt.datetime(2026, 11, 3, hour, 0, tzinfo=DUBLIN)
    assert is_quiet(Alerts(quiet_from=begin, quiet_until=end), moment, DUBLIN) is quiet


def test_a_mail_says_what_is_worst_first_and_where_to_look():
    telling = to_tell([Known(LOW, NOON), Known(AWAY_MAIL, at(5))], Alerts(on=True), at(60), DUBLIN, None)
    assert subject_of(telling, "Kites") == "Kites: A gateway can’t be reached, and 1 more"
    text = text_of(telling, DUBLIN, "https://shop.example")
    assert text.index("Mailroom: refused. Since 12:00 on 3 November.") < text.index("1.00 EUR")
    assert "https://shop.example/gateways/mailroom" in text


@pytest.mark.parametrize(
    "bad", [{"emails": ["nobody"]}, {"quiet_from": "25:00"}, {"heartbeat": "ftp://x"}, {"gather_minutes": -1}]
)
def test_what_can_t_be_meant_is_refused(bad):
    with pytest.raises(ValueError, match=r"email|pattern|greater"):
        Alerts(**bad)
