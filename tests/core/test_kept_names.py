"""Tables and saved steps under other names: every value stays as it was."""

import pytest

from angelon.core import usage
from angelon.core.problems import Invalid
from angelon.core.recipes.context import Context
from angelon.core.recipes.evaluate import evaluate
from angelon.core.recipes.kept import copied, new_name, renamed
from angelon.core.specs import Source
from angelon.core.specs.mapping import mapping_of, with_mapping
from angelon.core.specs.variable import Type
from tests import made

PAYLOAD = {"a": "HER-180", "codes": ["HER-180", "X"], "lines": [{"sku": "HER-180"}], "name": " jo "}


def source():
    return Source.model_validate(
        {
            **made.source().plain(),
            "recipes": {
                "short": {"path": "$.a", "steps": [{"lookup": {"table": "names"}}]},
                "all": {"path": "$.codes", "steps": [{"lookup": {"table": "names", "default": "other"}}, "join"]},
                "who": {"path": "$.name", "steps": [{"run": {"steps": "tidy"}}]},
                "other": {"path": "$.a", "steps": [{"lookup": {"table": "names_2"}}]},
            },
            "line": {"name": {"path": "$.sku", "steps": [{"lookup": {"table": "names"}}]}},
            "shared_steps": {"tidy": ["strip", {"run": {"steps": "loud"}}], "loud": ["upper"]},
            "lookups": {"names": {"HER-180": "the Heron"}, "names_2": {"HER-180": "another"}},
        }
    )


def values(of):
    context = Context(payload=PAYLOAD, root=PAYLOAD, lookups=of.lookups, shared=of.shared_steps)
    made_values = {name: evaluate(recipe, Type.TEXT, context).value for name, recipe in of.recipes.items()}
    line = Context(payload=PAYLOAD["lines"][0], root=PAYLOAD, lookups=of.lookups, shared=of.shared_steps)
    return made_values | {"line": evaluate(of.line["name"], Type.TEXT, line).value}


@pytest.mark.parametrize(
    ("part", "old", "new"),
    [("lookups", "names", "Schöne Namen"), ("shared_steps", "loud", "shout"), ("shared_steps", "tidy", "loud names")],
)
def test_renaming_changes_every_step_that_names_it_and_no_value(part, old, new):
    before = source()
    after = with_mapping(before, renamed(mapping_of(before), part, old, new))
    assert values(after) == values(before)
    assert values(before)["who"] == "JO"
    assert values(before)["line"] == "the Heron"
    asked = usage.of_table if part == "lookups" else usage.of_kept_steps
    assert asked(old, after) == []
    key = next(iter(set(getattr(after, part)) - set(getattr(before, part))))
    assert len(asked(key, after)) == len(asked(old, before)) > 0
    assert list(getattr(after, part)).index(key) == list(getattr(before, part)).index(old)


def test_a_name_may_have_sixty_letters():
    assert new_name(mapping_of(source()), "lookups", "n" * 60) == "n" * 60
    with pytest.raises(Invalid, match="The name has 61 letters, and a table may have 60"):
        new_name(mapping_of(source()), "lookups", "n" * 61)


def test_a_copy_has_the_next_free_name_and_nothing_uses_it():
    before = mapping_of(source())
    after = copied(before, "lookups", "names")
    assert list(after.lookups) == ["names", "names_2", "names_3"]
    assert after.lookups["names_3"] == before.lookups["names"]
    assert after.recipes == before.recipes
    assert list(copied(after, "shared_steps", "loud").shared_steps) == ["tidy", "loud", "loud_2"]


@pytest.mark.parametrize(
    ("name", "why"),
    [("", "starts with a letter"), ("1st", "starts with a letter"), ("Names 2", "already")],
)
def test_a_name_that_can_not_be_is_refused(name, why):
    with pytest.raises(Invalid, match=why):
        new_name(mapping_of(source()), "lookups", name)
    with pytest.raises(Invalid, match="no table “gone” any more"):
        renamed(mapping_of(source()), "lookups", "gone", "else")
