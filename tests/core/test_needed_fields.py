"""Which parts of an order a text can't do without: those it does not ask for before it shows them."""

import pytest

from angelon.core.messages.channels import compiled_part
from angelon.core.templates import CantRender, compile_template
from tests import made

CASES = [
    ("{{ order.a }}", {"a"}),
    ("{% if order.a %}{{ order.a }}{% endif %}", set()),
    ("{% if order.a is defined and order.a and order.a.amount %}{{ order.a }}{% endif %}", set()),
    ("{% if order.a is defined %}{{ order.a }}{% endif %}", {"a"}),
    ("{% if order.a %}x{% else %}{{ order.a }}{% endif %}", {"a"}),
    ("{% if not order.a %}{{ order.a }}{% endif %}", {"a"}),
    ("{% if not order.a %}nothing{% endif %}", set()),
    ("{% if order.a > 5 %}x{% endif %}", {"a"}),
    ("{% if order.a or order.b %}{{ order.a }}{% endif %}", {"a", "b"}),
    ("{% if order.a %}{{ order.b }}{% endif %}{{ order['c'] }}", {"b", "c"}),
    ("{% if order.a %}{{ order.a }}{% endif %}{{ order.a }}", {"a"}),
    ("{% if order.a and order.b %}{{ order.a }}{% elif order.c %}{{ order.c }}{{ order.b }}{% endif %}", {"b"}),
    ("{% for line in order.lines %}{{ order.a }}{% endfor %}", {"lines", "a"}),
]


@pytest.mark.parametrize(("source", "needed"), CASES)
def test_what_is_asked_for_first_is_not_needed(source, needed):
    assert compile_template(source).needed_order_fields == needed


@pytest.mark.parametrize(("source", "needed"), CASES)
def test_a_text_whose_needed_fields_are_there_has_no_hole_whatever_else_is_missing(source, needed):
    compiled = compile_template(source)
    order = {part: [] if part == "lines" else 7 for part in needed}
    order |= dict.fromkeys(compiled.order_fields - set(needed))
    try:
        compiled.render({"order": order}, holes="refuse")
    except CantRender as error:
        pytest.fail(f"{source}: {error.problem.what}")


def test_the_sums_under_the_lines_are_asked_for_so_an_order_without_postage_is_not_rendered_to_be_planned():
    mail = compiled_part(made.message(), "email", "en", made.store())
    assert {"postage", "discount", "tax"} <= mail.order_fields
    assert mail.needed_order_fields == {"lines"}
