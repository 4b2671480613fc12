"""A trace is stored without what most lines say, and read as it was."""

import json

import orjson
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy.dialects import postgresql, sqlite

from angelon.core.planning.trace_lines import TraceLine, whole
from angelon.db.tables.columns import Decisions, PackedTraces

TEXTS = st.sampled_from(["", "yes", "no", "at once", "Webshop"])
LINES = st.builds(TraceLine, TEXTS, st.sampled_from(["yes", "no", "waits", "problem", "open"]), TEXTS, TEXTS)


def through_the_database(value):
    kind = PackedTraces if value and "part" in value[0] else Decisions
    (read,) = {
        orjson.dumps(kind().process_result_value(kind().process_bind_param(value, one.dialect()), one.dialect()))
        for one in (sqlite, postgresql)
    }
    return orjson.loads(read)


@given(st.lists(LINES, max_size=6))
def test_lines_and_decisions_are_read_as_they_were(lines):
    plain = [line._asdict() for line in lines]
    assert through_the_database([line.as_dict() for line in lines]) == plain
    decisions = [{"route": "a", "outcome": "no", "trace": [line.as_dict() for line in lines]}, {"route": "b"}]
    assert through_the_database(decisions) == [{"route": "a", "outcome": "no", "trace": plain}, {"route": "b"}]
    assert through_the_database(plain) == plain, "those that were stored whole"


def test_what_is_no_trace_is_left_as_it_is():
    for other in (None, {}, {"part": 1}, [1, "two", None], "text", [{"trace": "gone"}]):
        assert whole(json.loads(json.dumps(other))) == other


def test_what_is_left_out_is_what_most_lines_say():
    assert TraceLine("when", "yes", "picked up").as_dict() == {"part": "when", "saw": "picked up"}
    assert TraceLine("from", "no", "", "Another source.").as_dict() == {
        "part": "from", "verdict": "no", "why": "Another source."}  # fmt: skip
