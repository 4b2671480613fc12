"""A step's number as it is typed: what is none stays a text, which the step refuses in words."""

import pytest

from angelon.core.recipes.edits import edited
from angelon.core.specs.mapping import Mapping
from angelon.core.specs.variable import Recipe


@pytest.mark.parametrize(
    ("typed", "kept"),
    [("5", 5), ("-5", -5), ("2.5", 2.5), ("--5", "--5"), ("1.2.3", "1.2.3"), ("²", "²"), ("9" * 50, "9" * 50)],
)
def test_a_number_is_a_number_and_nothing_else_ends_in_an_error(typed, kept):
    mapping = Mapping(recipes={"total": Recipe(path="$.total")})
    after = edited(mapping, "recipes.total", "add_step", {"do": "round", "p.digits": typed})
    assert after.recipes["total"].steps[0].given == {"digits": kept}
