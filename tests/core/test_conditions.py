"""Conditions: every comparison by worked-out cases, and the logic of groups against a plain reference."""

import datetime as dt
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from angelon.core.conditions.evaluate import Subject, compare, evaluate
from angelon.core.specs.condition import Compare, Group, compares
from angelon.core.values import Day, Money

TODAY = dt.date(2026, 11, 3)
LINES = [
    {"sku": "HER-180", "name": "Heron", "quantity": 1, "price": Money(Decimal("119"), "EUR")},
    {"sku": "LIN-050", "name": "Line", "quantity": 2, "price": Money(Decimal("5"), "EUR")},
]
KNOWN = {
    "total": Subject(Money(Decimal("135.50"), "EUR"), "number"),
    "country": Subject("DE"),
    "note": Subject(None),
    "on": Subject(Day(dt.date(2026, 11, 10)), "date"),
    "lines": Subject(LINES, "list"),
    "paid": Subject(True, "flag"),
    "status": Subject(("paid", "shipped"), "change"),
    "tags": Subject(["a", "B"], "list"),
    "count": Subject(3, "number"),
    "empty": Subject([], "list"),
}


def look(name):
    return KNOWN.get(name) or Subject(problem=f"There is no “{name}” any more.")


def holds(**spec):
    verdict = compare(Compare.model_validate(spec), look, TODAY)
    assert not verdict.problem, verdict.problem
    return verdict.yes


@pytest.mark.parametrize(
    ("spec", "yes"),
    [
        ({"of": "country", "op": "is", "value": "de"}, True),
        ({"of": "country", "op": "is_not", "value": "DE"}, False),
        ({"of": "country", "op": "one_of", "values": ["IE", " de "]}, True),
        ({"of": "country", "op": "none_of", "values": ["IE"]}, True),
        ({"of": "country", "op": "contains", "value": "E"}, True),
        ({"of": "country", "op": "starts_with", "value": "d"}, True),
        ({"of": "country", "op": "ends_with", "value": "x"}, False),
        ({"of": "country", "op": "matches", "value": "^D.$"}, True),
        ({"of": "country", "op": "present"}, True),
        ({"of": "note", "op": "present"}, False),
        ({"of": "note", "op": "absent"}, True),
        ({"of": "note", "op": "is", "value": ""}, False),
        ({"of": "note", "op": "is_not", "value": "x"}, True),
        ({"of": "note", "op": "greater", "value": "1"}, False),
        ({"of": "note", "op": "none_of", "values": ["x"]}, True),
        ({"of": "total", "op": "greater", "value": "135.49"}, True),
        ({"of": "total", "op": "greater", "value": "135.50"}, False),
        ({"of": "total", "op": "at_least", "value": "135.5"}, True),
        ({"of": "total", "op": "less", "value": "200"}, True),
        ({"of": "total", "op": "between", "value": "100", "to": "135.50"}, True),
        ({"of": "total", "op": "is", "value": "135.5"}, True),
        ({"of": "on", "op": "before", "value": "2026-11-11"}, True),
        ({"of": "on", "op": "after", "value": "today+6"}, True),
        ({"of": "on", "op": "after", "value": "today + 7"}, False),
        ({"of": "on", "op": "between", "value": "today", "to": "2026-11-10"}, True),
        ({"of": "on", "op": "is", "value": "2026-11-10"}, True),
        ({"of": "on", "op": "present"}, True),
        ({"of": "paid", "op": "yes"}, True),
        ({"of": "paid", "op": "no"}, False),
        ({"of": "status", "op": "changed"}, True),
        ({"of": "status", "op": "changed", "value": "paid"}, True),
        ({"of": "status", "op": "changed", "value": "new"}, False),
        ({"of": "status", "op": "changed", "value": "paid", "to": "shipped"}, True),
        ({"of": "status", "op": "changed", "to": "paid"}, False),
        ({"of": "lines", "which": "any", "item": "sku", "op": "one_of", "values": ["HER-180"]}, True),
        ({"of": "lines", "which": "all", "item": "sku", "op": "starts_with", "value": "HER"}, False),
        ({"of": "lines", "which": "none", "item": "sku", "op": "is", "value": "XXX"}, True),
        ({"of": "lines", "which": "count", "op": "greater", "value": "1"}, True),
        ({"of": "lines", "which": "any", "item": "price", "op": "at_least", "value": "119"}, True),
        ({"of": "lines", "which": "all", "item": "quantity", "op": "at_least", "value": "1"}, True),
        ({"of": "empty", "which": "all", "item": "sku", "op": "is", "value": "x"}, True),
        ({"of": "empty", "which": "any", "item": "sku", "op": "is", "value": "x"}, False),
        ({"of": "tags", "op": "contains", "value": "b"}, True),
        ({"of": "count", "op": "at_most", "value": "3"}, True),
    ],
)
def test_worked_out_by_hand(spec, yes):
    assert holds(**spec) is yes


@pytest.mark.parametrize(
    ("spec", "label"),
    [
        ({"of": "gone", "op": "is", "value": "x"}, "no “gone” any more"),
        ({"of": "total", "op": "greater", "value": "much"}, "“much” is no number"),
        ({"of": "on", "op": "before", "value": "soon"}, "“soon” is no day"),
        ({"of": "on", "op": "greater", "value": "1"}, "can't be compared"),
        ({"of": "total", "op": "before", "value": "today"}, "can't be compared"),
    ],
)
def test_what_can_not_be_worked_out_says_why_and_is_never_a_yes(spec, label):
    verdict = compare(Compare.model_validate(spec), look, TODAY)
    assert (verdict.yes, label in verdict.problem) == (False, True)
    denied = evaluate(Group.model_validate({"join": "none", "of": [{"kind": "compare", **spec}]}), look, TODAY)
    assert (denied.yes, label in denied.problem) == (False, True), "not even a group of none turns it into one"


@pytest.mark.parametrize(
    "spec",
    [
        {"of": "a b", "op": "is"},
        {"of": "total", "op": "resembles"},
        {"of": "total", "op": "matches", "value": "("},
        {"of": "__x", "op": "is"},
    ],
)
def test_what_makes_no_sense_is_refused_when_it_is_written(spec):
    with pytest.raises(ValidationError):
        Compare.model_validate(spec)


def test_groups_nest_eight_deep_and_no_deeper():
    spec = {"kind": "compare", "of": "total", "op": "present"}
    for _ in range(8):
        spec = {"kind": "group", "of": [spec]}
    assert len(compares(Group.model_validate(spec))) == 1
    with pytest.raises(ValidationError):
        Group.model_validate({"kind": "group", "of": [spec]})


LEAVES = st.sampled_from(
    [("country", "DE", True), ("country", "FR", False), ("total", "135.5", True), ("total", "1", False)]
)
TREES = st.recursive(
    LEAVES, lambda inner: st.tuples(st.sampled_from(["all", "any", "none"]), st.lists(inner, max_size=4)), max_leaves=20
)


def spec_of(tree):
    if len(tree) == 3:
        return {"kind": "compare", "of": tree[0], "op": "is", "value": tree[1]}
    return {"kind": "group", "join": tree[0], "of": [spec_of(t) for t in tree[1]]}


def plainly(tree):
    if len(tree) == 3:
        return tree[2]
    answers = [plainly(t) for t in tree[1]]
    return {"all": all(answers), "any": any(answers), "none": True not in answers}[tree[0]]


def depth(tree):
    return 0 if len(tree) == 3 else 1 + max((depth(t) for t in tree[1]), default=0)


@settings(max_examples=300)
@given(TREES.filter(lambda tree: len(tree) == 2 and depth(tree) <= 8))
def test_groups_agree_with_plain_logic(tree):
    assert evaluate(Group.model_validate(spec_of(tree)), look, TODAY).yes is plainly(tree)


def test_a_comparison_is_said_and_a_no_says_what_it_saw():
    group = Group.model_validate({"of": [{"kind": "compare", "of": "country", "op": "one_of", "values": ["IE", "FR"]}]})
    verdict = evaluate(group, look, TODAY)
    assert verdict.why_not() == "Country is one of IE, FR does not hold: it is DE."
    assert Compare(of="lines", which="any", item="sku", op="is", value="X").label == "any of lines: sku is X"
    assert Compare(of="status", op="changed", value="paid", to="shipped").label == "status changed from paid to shipped"
    assert Compare(of="lines", which="count", op="greater", value="2").label == "the number of lines is more than 2"


def test_a_pattern_that_never_ends_is_stopped():
    verdict = compare(Compare(of="x", op="matches", value="(a|aa)+$"), lambda _: Subject("a" * 60 + "b"), TODAY)
    assert verdict.yes is False


@pytest.mark.parametrize(
    ("part", "label"),
    [
        (
            {"of": "history.events", "which": "none", "op": "is", "value": "return.received"},
            "none of the order’s events so far is return",
        ),
        (
            {"of": "history.events", "which": "any", "op": "one_of", "values": ["order.paid", "own.kind"]},
            "any of the order’s events so far is one of paid, own kind",
        ),
        (
            {"of": "history.events", "which": "count", "op": "at_least", "value": "2"},
            "the number of the order’s events so far is at least 2",
        ),
        ({"of": "contact.returned", "op": "no"}, "the customer has not returned anything"),
        ({"of": "contact.complained", "op": "yes"}, "the customer has complained"),
        ({"of": "order.country", "op": "is", "value": "IE"}, "order’s country is IE"),
    ],
)
def test_a_comparison_is_said_in_words(part, label):
    assert Compare.model_validate(part).label == label
