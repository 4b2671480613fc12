"""What bodies have in common is the names of their fields, and no value."""

import json

from hypothesis import given
from hypothesis import strategies as st

from angelon.core.payload.pattern import common, names_of, pattern_of
from tests import made

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=20,
)


def leaves(value):
    if isinstance(value, dict):
        return [leaf for inner in value.values() for leaf in leaves(inner)]
    return [leaf for inner in value for leaf in leaves(inner)] if isinstance(value, list) else [value]


@given(st.dictionaries(st.text(max_size=8), VALUES, max_size=5))
def test_no_value_is_in_it(value):
    structure = names_of(json.dumps(value).encode())
    assert all(leaf in ("", 0, None) for leaf in leaves(structure))


def test_names_that_somebody_may_have_made_up_are_left_out():
    body = json.dumps({"id": 1, "jo@example.org": 2, "BK-7": {"a": 1}, "Jörg": 3, "two words": 4, "by": [{"x": 1}]})
    assert names_of(body.encode()) == {"id": 0, "by": [{"x": 0}]}


def test_only_what_both_have_counts():
    one, other = (
        names_of(b'{"a": 1, "Anna": {"b": 1}, "l": [{"x": 1, "y": 2}]}'),
        names_of(b'{"l": [{"y": 3}], "a": 2}'),
    )
    assert common(one, other) == {"a": 0, "l": [{"y": 0}]}


def test_a_pattern_is_written_as_the_bodies_are():
    structure = names_of(made.body())
    assert b'"buyer": {"name": ""' in pattern_of(structure, made.body())
    assert b'"buyer":{"name":""' in pattern_of(structure, b'{"a":1}')


def test_what_is_no_json_object_has_none():
    assert [names_of(raw) for raw in (b"a=1&b=2", b"[1]", b'"x"', b"", b"{")] == [None] * 5
