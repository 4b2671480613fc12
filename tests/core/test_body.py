"""A delivery's bytes: what is read, what is refused, and that a refusal says why."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.payload.body import MAX_DEPTH, NotReadable, parse_body, surely_readable
from angelon.core.payload.forms import nest


def refused(raw: bytes, kind: str = "application/json") -> NotReadable:
    with pytest.raises(NotReadable) as caught:
        parse_body(raw, kind)
    return caught.value


def test_json_keeps_big_numbers_and_unicode():
    assert parse_body('{"id": 90071992547409931, "name": "Ελένη"}'.encode(), "application/json; charset=utf-8") == {
        "id": 90071992547409931,
        "name": "Ελένη",
    }


def test_a_body_that_is_not_json_says_where():
    error = refused(b'{"a": 1,\n "b": }')
    assert error.status == 400
    assert "line 2, column 7" in error.problem.what


@pytest.mark.parametrize("raw", [b"", b"   ", b"\xff\xfe", b'{"a": NaN}', b'{"a": "\\ud800"}', b"nonsense"])
def test_what_is_no_json_is_refused_with_400(raw):
    assert refused(raw).status == 400


def test_a_hundred_levels_are_too_deep_and_a_thousand_too():
    for depth in (100, 100_000):
        assert "levels deep" in refused(b"[" * depth + b"]" * depth).problem.what
    nested = b"[" * MAX_DEPTH + b"]" * MAX_DEPTH
    assert parse_body(nested, "application/json")


def test_brackets_inside_text_are_no_depth():
    assert parse_body(json.dumps({"note": "[" * 500}).encode(), "application/json") == {"note": "[" * 500}


def test_fifty_thousand_fields_are_too_many_and_ten_thousand_items_are_not():
    many = json.dumps({f"k{n}": n for n in range(50_000)}).encode()
    assert "fields" in refused(many).problem.what
    assert len(parse_body(json.dumps(list(range(10_000))).encode(), "application/json")) == 10_000


def test_an_unknown_type_is_415():
    assert refused(b"<a/>", "text/xml").status == 415


def test_a_form_is_read_with_plus_and_percent():
    assert parse_body(b"name=%CE%95%CE%BB+a&total=64%2C90&empty=", "application/x-www-form-urlencoded") == {
        "name": "Ελ a",
        "total": "64,90",
        "empty": "",
    }


def test_form_names_nest():
    pairs = [
        ("a[b][0][c]", "1"),
        ("a[b][1][c]", "2"),
        ("tags[]", "x"),
        ("tags[]", "y"),
        ("plain", "z"),
        ("twice", "1"),
        ("twice", "2"),
    ]
    assert nest(pairs) == {"a": {"b": [{"c": "1"}, {"c": "2"}]}, "tags": ["x", "y"], "plain": "z", "twice": ["1", "2"]}


def test_odd_form_names_are_kept_as_they_are():
    assert nest([("a[b", "1"), ("[x]", "2"), ("a]b[", "3")]) == {"a[b": "1", "[x]": "2", "a]b[": "3"}


def test_a_form_that_is_a_value_and_a_branch_loses_neither():
    assert nest([("a", "1"), ("a[b]", "2")]) == {"a": {"": "1", "b": "2"}}


@settings(max_examples=400, deadline=None, derandomize=True)
@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
        lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
        max_leaves=20,
    ),
    st.lists(st.tuples(st.integers(0, 200), st.binary(min_size=0, max_size=3)), max_size=3),
    st.sampled_from(["", '"\\ud800"', "1" * 4500, "1e999", "NaN", "[" * 70 + "]" * 70, "\ufeff{}"]),
)
def test_what_is_surely_readable_is_read(value, broken, odd):
    raw = odd.encode() if odd else json.dumps(value).encode()
    for at, junk in broken:
        raw = raw[:at] + junk + raw[at + 1 :]
    if surely_readable(raw, "application/json"):
        parse_body(raw, "application/json")  # raises nothing


def test_what_is_surely_readable_is_told_by_its_type_and_bounds():
    assert surely_readable(b'{"a": 1}', "application/json; charset=utf-8")
    assert not surely_readable(b"a=1", "application/x-www-form-urlencoded")
    assert not surely_readable(b"", "application/json")
    assert not surely_readable(b"[" * 65 + b"]" * 65, "application/json")
    assert not surely_readable(b"1" * 4500, "application/json")
