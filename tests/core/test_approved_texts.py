"""Chat texts that a provider has approved: read from its list, whatever it holds, and taken over gap by gap."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.messages.approved import ApprovedText, read_list, taken_over
from angelon.core.problems import Invalid
from angelon.core.specs.gateway import Review
from tests import made

REVIEW = Review.model_validate({"submit": {}, "look": {}, "texts": {"call": {"method": "GET"}}})


def text(**changes):
    known = {
        "reference": "t-1",
        "name": "soon",
        "language": "en",
        "category": "order",
        "header": {"kind": "none"},
        "body": "Hello {1}, {2} waits.",
        "footer": "",
        "buttons": (),
        "samples": ("Jo", "BK-1"),
    }
    return ApprovedText(**known | changes)


def listed(*items):
    return read_list(REVIEW, json.dumps({"texts": items}).encode())


def test_only_what_is_approved_and_says_something_is_listed():
    good = {"id": "t-1", "state": "approved", "body": "Hello {{1}}, {{ 2 }} is {3}.", "samples": ["a", 2], "name": "n"}
    found = listed(good, good | {"state": "rejected"}, good | {"id": ""}, good | {"body": ""}, "x", None, [])
    assert [(one.body, one.gaps, one.samples) for one in found] == [("Hello {1}, {2} is {3}.", [1, 2, 3], ("a", "2"))]
    assert found[0].around(2) == ", {2} is"


@pytest.mark.parametrize("body", [b"", b"{", b"[]", b'{"texts": 3}', b'{"texts": {"a": 1}}'])
def test_an_answer_that_is_no_list_says_so(body):
    if body == b'{"texts": {"a": 1}}':
        assert read_list(REVIEW, body) == []
        return
    with pytest.raises(Invalid):
        read_list(REVIEW, body)


PARTS = st.sampled_from(["id", "state", "body", "header", "kind", "text", "buttons", "samples"])
ANYTHING = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(PARTS, inner),
    max_leaves=20,
)


@given(ANYTHING)
def test_whatever_a_provider_lists_is_read_or_left_out(item):
    for one in listed({"id": "t", "state": "approved", "body": "x"} | (item if isinstance(item, dict) else {}), item):
        assert isinstance(one.gaps, list)


def test_a_text_that_is_taken_over_is_the_one_that_was_approved():
    approved = text(
        header={"kind": "text", "text": "Order {1}"},
        body="Hello {2}, it waits.",
        buttons=({"kind": "link", "text": "See it", "url": "https://kites.example/{1}"},),
        samples=("BK-1", "Jo"),
    )
    chat, compiled = taken_over(approved, {1: "order.number", 2: "customer_name"}, made.store(), "en")
    assert chat.body == "Hello {{ customer_name }}, it waits."
    assert compiled.numbered.placeholders == ("order.number", "customer_name")
    assert (compiled.numbered.body, compiled.numbered.header) == (approved.body, approved.header)
    assert chat.samples == {"order.number": "BK-1", "customer_name": "Jo"}


@pytest.mark.parametrize(
    ("approved", "given_", "said"),
    [
        (text(), {1: "customer_name"}, "Gap {2} has no variable"),
        (text(), {1: "customer_name", 2: "customer_name"}, "Two gaps hold the same variable"),
        (text(body="{2} then {1}"), {1: "a", 2: "b"}, "numbers its gaps {2}, {1}"),
        (text(body="{1} and {3}"), {1: "a", 3: "b"}, "numbers its gaps {1}, {3}"),
        (text(body="a } {1} {2} b"), {1: "a", 2: "b"}, "signs that Angelon writes otherwise"),
        (text(), {1: "a b", 2: "c"}, ""),
    ],
)
def test_what_would_be_another_text_is_refused(approved, given_, said):
    with pytest.raises(Invalid) as error:
        taken_over(approved, given_, made.store(), "en")
    assert said in error.value.problems[0].what
