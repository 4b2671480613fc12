"""The sandbox: what a template may do, what it may not, and that nothing in it can run long."""

import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.templates import BadTemplate, CantRender, compile_template, segments


def render(source, html=False, **values):
    return compile_template(source, html).render(values)


def test_variables_conditions_and_loops():
    assert (
        render(
            "{% for l in lines %}{{ loop.index }}. {{ l.name }}{% if not loop.last %}, {% endif %}{% endfor %}",
            lines=[{"name": "a"}, {"name": "b"}],
        )
        == "1. a, 2. b"
    )
    assert render("{% if note %}{{ note }}{% else %}none{% endif %}", note=None) == "none"
    assert render("{{ (total or 5) * 2 + 1 }}", total=3) == "7"


def test_values_are_escaped_in_html_and_never_read_as_a_template():
    nasty = "<script>{{ 7 * 7 }}</script>'\""
    assert render("{{ name }}", True, name=nasty) == "&lt;script&gt;{{ 7 * 7 }}&lt;/script&gt;&#39;&#34;"
    assert render("{{ name }}", name=nasty) == nasty


def test_the_names_it_uses_are_known():
    assert compile_template("{{ a }}{% for x in b %}{{ x.c }}{% endfor %}{% if d %}{% endif %}").names == {
        "a",
        "b",
        "d",
    }


@pytest.mark.parametrize(
    ("source", "label"),
    [
        ("{{ name", "never closed"),
        ("{{ name }", "is in a place where none belongs"),
        ("{{ }}", "is empty"),
        ("{{ first name }}", "more than one name"),
        ("{% if a %}", "opened and never closed"),
        ("{% fi %}", "starts with a word"),
        ("{{ name|shout }}", "no filter “shout”"),
        ("{% for i in range(1000000000) %}{% endfor %}", "calls a function"),
        ("{% set a = 1 %}", "sets a variable"),
        ("{% macro a() %}{{ a() }}{% endmacro %}", "macro"),
        ("{% include 'x' %}", "includes another template"),
        ("{{ ''.__class__ }}", "underscore"),
        ("{{ a.b._c }}", "underscore"),
        ("{{ _bounded }}", "underscore"),
        ("{{ ''['__class__'] }}", None),
        ("{{ 2 ** 999999 }}", "pow"),
        ("{% for a in b recursive %}{{ loop(a) }}{% endfor %}", None),
    ],
)
def test_what_a_template_may_not_do_is_told_in_a_sentence(source, label):
    with pytest.raises((BadTemplate, CantRender)) as caught:
        compile_template(source).render({"a": 1, "b": [1]})
    if label:
        assert label in caught.value.problem.what


def test_an_error_names_its_line():
    with pytest.raises(BadTemplate) as caught:
        compile_template("fine\nfine\n{{ a b }}")
    assert caught.value.line == 3
    assert caught.value.problem.what.startswith("Line 3:")


def test_a_hostile_template_can_t_take_long():
    began = time.monotonic()
    with pytest.raises(CantRender, match="loops more than"):
        render(
            "{% for a in x %}{% for b in x %}{% for c in x %}{% for d in x %}{% endfor %}{% endfor %}{% endfor %}{% "
            "endfor %}",
            x=list(range(1000)),
        )
    with pytest.raises(CantRender, match="makes more than"):
        render("{% for a in x %}{{ y }}{% endfor %}", x=list(range(10_000)), y="y" * 10_000)
    with pytest.raises(CantRender, match="only numbers"):
        render("{{ 'a' * 1000000000 }}")
    with pytest.raises(CantRender, match="too long"):
        render("{{ y|replace('y', y) }}", y="y" * 10_000)
    with pytest.raises(BadTemplate):
        compile_template("{% if a %}" * 3000 + "{% endif %}" * 3000)
    assert time.monotonic() - began < 5


def test_a_name_without_a_value_is_an_error_not_an_empty_text():
    with pytest.raises(CantRender, match="has no value"):
        render("Hello {{ name }},")


def test_segments_join_to_the_source():
    source = "Hi {{ a }}, {% if b %}b{% endif %}{# note #}!"
    assert "".join(part for _, part in segments(source)) == source
    assert [part for jinja, part in segments(source) if jinja] == ["{{ a }}", "{% if b %}", "{% endif %}", "{# note #}"]


@settings(max_examples=200, deadline=None)
@given(st.text(alphabet="{}%#|.ab '\"()[]\n-~*/+forinend", max_size=60))
def test_any_text_compiles_or_is_refused_with_a_sentence(source):
    try:
        compile_template(source).render({"a": [1], "b": "x"})
    except (BadTemplate, CantRender) as error:
        assert error.problem.what
