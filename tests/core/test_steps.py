"""Steps: worked-out values, refusals that say what to do, and the law that none ever raises anything else."""

import datetime as dt
from decimal import Decimal
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.recipes.context import Context, StepFailed
from angelon.core.recipes.steps import STEPS, fitting, run_step
from angelon.core.values import Money, show

DUBLIN = Context(
    payload={"country": "DE", "currency": "JPY", "alt": "second"},
    zone=ZoneInfo("Europe/Dublin"),
    currency="EUR",
    country="IE",
    lookups={"short": {"HER-180": "the Heron"}},
)


def run(name, value, /, **given):
    return run_step(name, given, value, DUBLIN)


LINES = [
    {"title": "Heron", "qty": 1, "sku": "B"},
    {"title": "line", "qty": 2, "sku": "A"},
    {"title": "reel", "qty": 3, "sku": "A"},
]


@pytest.mark.parametrize(
    ("name", "value", "given_", "after"),
    [
        ("strip", "  BK-7\u00a0", {}, "BK-7"),
        ("removeprefix", "No. 7", {"prefix": "No. "}, "7"),
        ("removeprefix", "7", {"prefix": "No. "}, "7"),
        ("removesuffix", "7 kg", {"suffix": " kg"}, "7"),
        ("replace", "a-b-c", {"old": "-", "new": " "}, "a b c"),
        ("sub", "Order 0042", {"pattern": r"0+(\d+)", "new": r"\1"}, "Order 42"),
        ("extract", "Order BK-7, paid", {"pattern": r"BK-\d+"}, "BK-7"),
        ("slice", "2026-11-03", {"start": 0, "end": 4}, "2026"),
        ("title", "o'neill van der berg", {}, "O'neill Van Der Berg"),
        ("upper", "straße", {}, "STRASSE"),
        ("truncate", "Guillemot dual-line", {"length": 12}, "Guillemot…"),
        ("split", "a, b,,c", {}, ["a", "b", "c"]),
        ("default", None, {"value": "friend"}, "friend"),
        ("default", "", {"value": "friend"}, "friend"),
        ("choose", None, {"paths": ["$.none", "$.alt"]}, "second"),
        ("lookup", "HER-180", {"table": "short"}, "the Heron"),
        ("lookup", "X", {"table": "short", "default": "a kite"}, "a kite"),
        ("lookup", ["HER-180", "X"], {"table": "short", "default": "a kite"}, ["the Heron", "a kite"]),
        ("lookup", [], {"table": "short"}, []),
        ("number", "1.234,50", {}, Decimal("1234.50")),
        ("number", "1,234.50", {}, Decimal("1234.50")),
        ("round", "2.3456", {"digits": 2}, Decimal("2.35")),
        ("add", 2, {"by": 1}, Decimal(3)),
        ("divide", "13550", {"by": 100}, Decimal("135.5")),
        ("money", "135.50", {}, Money(Decimal("135.50"), "EUR")),
        ("money", 13550, {"currency": "EUR", "minor_units": True}, Money(Decimal("135.50"), "EUR")),
        ("money", 13550, {"currency": "$.currency", "minor_units": True}, Money(Decimal(13550), "JPY")),
        ("money", "64,90", {"locale": "de"}, "64,90\u00a0€"),
        ("pick", LINES, {"key": "title"}, ["Heron", "line", "reel"]),
        ("where", LINES, {"key": "sku", "equals": "A"}, LINES[1:]),
        ("sort", LINES, {"key": "qty", "descending": True}, LINES[::-1]),
        ("unique", ["a", "b", "a"], {}, ["a", "b"]),
        ("join", ["a", "b", "c"], {"last": " and "}, "a, b and c"),
        ("join", [1, None, 2.5], {"separator": "/"}, "1/2.5"),
        ("each", LINES[:1], {"text": "{{ qty }} × {{ title }}"}, ["1 × Heron"]),
        ("first", ["a", "b"], {}, "a"),
        ("last", ["a", "b"], {}, "b"),
        ("count", LINES, {}, 3),
        ("sum", LINES, {"key": "qty"}, Decimal(6)),
        (
            "group",
            LINES,
            {"key": "sku"},
            [{"key": "B", "count": 1, "items": LINES[:1]}, {"key": "A", "count": 2, "items": LINES[1:]}],
        ),
        (
            "collect",
            {"item_2_name": "b", "item_1_name": "a", "item_1_qty": "1", "x": 1},
            {"pattern": "item_{n}_{field}"},
            [{"name": "a", "qty": "1"}, {"name": "b"}],
        ),
        ("phone", "030 23125-014", {"region": "$.country"}, "+493023125014"),
        ("phone", "00302130001234", {}, "+302130001234"),
        ("phone", "+49 (30) 23125-014", {"form": "national"}, "030 23125014"),
        ("urlencode", "a b&c", {}, "a%20b%26c"),
        (
            "add_query",
            " https://example.com/o?x=1 ",
            {"name": "no", "value": "BK 7"},
            "https://example.com/o?x=1&no=BK+7",
        ),
        ("parse_json", '{"account":"jo"}', {"path": "$.account"}, "jo"),
        ("template", "7", {"text": "order {{ value }}"}, "order 7"),
    ],
)
def test_what_a_step_makes(name, value, given_, after):
    assert run(name, value, **given_) == after


def test_days_are_counted_on_the_store_s_calendar_across_the_clock_change():
    placed = run(
        "add_days", "2026-10-20T23:30:00+00:00", days=7
    )  # 00:30 on the 21st in Dublin; clocks go back on the 25th
    assert placed.value.isoformat() == "2026-10-28T00:30:00+00:00"


def test_business_days_skip_weekends_and_the_country_s_holidays():
    assert run("add_business_days", "2026-12-23", days=3, country="DE").value == dt.date(
        2026, 12, 29
    )  # 24, 28, 29: 25th and 26th are holidays
    assert run("add_business_days", "2026-11-06", days=-1).value == dt.date(2026, 11, 5)


def test_dates_from_other_forms():
    assert (
        run("parse_date", "03.11.2026 18:22", format="%d.%m.%Y %H:%M").value.isoformat() == "2026-11-03T18:22:00+00:00"
    )
    assert run("parse_date", "03.11.2026", format="%d.%m.%Y").value == dt.date(2026, 11, 3)
    assert run("epoch", 1793698867, unit="seconds").value.astimezone(dt.UTC).isoformat() == "2026-11-03T09:41:07+00:00"
    assert run("add_days", "1793698867000", days=0).value.astimezone(dt.UTC).isoformat() == "2026-11-03T09:41:07+00:00"
    assert run("date", "2026-11-10", format="day", locale="de") == "Dienstag, 10. November"
    assert show(run("date", "2026-11-10", format="day"), "fr") == "mardi 10 novembre"
    assert run("timezone", "2026-11-03T09:41:07Z", zone="Europe/Berlin").value.hour == 10


@pytest.mark.parametrize(
    ("name", "value", "given_", "label"),
    [
        ("nosuch", "a", {}, "There is no step"),
        ("stirp", "a", {}, "Did you mean “strip”"),
        ("strip", "a", {"cars": "x"}, "no parameter “cars”"),
        ("removeprefix", "a", {}, "needs “prefix”"),
        ("strip", ["a"], {}, "takes text, and this is a list of 1"),
        ("number", "twelve", {}, "takes a number"),
        ("money", "5", {"currency": "$.nowhere", "minor_units": False}, None),
        ("money", "5", {"currency": "euro"}, "No currency is known"),
        ("divide", 1, {"by": 0}, "divided by 0"),
        ("lookup", "X", {"table": "short"}, "has no row “X”"),
        ("lookup", ["HER-180", "X"], {"table": "short"}, "has no row “X”"),
        ("lookup", "X", {"table": "none"}, "no table “none”"),
        ("extract", "abc", {"pattern": "x"}, "finds nothing"),
        ("sub", "a" * 40 + "!", {"pattern": "(a+)+$", "new": ""}, None),
        ("sub", "a", {"pattern": "(", "new": ""}, "no regular expression"),
        ("phone", "12", {}, "too few or too many digits"),
        ("date", "soon", {}, "takes a date"),
        ("timezone", "2026-11-03", {"zone": "Europe/Berlin"}, "a day without a time"),
        ("timezone", "2026-11-03T00:00:00Z", {"zone": "Atlantis"}, "no time zone"),
        ("first", [], {}, "The list is empty"),
        ("pick", LINES, {"key": "name"}, "The first has: title, qty, sku"),
        ("add_query", "not a link", {"name": "a", "value": "b"}, "no web address"),
        ("parse_json", "{", {}, "no JSON"),
    ],
)
def test_a_step_that_does_not_fit_says_why(name, value, given_, label):
    try:
        run(name, value, **given_)
    except StepFailed as error:
        assert label is None or label in f"{error.what} {error.hint}"
    else:
        assert label is None


def test_a_regular_expression_can_t_hang():
    import time

    began = time.monotonic()
    with pytest.raises(StepFailed, match="too long"):
        run("sub", "a" * 5000 + "!", pattern=r"(?:a|a|aa)+$", new="")
    assert time.monotonic() - began < 2


json_values = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False)
    | st.text(max_size=30)
    | st.sampled_from(["2026-11-03", "1e99", "+49 30", "{{ x }}", "99999999999999"]),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.sampled_from(["a", "title", "item_1_x", "key"]), inner, max_size=3)
    ),
    max_leaves=12,
)
PARAMETERS = {
    "removeprefix": {"prefix": "a"},
    "removesuffix": {"suffix": "a"},
    "replace": {"old": "a", "new": "b"},
    "sub": {"pattern": ".", "new": r"\1"},
    "extract": {"pattern": "."},
    "default": {"value": "x"},
    "choose": {"paths": ["$.a"]},
    "lookup": {"table": "short"},
    "template": {"text": "{{ value }}"},
    "add": {"by": 2},
    "subtract": {"by": 2},
    "multiply": {"by": 10**9},
    "divide": {"by": 3},
    "parse_date": {"format": "%d.%m.%Y"},
    "add_days": {"days": 30000},
    "add_business_days": {"days": 3},
    "timezone": {"zone": "Asia/Tokyo"},
    "pick": {"key": "a"},
    "where": {"key": "a", "equals": "x"},
    "each": {"text": "{{ a }}"},
    "group": {"key": "a"},
    "collect": {"pattern": "item_{n}_{field}"},
    "add_query": {"name": "a", "value": "b"},
}


@pytest.mark.parametrize("name", sorted(STEPS))
@settings(max_examples=60, deadline=None)
@given(value=json_values)
def test_no_step_raises_anything_but_its_own_refusal(name, value):
    try:
        run_step(name, PARAMETERS.get(name, {}), value, DUBLIN)
    except StepFailed as error:
        assert error.what


def test_the_picker_offers_only_what_fits():
    names = {kind.name for kind in fitting([{"a": 1}])}
    assert "join" in names
    assert "strip" not in names
    names = {kind.name for kind in fitting("2026-11-03")}
    assert {"strip", "add_days"} <= names
    assert "join" not in names
    assert {kind.name for kind in fitting(None)} == {"default", "choose", "template", "run"}


@pytest.mark.parametrize("kind", STEPS.values(), ids=list(STEPS))
def test_every_step_says_what_it_does(kind):
    assert kind.about
    assert kind.example[0]
    assert all(p.about for p in kind.parameters)
