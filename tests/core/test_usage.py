"""Where a thing of the set-up is used, wherever it stands."""

import pytest

from angelon.core import usage
from angelon.core.specs import Message, Route, Source, Store
from tests import made


def around(**changes):
    message = made.message().model_dump(mode="json") | {
        "key": "note",
        "name": "Note",
        "email": {
            "de": {"subject": "{{ gift_note or '' }}", "blocks": [{"kind": "text", "text": "{{ order.total }}"}]}
        },
        "sms": {"en": {"text": "Hi {{ nick }}"}},
        "chat": {"en": {"body": "x {% if vip %}!{% endif %}"}},
        "attachments": [{"kind": "calendar", "day": "expected_on"}],
    }
    route = made.route(
        only_if={"of": [{"of": "carrier", "op": "is", "value": "gift_note"}, {"of": "order.number", "op": "present"}]},
        timing={"anchor": "expected", "variable": "collect_by", "amount": 1, "unit": "days"},
        asks=[{"variable": "problem", "asks": "What?"}],
    )
    source = made.source(
        recipes={
            "full": {"path": "$.a", "steps": [{"template": {"text": "{{ value }} {{ last_name }}"}}]},
            "short": {"path": "$.b", "steps": [{"lookup": {"table": "names"}}, {"run": {"steps": "tidy"}}]},
        },
        lookups={"names": {"a": "b"}},
        shared_steps={"tidy": [{"template": {"text": "{{ suffix }}"}}]},
    )
    store = made.store().model_dump(mode="json") | {
        "consent": {"sms": "agrees"},
        "segments": [{"key": "regulars", "name": "Regulars", "holds": {"of": [{"of": "points", "op": "present"}]}}],
    }
    drafts = (Message.model_validate(message),), (Route.model_validate(route.model_dump()),)
    return usage.Specs(*drafts, (source,), Store.model_validate(store))


@pytest.mark.parametrize(
    ("name", "where"),
    [
        ("gift_note", ["Note (email in de)"]),
        ("order.total", ["Note (email in de)"]),
        ("nick", ["Note (SMS in en)"]),
        ("vip", ["Note (chat in en)"]),
        ("expected_on", ["Note (its attachments)"]),
        ("carrier", ["Received (its conditions)"]),
        ("order.number", ["Received (its conditions)"]),
        ("collect_by", ["Received (its timing)"]),
        ("problem", ["Received (its questions)"]),
        ("last_name", ["Shop (the mapping of full)"]),
        ("suffix", ["Shop (the saved steps tidy)"]),
        ("points", ["Regulars (its conditions)"]),
        ("agrees", ["Suppressions (consent for SMS)"]),
        ("total", []),
        ("full", []),
        ("nobody", []),
    ],
)
def test_a_name_is_found_wherever_it_is_used_and_nowhere_else(name, where):
    assert [str(use) for use in usage.of_name(name, around())] == where


def test_tables_and_kept_steps_are_found_in_the_recipes_that_use_them():
    (source,) = around().sources
    assert usage.listed(usage.of_table("names", source)) == "Shop (the mapping of short)"
    assert usage.listed(usage.of_kept_steps("tidy", source)) == "Shop (the mapping of short)"
    assert usage.of_table("others", source) == []
    assert isinstance(source, Source)
