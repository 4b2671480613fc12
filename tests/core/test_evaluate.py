"""Recipes: paths in order, steps, what is used otherwise; and variables that use one another."""

from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import Variables, as_variable
from angelon.core.specs.variable import Recipe, Type, Variable

PAYLOAD = {
    "buyer": {"phone": "", "name": " Jo "},
    "ship": {"phone": "+49 (30) 23125-014"},
    "total": "135.50",
    "lines": [{"t": "a"}, {"t": "b"}],
}


def recipe(**spec):
    return Recipe.model_validate(spec)


def test_the_second_path_is_used_where_the_first_is_empty_and_the_trace_says_so():
    made = as_variable(
        PAYLOAD, recipe(path="$.buyer.phone", or_paths=["$.ship.phone", "$.x"], steps=["phone"]), Type.PHONE
    )
    assert made.value == "+493023125014"
    assert made.path == "$.ship.phone"
    assert [line.label for line in made.lines] == ["$.buyer.phone", "fallback $.ship.phone", "fallback $.x", "phone"]
    assert [line.used for line in made.lines] == [True, True, False, True]
    assert "it is empty there" in made.lines[0].problem.what


def test_a_path_that_matches_nothing_is_a_problem_never_an_empty_text():
    made = as_variable(PAYLOAD, recipe(path="$.buyer.surname"))
    assert made.value is None
    assert "$.buyer.surname has no value in this event" in made.problem.what


def test_blank_text_counts_as_nothing():
    assert as_variable({"a": "   "}, recipe(path="$.a")).problem


def test_otherwise_stands_in_without_the_steps():
    made = as_variable(PAYLOAD, recipe(path="$.none", steps=["upper"], default="friend"))
    assert (made.value, made.problem) == ("friend", None)


def test_an_error_is_told_at_the_step_where_it_arises():
    made = as_variable(PAYLOAD, recipe(path="$.lines", steps=[{"pick": {"key": "t"}}, "upper", "lower"]))
    assert made.lines[-1].label == "upper"
    assert made.problem.where == "steps.1"
    assert "Add pick and join" in made.problem.hint


def test_a_value_that_is_not_of_its_type_is_a_problem():
    assert (
        "no email address" in as_variable({"e": "a@b\nBcc: x@y.example"}, recipe(path="$.e"), Type.EMAIL).problem.what
    )
    assert "no web address" in as_variable({"u": "javascript:alert(1)"}, recipe(path="$.u"), Type.URL).problem.what
    assert as_variable({"u": " https://example.com/a "}, recipe(path="$.u"), Type.URL).value == "https://example.com/a"
    assert as_variable(PAYLOAD, recipe(path="$.lines[*].t"), Type.LIST).value == ["a", "b"]


def variables(**recipes):
    return Variables(
        {name: Variable(name=name, required=name != "optional") for name in (*recipes, "unmapped")},
        {name: Recipe.model_validate(r) for name, r in recipes.items()},
        Context(payload=PAYLOAD),
    )


def test_a_template_uses_other_variables():
    made = variables(
        name={"path": "$.buyer.name", "steps": ["strip"]},
        greeting={"path": "$.total", "steps": [{"template": {"text": "{{ name }}: {{ value }}"}}]},
    )
    assert made["greeting"].value == "Jo: 135.50"


def test_templates_in_a_circle_are_told_apart_from_everything_else():
    made = variables(
        a={"path": "$.total", "steps": [{"template": {"text": "{{ b }}"}}]},
        b={"path": "$.total", "steps": [{"template": {"text": "{{ a }}"}}]},
    )
    assert "circle: a → b → a" in made["a"].problem.what


def test_only_required_variables_without_a_value_are_problems():
    made = variables(optional={"path": "$.none"}, needed={"path": "$.none"})
    assert [p.what.split(" ")[0] for p in made.problems(["optional", "needed", "unmapped"])] == ["needed", "unmapped"]
    assert made.values(["optional"]) == {"optional": None}


@settings(max_examples=100, deadline=None)
@given(
    st.recursive(
        st.none() | st.integers() | st.text(max_size=8),
        lambda x: st.lists(x, max_size=3) | st.dictionaries(st.sampled_from("abt"), x, max_size=3),
        max_leaves=8,
    ),
    st.sampled_from(list(Type)),
)
def test_evaluating_never_raises(payload, wanted):
    made = as_variable(payload, recipe(path="$.a", or_paths=["$..t", "$[?@.b]"], steps=["strip"]), wanted)
    assert (made.value is None) == (made.problem is not None)


def test_lines_are_those_of_the_value_wherever_they_end() -> None:
    """They are worked out when somebody looks, and say what the value says."""
    made = as_variable(PAYLOAD, recipe(path="$.nowhere", default="none"))
    assert (made.value, made.by_default, made.said) == ("none", True, None)
    assert [line.label for line in made.lines] == ["$.nowhere", "fallback text"]
    assert made.lines[-1].value == "none"
    made = as_variable(PAYLOAD, recipe(path="$.lines", steps=[{"pick": {"key": "t"}}]), Type.NUMBER)
    assert made.problem is not None
    assert made.lines[-1].problem == made.problem
    made = as_variable({"a": "x\x00"}, recipe(path="$.a", default="clean"))
    assert made.value == "clean"
    assert [line.label for line in made.lines] == ["$.a", "as text", "fallback text"]
    made = as_variable({"a": "x\x00"}, recipe(path="$.a", default="un\x00clean"))
    assert made.problem is not None
    assert [line.label for line in made.lines] == ["$.a", "as text"]
