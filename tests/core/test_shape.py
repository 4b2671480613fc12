"""Shapes in bounded memory, drift that chance would not explain, and two samples side by side."""

import datetime as dt

from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.shape import MAX_PATHS, Difference, Shape, compare, drift, general
from tests import made
from tests.made import NOON


def learned(payloads):
    shape = Shape()
    for number, payload in enumerate(payloads):
        shape.learn([(payload, NOON + dt.timedelta(hours=number))])
    return shape


def test_a_mapped_path_that_goes_missing_is_drift_after_three():
    full, lacking = {"id": 1, "tel": "030"}, {"id": 2}
    assert drift(learned([full] * 20 + [lacking] * 2), "sold", ["$.tel"]) == []
    (sent_for_order,) = drift(learned([full] * 20 + [lacking] * 3), "sold", ["$.tel", "$.id"])
    assert (sent_for_order.path, sent_for_order.name, sent_for_order.sample) == ("$.tel", "sold", "030")
    assert sent_for_order.label == "missing in the last 3 deliveries; before that in all"
    assert sent_for_order.since == NOON + dt.timedelta(hours=19)


def test_a_field_that_was_always_rare_is_no_drift():
    payloads = [{"a": 1} if n % 4 == 0 else {} for n in range(40)]
    assert drift(learned([*payloads, {}, {}, {}, {}]), "x", ["$.a"]) == []


def test_becoming_rare_is_drift():
    payloads = [{"a": 1}] * 30 + [{"a": 1} if n % 8 == 7 else {} for n in range(24)]
    (sent_for_order,) = drift(learned(payloads), "x", ["$.a"])
    assert "rare" in sent_for_order.label


def test_a_changed_type_is_drift_after_three():
    (sent_for_order,) = drift(learned([{"total": "1.00"}] * 10 + [{"total": 1.0}] * 3), "x", ["$.total"])
    assert sent_for_order.label == "was text and is now number"
    assert drift(learned([{"total": "1.00"}] * 10 + [{"total": None}] * 1), "x", ["$.total"]) == []


def test_paths_of_recipes_and_of_shapes_meet():
    assert (
        general("$.lines[0].title")
        == general("$.lines[*].title")
        == general('$.lines[?@.k == "x"].title')
        == "$.lines[*].title"
    )
    assert drift(learned([made.order()] * 8 + [made.order(lines=[])] * 3), "x", ["$.lines[0].title"])


def test_memory_is_bounded():
    shape = learned([{f"k{n}-{m}": n for m in range(900)} for n in range(5)])
    assert len(shape.paths) <= MAX_PATHS
    assert shape.deliveries == 5


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.recursive(
            st.none() | st.integers() | st.text(max_size=5),
            lambda x: st.lists(x, max_size=3) | st.dictionaries(st.sampled_from("abc"), x, max_size=3),
            max_leaves=8,
        ),
        max_size=6,
    )
)
def test_a_shape_is_the_same_after_storing(payloads):
    shape = learned(payloads)
    again = Shape.of(shape.plain())
    assert again.plain() == shape.plain()
    again.learn([({"a": 1}, NOON)])


def test_two_samples_compared():
    was = {"a": 1, "b": {"c": "x", "d": 2}, "l": [1, 2], "t": 1}
    now = {"a": 1, "b": {"c": "y"}, "l": [1], "n": None, "t": "1"}
    assert set((d.path, d.how) for d in compare(was, now)) == {
        ("$.b.c", "changed"),
        ("$.b.d", "gone"),
        ("$.l[1]", "gone"),
        ("$.n", "added"),
        ("$.t", "changed"),
    }
    assert compare(was, was) == []
    assert Difference("$.b.c", "changed", "x", "y") in compare(was, now)


@given(
    st.dictionaries(st.sampled_from("abc"), st.integers() | st.lists(st.integers(), max_size=2), max_size=3),
    st.dictionaries(st.sampled_from("abc"), st.integers() | st.lists(st.integers(), max_size=2), max_size=3),
)
def test_comparing_the_other_way_turns_added_into_gone(a, b):
    turned = {"added": "gone", "gone": "added", "changed": "changed"}
    assert {(d.path, d.how) for d in compare(a, b)} == {(d.path, turned[d.how]) for d in compare(b, a)}
