"""A delivery's bytes: what is read, what is refused, and that a refusal says why."""

import json

import pytest

from angelon.core.payload.body import MAX_DEPTH, NotReadable, parse_body
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
