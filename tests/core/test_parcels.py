"""Parcels: stages that only go forward whatever is told when, numbers and their check digits, days."""

import datetime as dt
import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.parcels import days, numbers
from angelon.core.parcels.stages import ESTIMATE, LINE, RANK, Progress, Stage, Told, happened, of_order
from angelon.core.parcels.words import stage_of
from angelon.core.specs.carrier import Carrier

NOON = dt.datetime(2026, 11, 2, 12, tzinfo=dt.UTC)  # a Monday
ON_WAY = LINE[:-1]


def at(hours, stage, by="carrier"):
    return Told(NOON + dt.timedelta(hours=hours), Stage(stage), by)


def told(*tellings):
    made = Progress()
    for one in tellings:
        made = made.with_told(one)
    return made


tellings = st.lists(st.builds(at, st.integers(0, 40), st.sampled_from(list(Stage))), max_size=9)


@given(tellings, st.randoms())
def test_what_is_known_does_not_depend_on_the_order_in_which_it_was_told(all_of_it, dice):
    shuffled = [*all_of_it, *all_of_it]  # each may come twice
    dice.shuffle(shuffled)
    assert told(*shuffled) == told(*all_of_it)
    assert Progress.from_stored(told(*all_of_it).stored()) == told(*all_of_it)


@given(st.lists(st.builds(at, st.integers(0, 40), st.sampled_from(LINE)), max_size=12))
def test_stages_only_go_forward_and_each_is_news_once(all_of_it):
    known, news = Progress(), []
    for one in all_of_it:
        after = known.with_told(one)
        assert after.rank >= known.rank
        news += happened(known, after, one.stage)
        known = after
    assert len(news) == len(set(news))
    assert [RANK[stage] for stage in news] == sorted(RANK[stage] for stage in news)
    assert (news[-1] if news else None) == known.stage


@given(tellings)
def test_of_being_delivered_one_stands_and_it_is_later_than_what_takes_it_back(all_of_it):
    known = told(*all_of_it)
    back = [one.at for one in known.told if one.stage is Stage.NOT_DELIVERED]
    if known.delivered is not None:
        assert not back or known.delivered.at > max(back)
    else:
        assert all(back and one.at <= max(back) for one in known.told if one.stage is Stage.DELIVERED)


def test_a_late_telling_fills_a_gap_and_is_no_news():
    before = told(at(1, "label_printed"), at(9, "out_for_delivery"))
    after = before.with_told(at(3, "picked_up"))
    assert after.since(Stage.PICKED_UP) == at(3, "picked_up")
    assert happened(before, after, Stage.PICKED_UP) == []
    assert after.stage is Stage.OUT_FOR_DELIVERY


def test_an_estimate_gives_way_to_what_the_carrier_tells_later_and_the_real_one_stands():
    thought = told(at(1, "in_transit"), at(20, "delivered", ESTIMATE))
    assert thought.delivered.estimated
    taken_back = thought.with_told(at(30, "out_for_delivery"))
    assert happened(thought, taken_back, Stage.OUT_FOR_DELIVERY) == [Stage.NOT_DELIVERED]
    assert taken_back.stage is Stage.OUT_FOR_DELIVERY
    real = taken_back.with_told(at(33, "delivered"))
    assert happened(taken_back, real, Stage.DELIVERED) == [Stage.DELIVERED]
    assert real.delivered == at(33, "delivered")
    confirmed = thought.with_told(at(19, "delivered"))
    assert not confirmed.delivered.estimated
    assert happened(thought, confirmed, Stage.DELIVERED) == [], "as was thought: nobody is told again"


def test_an_attempt_that_failed_is_what_people_see_until_it_goes_on():
    failed = told(at(1, "out_for_delivery"), at(5, "failed"))
    assert failed.now is Stage.FAILED
    assert failed.stage is Stage.OUT_FOR_DELIVERY
    assert happened(told(at(1, "out_for_delivery")), failed, Stage.FAILED) == [Stage.FAILED]
    assert failed.with_told(at(9, "in_transit")).now is Stage.OUT_FOR_DELIVERY


def test_what_is_kept_is_bounded_and_keeps_the_first_of_each_stage():
    known = told(at(0, "label_printed"), at(1, "picked_up"), *(at(n, "in_transit") for n in range(2, 200)))
    assert len(known.told) == 60
    assert known.since(Stage.LABEL_PRINTED) == at(0, "label_printed")
    assert known.since(Stage.IN_TRANSIT) == at(2, "in_transit")


PICKED, DONE = told(at(1, "picked_up")), told(at(2, "delivered"))


@pytest.mark.parametrize(
    ("before", "after", "all_packed", "made"),
    [
        ({1: told()}, {1: told(at(1, "picked_up"))}, False, ["order.shipped"]),
        ({1: told(at(1, "picked_up"))}, {1: told(at(1, "in_transit"))}, False, []),
        ({1: PICKED, 2: told()}, {1: PICKED, 2: told(at(2, "in_transit"))}, True, []),
        ({1: told(at(1, "in_transit"))}, {1: told(at(2, "delivered"))}, True, ["order.delivered"]),
        ({1: told(at(1, "in_transit"))}, {1: told(at(2, "delivered"))}, False, []),
        ({}, {1: told(at(2, "delivered"))}, True, ["order.shipped", "order.delivered"]),
        ({1: DONE}, {1: DONE}, True, []),
        ({1: DONE}, {1: DONE, 2: told(at(3, "delivered"))}, True, ["order.delivered"]),
    ],
)  # fmt: skip
def test_what_parcels_make_of_their_order(before, after, all_packed, made):
    assert of_order(before, after, all_packed) == made


@pytest.mark.parametrize(
    ("check", "right"),
    [
        ("s10", "RR473124829GB"),
        ("s10", "EE876543216IE"),
        ("mod7", "12345678901"),  # its last digit is worked out below, as that of the next
        ("mod10", "4006381333931"),
        ("mod11", "123455"),
    ],
)
def test_a_check_digit_finds_every_digit_that_is_wrong(check, right):
    body = right[:-3] if check == "s10" else right[:-1]
    if check == "mod7":
        right = body + str(int(body) % 7)
    if check == "mod11":
        right = body + str(-sum(int(d) * (2 + n % 6) for n, d in enumerate(reversed(body))) % 11)
    if check == "s10":
        left = 11 - sum(int(d) * w for d, w in zip(right[2:10], (8, 6, 4, 2, 3, 5, 9, 7), strict=True)) % 11
        right = f"{right[:10]}{ {10: 0, 11: 5}.get(left, left) }{right[11:]}"
    assert numbers.check_fits(check, right)
    places = [place for place, sign in enumerate(right) if sign.isdigit()]
    wrong = 0
    for place, digit in itertools.product(places, "0123456789"):
        changed = right[:place] + digit + right[place + 1 :]
        wrong += changed != right and numbers.check_fits(check, changed)
    assert wrong == 0 if check != "mod7" else wrong <= 2 * len(places), "mod 7 does not tell 0 from 7"


def test_known_numbers_fit():
    assert numbers.check_fits("s10", "RR473124829GB")
    assert not numbers.check_fits("s10", "RR473124828GB")
    assert numbers.check_fits("mod10", "106141412345678908")
    assert numbers.normal(" rr 4731-248.29 gb ") == "RR473124829GB"


POST = Carrier(key="gannet", name="Gannet Post", forms=[{"shape": "@@#########@@", "check": "s10"}], default_for=["IE"])
COURIER = Carrier(key="saltway", name="Saltway", forms=[{"shape": "SW########"}], countries=["IE", "GB"])
OTHER = Carrier(key="eider", name="Eider", forms=[{"shape": "@@#########@@"}])


def test_a_carrier_is_guessed_with_the_reason_and_not_taken_where_two_fit():
    first, second = numbers.guesses([OTHER, COURIER, POST], "RR 473124829 GB", "IE")
    assert (first.carrier, second.carrier) == (POST, OTHER)
    assert first.why == "its form and check digit fit, and it is the first choice for Ireland"
    assert numbers.settled([first, second]) is first
    assert numbers.settled(numbers.guesses([OTHER, OTHER.model_copy(update={"key": "b"})], "RR473124829GB")) is None
    assert numbers.settled(numbers.guesses([POST], "RR473124828GB")) is None, "a slip in the number"
    assert numbers.guesses([POST], "RR473124828GB")[0].why == "its form fits, and its check digit does not"
    assert numbers.guesses([POST, COURIER, OTHER], "hello") == []
    assert numbers.settled(numbers.guesses([COURIER, POST], "sw-0000-2220", "DE")) is None, "it does not go there"


@pytest.mark.parametrize(
    ("link", "made"),
    [
        ("https://gannet.example/f/{number}", "https://gannet.example/f/..%2FX1"),
        ("https://gannet.example/f?n={number}&c={country}", "https://gannet.example/f?n=..%2FX1&c=IE"),
        ("https://gannet.example/f/{number}/{postcode}", ""),
        ("", ""),
    ],
)
def test_a_carrier_s_page_is_linked_with_what_it_needs(link, made):
    carrier = Carrier(key="gannet", name="Gannet", link=link)
    assert numbers.page_of(carrier, "../X1", "IE") == made.replace("..%2F", "")


@pytest.mark.parametrize(
    "link", ["gannet.example", "javascript:alert(1)", "https://a.example/{order}", "https://{number}.example/"]
)
def test_a_link_that_can_t_work_is_refused(link):
    with pytest.raises(ValueError, match=r"has to be a whole address|may have"):
        Carrier(key="gannet", name="Gannet", link=link)


@pytest.mark.parametrize(
    ("words", "stage"),
    [
        ("In Zustellung", Stage.OUT_FOR_DELIVERY),
        ("OUT_FOR_DELIVERY", Stage.OUT_FOR_DELIVERY),
        ("Livré", Stage.DELIVERED),
        ("Not delivered: nobody home", Stage.FAILED),
        ("Arrived at hub in Husum", Stage.IN_TRANSIT),
        ("parcel.picked_up", Stage.PICKED_UP),
        ("ready_to_collect", Stage.READY_TO_COLLECT),
        ("Zwrot", Stage.RETURNED),
        ("gone fishing", None),
        ("", None),
    ],
)
def test_words_are_understood_or_not(words, stage):
    assert stage_of(words) is stage


def test_a_carrier_s_own_words_come_first_then_the_source_s():
    own = Carrier(key="a", name="A", words={"Gone fishing": "in_transit", "delivered": "ready_to_collect"})
    assert stage_of("GONE  fishing", own) is Stage.IN_TRANSIT
    assert stage_of("Delivered", own) is Stage.READY_TO_COLLECT
    assert stage_of("SENT", None, {"SENT": "parcel.picked_up"}) is Stage.PICKED_UP
    assert stage_of("paid", None, {"paid": "order.paid"}) is None


CLOCK = Carrier(key="a", name="A", days=3, counts_after=2, lost_after=5)


def test_days_are_working_days_of_where_it_goes():
    monday = dt.date(2026, 11, 2)
    assert days.working_days_after(monday, 4, CLOCK, "") == dt.date(2026, 11, 6)
    assert days.working_days_after(monday, 5, CLOCK, "") == dt.date(2026, 11, 9)
    saturdays = Carrier(key="b", name="B", working_days=[0, 1, 2, 3, 4, 5])
    assert days.working_days_after(monday, 5, saturdays, "") == dt.date(2026, 11, 7)
    assert days.working_days_after(dt.date(2026, 12, 24), 1, CLOCK, "DE") == dt.date(2026, 12, 28)
    assert days.working_days_after(monday, 3, Carrier(key="c", name="C", working_days=[]), "") == dt.date(2026, 11, 5)


def test_what_is_expected_of_a_parcel():
    picked = told(at(0, "label_printed"), at(4, "picked_up"))
    known = days.ahead(picked, CLOCK, None, "IE", "UTC", NOON)
    assert (known.expected, known.told) == (dt.date(2026, 11, 5), False)
    assert known.late == dt.datetime(2026, 11, 6, tzinfo=dt.UTC)
    assert known.counts == dt.datetime(2026, 11, 10, tzinfo=dt.UTC), "two working days on, and a weekend between"
    assert known.lost == dt.datetime(2026, 11, 10, tzinfo=dt.UTC)
    said = days.ahead(picked, CLOCK, dt.date(2026, 11, 4), "NZ", "UTC", NOON)
    assert (said.expected, said.told) == (dt.date(2026, 11, 4), True)
    assert said.late == dt.datetime(2026, 11, 4, 11, tzinfo=dt.UTC), "when the day ends there"
    nothing = days.ahead(told(at(0, "label_printed")), CLOCK, None, "IE", "UTC", NOON)
    assert (nothing.expected, nothing.late, nothing.counts) == (None, None, None)
    for over in ("delivered", "returned"):
        none = days.ahead(picked.with_told(at(9, over)), CLOCK, dt.date(2026, 11, 4), "IE", "UTC", NOON)
        assert (none.late, none.counts, none.lost) == (None, None, None)
    assert days.ahead(picked.with_told(at(9, "failed")), CLOCK, None, "IE", "UTC", NOON).counts is None


def test_a_parcel_that_waits_to_be_collected_is_never_late():
    waits = told(at(4, "picked_up"), at(9, "ready_to_collect"))
    known = days.ahead(waits, CLOCK, dt.date(2026, 11, 4), "IE", "UTC", NOON)
    assert (known.expected, known.late, known.counts, known.lost) == (dt.date(2026, 11, 4), None, None, None)
