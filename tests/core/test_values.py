"""Values as readers see them, numbers as stores write them, and the way to storage and back."""

import datetime as dt
from decimal import Decimal
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.values import Day, Money, format_locale, number_of, pack, regional, show, unpack


@pytest.mark.parametrize(
    ("value", "locale", "text"),
    [
        (Money(Decimal("135.5"), "EUR"), "de", "135,50\u00a0€"),
        (Money(Decimal("1234.565"), "EUR"), "en-IE", "€1,234.57"),
        (Money(Decimal("500"), "JPY"), "en", "¥500"),
        (Day(dt.date(2026, 11, 10), "long"), "en-IE", "10 November 2026"),
        (Day(dt.date(2026, 11, 10), "day"), "en-IE", "Tuesday 10 November"),
        (Day(dt.date(2026, 11, 10), "day"), "ja", "11月10日火曜日"),
        (["a", "b", "c"], "de", "a, b und c"),
        (Decimal("1234.5"), "fr", "1\u202f234,5"),
        (None, "en", ""),
        (Money(Decimal(1), "EUR"), "xx-nonsense", "€1.00"),
    ],
)
def test_what_a_reader_sees(value, locale, text):
    assert show(value, locale) == text


@pytest.mark.parametrize(
    ("text", "number"),
    [
        ("64,90", "64.90"),
        ("1.234,50", "1234.50"),
        ("1,234.50", "1234.50"),
        ("1 234,5", "1234.5"),
        ("1.234.567", "1234567"),
        ("-5", "-5"),
        ("−5", "-5"),
        ("1e3", "1000"),
        ("12'345.60", "12345.60"),
    ],
)
def test_numbers_with_either_decimal_sign(text, number):
    assert number_of(text) == Decimal(number)


@pytest.mark.parametrize("text", ["", "abc", "NaN", "Infinity", "1e999999", "9" * 100, True, None, [], {}])
def test_what_is_no_number(text):
    assert number_of(text) is None


@given(
    st.recursive(
        st.none()
        | st.booleans()
        | st.integers()
        | st.text()
        | st.builds(Money, st.decimals(allow_nan=False, allow_infinity=False), st.sampled_from(["EUR", "JPY"]))
        | st.builds(Day, st.dates(), st.sampled_from(["long", "day"]))
        | st.decimals(allow_nan=False, allow_infinity=False),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(st.text(max_size=4).filter(lambda k: not k.startswith("$")), inner, max_size=3)
        ),
        max_leaves=8,
    )
)
def test_what_is_stored_comes_back(value):
    import json

    assert unpack(json.loads(json.dumps(pack(value)))) == value


def test_a_moment_keeps_its_zone():
    moment = Day(dt.datetime(2026, 11, 3, 10, 41, tzinfo=ZoneInfo("Europe/Berlin")), "long")
    assert unpack(pack(moment)) == moment
    assert show(unpack(pack(moment)), "de") == "3. November 2026, 10:41"


def test_a_language_takes_the_shop_s_habits_where_they_are_known():
    assert (regional("en", "IE"), regional("de", "IE"), regional("de-AT", "IE"), regional("en", "")) == (
        "en-IE",
        "de",
        "de-AT",
        "en",
    )


@pytest.mark.parametrize(
    ("text", "reader", "shop", "written", "amount"),
    [
        ("en", "en-GB", "DE", "en-GB", "€15.80"),
        ("en", "en", "DE", "en-DE", "15,80 €"),  # of whom nothing more is known
        ("en", "fr-FR", "DE", "en-DE", "15,80 €"),  # a text in another language is written as the shop does
        ("en", "de-AT", "IE", "en-IE", "€15.80"),
        ("de", "de-AT", "IE", "de-AT", "€ 15,80"),
        ("de", "de-DE", "IE", "de-DE", "15,80 €"),
        ("en-US", "en-GB", "DE", "en-US", "€15.80"),  # the text has a region of its own
        ("zh-Hant", "zh-Hant-TW", "", "zh-Hant", "€15.80"),
    ],
)
def test_numbers_are_written_as_the_reader_s_region_does(text, reader, shop, written, amount):
    assert format_locale(text, reader, shop) == written
    assert show(Money(Decimal("15.80"), "EUR"), written).replace("\xa0", " ") == amount
