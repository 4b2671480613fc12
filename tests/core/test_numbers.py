"""Numbers in text: every currency and number format reads back as it was meant, or asks; none is guessed."""

from decimal import Decimal

import pytest
from babel.numbers import format_decimal, get_currency_precision, list_currencies
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core import values
from angelon.core.conditions.evaluate import typed_number
from angelon.core.numbers import ambiguous, decimal_sign, observed_sign, read_number, simple
from angelon.core.planning.plan import work_out
from angelon.core.recipes import coerce
from angelon.core.recipes.context import Context, StepFailed
from angelon.core.values import locale_of, sign_of_language, unfit
from tests import made

LANGUAGES = [
    *("en", "en-IE", "en-IN", "de", "de-AT", "de-CH", "fr", "fr-CH", "es", "it", "nl", "pl", "pt", "pt-BR"),
    *("sv", "da", "nb", "fi", "el", "ja", "cs", "hu", "ro", "tr", "uk", "ko", "he"),
]
CURRENCIES = sorted(list_currencies())


@pytest.mark.parametrize(
    ("text", "number"),
    [
        ("1.249,90", "1249.90"),
        ("1,249.90", "1249.90"),
        ("1 249,90", "1249.90"),
        ("1\u202f249,90", "1249.90"),
        ("1’249.90", "1249.90"),
        ("1.234.567", "1234567"),
        ("1,23,456.50", "123456.50"),
        ("0,125", "0.125"),
        ("0.125", "0.125"),
        ("1234,500", "1234.500"),
        ("12.5", "12.5"),
        ("-1.249,90", "-1249.90"),
        ("−12,5", "-12.5"),
        (".5", "0.5"),
        ("١٢٫٥", "12.5"),
    ],
)
def test_a_text_with_one_reading_is_read(text, number):
    assert not ambiguous(text)
    assert read_number(text) == read_number(text, ".") == read_number(text, ",") == Decimal(number)


@pytest.mark.parametrize("text", ["12,500", "12.500", "1,250", "-1.000", "999,999"])
def test_a_text_with_two_readings_is_read_by_its_format_only(text):
    assert ambiguous(text)
    assert read_number(text) is None
    with_point, with_comma = read_number(text, "."), read_number(text, ",")
    assert {with_point / with_comma, with_comma / with_point} == {Decimal(1000), Decimal("0.001")}
    assert (with_point if "." in text else with_comma) == Decimal(text.replace(",", "."))


@pytest.mark.parametrize(
    "text", ["1,2,3", "12.34,56", "1.2.3", "10.0.0.1", "26.11.2026", "1..2", "", "x", "5 2", "--1"]
)
def test_what_is_no_number_is_none(text):
    assert read_number(text, ".") is None
    assert read_number(text, ",") is None


def test_a_payload_shows_its_format_where_its_texts_agree():
    assert observed_sign({"a": "59,90", "b": ["1.234,50", "x"], "note": "1.000"}) == ","
    assert observed_sign({"a": "59.90", "weight": "0.500"}) == "."
    assert observed_sign({"a": "59.90", "b": "59,90"}) == ""
    assert observed_sign({"a": "12,500", "n": 12.5, "date": "26.11.2026", "ip": "10.0.0.1"}) == ""
    assert decimal_sign("1.234.567") == ","


@pytest.mark.parametrize(
    ("text", "currency", "payload", "stated", "amount"),
    [
        ("12,500", "JPY", {}, "", "12500"),
        ("12.500", "JPY", {}, "", "12500"),
        ("1,250", "EUR", {}, "", "1250"),
        ("1.250", "EUR", {"weight": "0.500", "unit": "12.50"}, "", "1.250"),
        ("1.250", "EUR", {"unit": "59,90"}, "", "1250"),
        ("12.500", "KWD", {}, ".", "12.500"),
        ("12.500", "KWD", {"other": "7.250,125"}, "", "12500"),
        ("59,90 €", "USD", {}, "", "59.90"),
        ("EUR 1.249,90", "USD", {}, "", "1249.90"),
        ("£1,250", "EUR", {}, "", "1250"),
    ],
)
def test_an_amount_is_read_by_its_currency_and_format(text, currency, payload, stated, amount):
    made_amount = coerce.money(text, Context(payload=payload | {"total": text}, currency=currency, decimal=stated))
    assert made_amount.amount == Decimal(amount)
    named = {"59,90 €": "EUR", "EUR 1.249,90": "EUR", "£1,250": "GBP"}
    assert made_amount.currency == named.get(text, currency)


def test_what_can_t_be_told_is_asked():
    with pytest.raises(StepFailed) as asked:
        coerce.money("12,500", Context(payload={}, currency="KWD"))
    assert str(asked.value) == "“12,500” can be read as 12,500 or as 12.5."
    with pytest.raises(StepFailed):
        coerce.number("1.250", Context(payload={}))
    assert coerce.number("1.250", Context(payload={"unit": "59,90"})) == 1250


@settings(max_examples=400, deadline=None)
@given(
    st.sampled_from(CURRENCIES),
    st.sampled_from(LANGUAGES),
    st.integers(0, 10**9),
    st.booleans(),
    st.sampled_from(["", "stated"]),
)
def test_amounts_in_all_currencies_and_number_formats_come_back_or_are_asked_for(
    currency, language, minor, whole, stated
):
    """Written as a reader of the language has it, an amount is read back as it was, or not at all: never as another."""
    digits = 0 if whole else get_currency_precision(currency)
    amount = Decimal(minor).scaleb(-digits)
    text = format_decimal(amount, format="#,##0." + "0" * digits if digits else "#,##0", locale=locale_of(language))
    context = Context(payload={"total": text}, currency=currency, decimal=sign_of_language(language) if stated else "")
    try:
        read = coerce.money(text, context)
    except StepFailed:
        assert not stated
        assert get_currency_precision(currency) >= 3
        return
    assert (read.amount, read.currency) == (amount, currency)


def test_the_source_s_format_counts_for_its_orders():
    payload = made.order(total="12.500", currency="KWD", lines=[])
    with_point = made.source(decimal_sign=".")
    setup = made.setup()
    assert work_out(with_point, setup, payload)[0].value("total").amount == Decimal("12.500")
    assert work_out(made.source(decimal_sign=","), setup, payload)[0].value("total").amount == 12500


def test_a_number_that_is_typed_is_read_as_the_shop_s_language_has_it():
    assert typed_number("1,000", "en") == 1000
    assert typed_number("1.000", "de") == 1000
    assert typed_number("1.000", "en") == 1
    assert typed_number("59,90", "en") == Decimal("59.90")


@given(st.from_regex(r"\A[-+]?[0-9]{1,17}([.,][0-9]{0,4})?\Z") | st.text("0123456789.,- ", max_size=12))
def test_what_is_a_number_in_the_plainest_way_is_the_same_number_by_every_rule(text):
    plain = simple(text)
    if plain is not None:
        assert not ambiguous(text)
        assert plain == read_number(text) == read_number(text, ".") == read_number(text, ",")
        assert str(plain) == str(read_number(text)), "with as many decimals"


@given(st.decimals() | st.decimals(allow_nan=False, places=2, min_value=-(10**30), max_value=10**30))
def test_a_short_number_is_fit_by_every_rule(number):
    told = unfit(number)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(values, "_is_short", lambda number: False)
        assert unfit(number) == told
