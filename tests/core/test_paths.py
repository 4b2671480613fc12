"""JSONPath: one place, many places, none, and paths that are wrong."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.payload.paths import MISSING, BadPath, child, compile_path
from angelon.core.payload.tree import fields

PAYLOAD = {
    "a": {"b c": [1, {"d": "x"}]},
    "list": [{"k": "x", "v": 1}, {"k": "y", "v": 2}],
    "json": '{"in": 1}',
    "none": None,
}


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("$.a['b c'][1].d", "x"),
        ("$.list[-1].v", 2),
        ("$.list[*].v", [1, 2]),
        ("$.list[?@.k == 'y'].v", 2),
        ("$.list[0:1].v", [1]),
        ("$..d", ["x"]),
        ("$.none", None),
        ("$.nothing", MISSING),
        ("$.list[9].v", MISSING),
        ("$.list[?@.k == 'z'].v", MISSING),
        ("$.a.b", MISSING),
    ],
)
def test_what_a_path_finds(path, value):
    assert compile_path(path).find(PAYLOAD) == value or (
        value is MISSING and compile_path(path).find(PAYLOAD) is MISSING
    )


@pytest.mark.parametrize(("path", "position"), [("$.a[", 4), ("a.b", 0), ("$.a..", 5), ("$.list[?@.k ==]", 14)])
def test_a_bad_path_says_where_it_goes_wrong(path, position):
    with pytest.raises(BadPath) as caught:
        compile_path(path)
    assert abs(caught.value.position - position) <= 1
    assert f"character {caught.value.position + 1}" in caught.value.problem.what


def test_the_tree_lists_branches_before_their_members_with_kinds():
    tree = {f.path: (f.kind, f.depth, f.label) for f in fields(PAYLOAD)}
    assert tree["$.a['b c']"] == ("list", 1, "2 items")
    assert tree["$.a['b c'][1].d"] == ("text", 3, '"x"')
    assert tree["$.json"] == ("json", 0, "JSON in text")
    assert next(iter(tree)) == "$.a"


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=20,
)


@given(json_values)
def test_every_field_of_the_tree_is_found_by_its_own_path(payload):
    for field in fields(payload):
        assert compile_path(field.path).find(payload) == field.value


@given(st.text(max_size=60))
def test_any_text_is_a_path_or_a_bad_path(text):
    try:
        compile_path(text)
    except BadPath as error:
        assert error.problem.what


def test_a_path_that_finds_several_gives_their_places():
    assert compile_path("$.list[*].v").places(PAYLOAD) == ["$.list[0].v", "$.list[1].v"]
    assert child("$", "odd'key") == "$['odd\\'key']"


def test_values_under_secret_names_are_blotted_out():
    from angelon.core.payload.redact import redacted

    payload = {
        "card_number": "4111",
        "customer": {"apiKey": "k", "name": "Jo"},
        "list": [{"password": ""}, {"token": {"a": 1}}],
    }
    assert redacted(payload) == {
        "card_number": "•••",
        "customer": {"apiKey": "•••", "name": "Jo"},
        "list": [{"password": ""}, {"token": "•••"}],
    }
    assert {f.path: f.label for f in fields(payload)}["$.card_number"] == "•••"
