"""Nothing that a person or a payload writes goes on without end: paths, patterns, pages, diffs, numbers, forms."""

import datetime as dt
import json
import time
from decimal import Decimal

import pytest

from angelon.core.conditions.evaluate import evaluate as evaluate_condition
from angelon.core.markup.cleaning import cleaned
from angelon.core.markup.nesting import DEEPEST, depth, problems_of_markup
from angelon.core.messages.blocks import Tokens, link
from angelon.core.messages.email import compile_email
from angelon.core.payload.budget import MAX_STEPS
from angelon.core.payload.forms import nest
from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Invalid
from angelon.core.recipes.evaluate import as_variable
from angelon.core.specs import Message, Source
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.core.specs.variable import Recipe, Type
from angelon.core.templates import BadTemplate, CantRender, compile_template
from angelon.core.values import Day, Money, pack, show, unfit, unpack
from angelon.web.messages.comparing import marked
from tests import made

BIG = {
    "orders": [
        {"id": n, "lines": [{"sku": f"s{n}-{m}", "tags": ["a", "b"], "price": {"value": "1.00"}} for m in range(5)]}
        for n in range(400)
    ]
}


@pytest.mark.parametrize(
    "path",
    [
        "$..*..*..*..*",
        "$..[?count($..*)>1]",
        "$..[?count(@..*)>0]..*..*..*",
        "$.orders[?count($..*)>3].lines[?count($..*)>3]",
    ],
)
def test_a_path_that_looks_at_too_much_is_a_problem_in_under_two_seconds(path):
    began = time.monotonic()
    with pytest.raises(BadPath, match=f"more than {MAX_STEPS:,} places"):
        compile_path(path).find(BIG)
    assert time.monotonic() - began < 20
    found = as_variable(BIG, Recipe.model_validate({"path": path}), Type.LIST)
    assert found.value is None
    assert "Write it with fewer descents" in found.problem.hint


@pytest.mark.parametrize(
    ("path", "found"),
    [
        ("$..price.value", ["1.00"] * 2000),
        ("$.orders[?@.id==7].id", 7),
        ("$.orders[?count(@.lines[*])==5].id", list(range(400))),
        ("$.orders[-1].lines[0].sku", "s399-0"),
        ("$.orders[?match(@.lines[0].sku, 's3.-0')].id", list(range(30, 40))),
        ("$.orders[?search(@.lines[0].sku, '^s39')].id", [39, *range(390, 400)]),
        ("$.orders[?@.id>397 || @.id<1].id", [0, 398, 399]),
        ("$.orders[0:2].id", [0, 1]),
    ],
)
def test_within_its_budget_a_path_finds_what_the_standard_says(path, found):
    assert compile_path(path).find(BIG) == found


def test_a_descent_goes_in_the_order_of_the_document():
    payload = {"b": {"x": 1, "a": [{"x": 2}, {"x": 3, "deep": {"x": 4}}]}, "a": {"x": 5}}
    assert compile_path("$..x").find(payload) == [1, 2, 3, 4, 5]


def test_a_pattern_that_backtracks_for_ever_is_a_problem():
    began = time.monotonic()
    with pytest.raises(BadPath, match="its pattern takes longer"):
        compile_path("$.x[?match(@, '(a|aa)+b')]").find({"x": ["a" * 80]})
    assert time.monotonic() - began < 20


# ---- pages


@pytest.mark.parametrize(
    "page",
    [
        "<div>" * 20_000,
        "<div>" * 300 + "</div>" * 300,
        "<div></x>" * 300,
        "<b><i>" * 200,
        "<div a='>'>" * 300,
        "<table><tr><td>" * 200,
        "<mj-text><p>" * 200,
    ],
)
def test_a_page_that_nests_deeper_than_a_parser_takes_is_refused_before_it_sees_it(page):
    began = time.monotonic()
    for spec in ({"subject": "x", "html": page}, {"subject": "x", "blocks": [{"kind": "mjml", "mjml": page}]}):
        with pytest.raises(
            ValueError, match=r"levels deep|can't be read|at most 50000|would not|keeps no text|no mail program"
        ):
            compile_email(
                Message.model_validate({"key": "m", "name": "M", "email": {"en": spec}}).email["en"], made.store(), "en"
            )
    with pytest.raises(Invalid, match="levels deep"):
        cleaned(page)
    assert time.monotonic() - began < 30


def test_real_pages_are_not_too_deep():
    table = "<table><tr><td>" * 12 + "x" + "</td></tr></table>" * 12
    assert depth(table, True) == 12
    assert depth("<p>one<p>two<ul><li>a<li>b</ul><br><img src=x>" * 200, True) == 1
    assert depth("<mj-section><mj-column><mj-text/></mj-column></mj-section>", False) == 2
    assert problems_of_markup(table + "<!-- <div><div> -->" * 500, True) == []
    assert depth("<div>" * DEEPEST + "</div>" * DEEPEST, True) == DEEPEST


def test_styles_that_nest_or_match_without_end_are_refused():
    assert "brackets" in problems_of_markup(f"<style>{'a{' * 500}</style>", True)[0].what
    many = (
        "<style>"
        + "".join(f".c{n} b i u{{color:red}}" for n in range(4000))
        + "</style>"
        + "<b><i><u>x</u></i></b>" * 4000
    )
    assert "too many style rules" in problems_of_markup(many, True)[0].what


# ---- templates


def test_a_template_s_refusal_never_raises_anything_else():
    for source in (
        "{% autoescape false %}x{% endautoescape %}",
        "{% set x = 1 %}",
        "{% raw %}{% endraw %}{{",
        "{% trans %}x{% endtrans %}",
        "{{ x() }}",
        "{% for a in b recursive %}{% endfor %}",
        "{% if " + "(" * 3000 + "x" + ")" * 3000 + " %}{% endif %}",
    ):
        with pytest.raises(BadTemplate):
            compile_template(source)


def test_a_method_of_a_value_is_no_field_of_it():
    for source in (
        "{{ x.upper }}",
        "{{ x['upper'] }}",
        "{{ total.amount.real }}",
        "{{ items.append }}",
        "{{ order.items }}",
        "{{ day.value.strftime }}",
    ):
        with pytest.raises(CantRender):
            compile_template(source).render(
                {
                    "x": "a",
                    "total": Money(Decimal(1), "EUR"),
                    "items": [1],
                    "order": {"number": "7"},
                    "day": Day(dt.date(2026, 1, 1)),
                }
            )
    compiled = compile_template(
        "{{ order.items }} {{ total.currency }} {% for i in items %}{{ loop.index }}{{ i.a }}{% endfor %} {{ x[0] }}"
    )
    assert (
        compiled.render(
            {"order": {"items": "two"}, "total": Money(Decimal(1), "EUR"), "items": [{"a": "b"}], "x": "xyz"}
        )
        == "two EUR 1b x"
    )


def test_a_customer_s_html_never_gets_into_a_mail():
    with pytest.raises(BadTemplate, match="filter json"):
        compile_template("<p>{{ name | json }}</p>", True)
    mail = Message.model_validate(
        {
            "key": "m",
            "name": "M",
            "email": {"en": {"subject": "x", "blocks": [{"kind": "text", "text": "{{ name | json }}"}]}},
        }
    )
    with pytest.raises(Invalid, match="filter json"):
        compile_email(mail.email["en"], made.store(), "en")
    assert (
        compile_template('{"n": {{ name | json }}}').render({"name": 10**30})
        == '{"n": 1000000000000000000000000000000}'
    )


@pytest.mark.parametrize(
    "source",
    [
        "javascript:alert(1)",
        "{% if true %}javascript:alert(1){% endif %}",
        "{% if a %}https://x.example{% else %}javascript:alert(1){% endif %}",
        "{% if a %}{{ b }}{% endif %}javascript:x",
        "{% for a in b %}javascript:{% endfor %}",
        "relative/path",
    ],
)
def test_an_address_that_could_begin_as_no_web_address_is_refused(source):
    with pytest.raises(BadTemplate, match="no web address"):
        link(source, Tokens())


@pytest.mark.parametrize(
    "source",
    [
        "https://x.example/{{ number }}",
        "{{ url }}?from=mail",
        "{% if a %}https://x.example{% else %}https://y.example{% endif %}/{{ number }}",
        "{% if a %}{{ url }}{% else %}https://y.example{% endif %}",
        "mailto:{{ email }}",
        "https://x.example/{% if a %}{{ a }}{% endif %}?b={{ b | urlencode }}",
    ],
)
def test_an_address_that_begins_as_one_whichever_way_it_goes_is_taken(source):
    assert link(source, Tokens())


def test_a_value_called_like_a_filter_is_made_safe_all_the_same():
    tokens = Tokens()
    made_link = tokens.show(link("https://x.example/{{ my_urlencode_name }}", tokens))
    assert compile_template(made_link, True).render({"my_urlencode_name": 'a&b"c'}) == "https://x.example/a%26b%22c"


# ---- diffs, forms, keys, specs


def test_a_large_page_is_compared_in_moments():
    page = "".join(
        f"<td class='c{n % 7}'>Row {n} of this mail, with words that stand in others as well</td>\n"
        for n in range(2500)
    )
    began = time.monotonic()
    old, new = marked(page, page.replace("Row 1200 of", "Line 1200 of"))
    assert time.monotonic() - began < 30
    assert "<del>Row</del>" in old
    assert "<ins>Line</ins>" in new
    one_line = page.replace("\n", "")
    assert "<ins>Line</ins>" in marked(one_line, one_line.replace("Row 1200 of", "Line 1200 of"))[1]
    began = time.monotonic()
    marked("a b " * 100_000, "b a " * 100_000)
    assert time.monotonic() - began < 30


def test_a_form_s_names_nest_so_deep_and_no_deeper():
    assert nest([("a[b][0][c]", "1")]) == {"a": {"b": [{"c": "1"}]}}
    deep = "a" + "[b]" * 10_000
    assert nest([(deep, "1")]) == {deep: "1"}
    assert nest([("a[²]", "1"), ("a[" + "9" * 5000 + "]", "2")]) == {"a": {"²": "1", "9" * 5000: "2"}}


@pytest.mark.parametrize(
    ("name", "key"),
    [
        ("Größe", "groesse"),
        ("凧の店", "tako-nodian"),
        ("  Über uns! ", "ueber-uns"),
        ("x" * 200, "x" * 60),
        ("²", "2"),
        ("---", ""),
        ("Déjà vu", "deja-vu"),
        ("a" * 59 + " b", "a" * 59),
    ],
)
def test_a_name_in_any_script_gives_a_key(name, key):
    assert key_of(name) == key


@pytest.mark.parametrize(
    "data",
    [
        {"key": "a\x00b"},
        {"key": "\ud800"},
        {"key": "x", "x": float("nan")},
        {"key": 2**70},
        {"a" * 3: json.loads("[" * 500 + "]" * 500)},
        {"a\x00": 1},
    ],
)
def test_what_no_spec_may_hold_is_named_wherever_it_stands(data):
    with pytest.raises(Invalid):
        read_spec(Source, data)


def test_a_condition_s_pattern_is_checked_by_what_runs_it():
    from angelon.core.conditions.evaluate import Subject
    from angelon.core.specs.condition import Group

    group = Group.model_validate(
        {"of": [{"kind": "compare", "of": "order.number", "op": "matches", "value": r"\p{Lu}{2}-\d++"}]}
    )
    assert evaluate_condition(group, lambda part: Subject("BK-12", "text"), dt.date(2026, 1, 1)).yes


# ---- values


@pytest.mark.parametrize(
    ("value", "label"),
    [
        (10**28, "28 digits"),
        (Decimal("1e28"), "28 digits"),
        (Decimal("NaN"), "28 digits"),
        (1e300, "28 digits"),
        (float("inf"), "28 digits"),
        (dt.date(1, 1, 1), "1000 to 9000"),
        (Day(dt.date(9999, 12, 31)), "1000 to 9000"),
        ("a\x00", "NUL"),
        ("\udc00", "surrogate"),
        ([{"a": ["x", "\x00"]}], "NUL"),
        (Money(Decimal("1e40"), "EUR"), "28 digits"),
        ({"\x00": 1}, "NUL"),
    ],
)
def test_values_that_can_t_be_are_told_and_shown_all_the_same(value, label):
    assert label in unfit(value)
    assert isinstance(show(value, "de"), str)


@pytest.mark.parametrize(
    "value",
    [
        10**28 - 1,
        Decimal("0.0001"),
        Decimal("-99999999999999999999999999.99"),
        dt.date(1000, 1, 1),
        dt.date(9000, 12, 31),
        "ü 凧 🪁",
        [1, None, {"a": True}],
        Money(Decimal("99999999999999999999999999.99"), "JPY"),
    ],
)
def test_values_at_the_edge_are_kept_exactly(value):
    assert unfit(value) == ""
    back = unpack(json.loads(json.dumps(pack(value))))
    assert back == value or back == Day(value)
    assert (
        show(Money(Decimal("99999999999999999999999999.99"), "EUR"), "en") == "€99,999,999,999,999,999,999,999,999.99"
    )


@pytest.mark.parametrize(
    "stored",
    [
        {"$money": 5},
        {"$moment": ["x", "long", "../../../etc/passwd"]},
        {"$number": "1e999999999"},
        {"$day": []},
        {"$object": 3},
        {"$money": ["x", "y"]},
    ],
)
def test_a_payload_s_own_keys_pass_as_no_values_of_ours(stored):
    assert unpack(json.loads(json.dumps(pack(stored)))) == stored
    unpack(stored)
