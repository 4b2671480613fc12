"""Bodies and pages are stored small, and read as they were: whatever they are."""

import base64

import orjson
import pytest
import zstandard
from hypothesis import example, given
from hypothesis import strategies as st

from angelon.db.tables import packed
from tests import made

BODY = packed.Body()
BODIES = st.binary(max_size=400) | st.builds(
    lambda part, times: part * times, st.binary(max_size=60), st.integers(0, 400)
)


@given(BODIES)
@example(b"")
@example(packed._MARK)
@example(packed._MARK + b"x" * 30_000)
@example(zstandard.ZstdCompressor().compress(b"x" * 1000))
def test_any_body_is_read_as_it_was(body):
    kept = BODY.process_bind_param(body, None)
    assert BODY.process_result_value(kept, None) == body
    assert BODY.process_bind_param(packed.stored(body), None) == kept, "packed before is not packed again"
    assert (kept == b"") == (body == b"")
    assert len(kept) <= max(len(body), len(packed._MARK) + 40) or body.startswith(packed._MARK)


def test_what_is_long_is_as_long_as_it_is_read(bench):
    """How much a batch reads at once is reckoned by what is stored: nothing small becomes large."""
    bomb = b'{"id": "' + b"x" * 1_000_000 + b'"}'
    assert len(packed.stored(bomb)) == len(bomb)
    assert len(packed.stored(made.body())) < 0.8 * len(made.body())
    bench.deliver(made.body(), store_delivery="d-1")
    ((length,),) = bench.rows("SELECT length(body) FROM delivery")
    assert length == len(packed.stored(made.body()))


TEXTS = st.text(max_size=300)


@given(TEXTS, TEXTS, TEXTS, st.dictionaries(TEXTS, TEXTS, max_size=3))
def test_any_mail_is_read_by_the_pattern_that_it_was_packed_by(pattern, page, text, about):
    kept = text.replace("\0", "")  # no database keeps one in a text
    assert packed.mail_of(packed.mail_by(pattern, page, text, about), pattern) == (page, kept, about)


def test_a_page_that_was_packed_alone_is_read_as_well():
    pattern = zstandard.ZstdCompressionDict(b"<p>Hello</p>", dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    kept = zstandard.ZstdCompressor(dict_data=pattern).compress(b"<p>Hello Jo</p>")
    assert packed.mail_of(kept, "<p>Hello</p>") == ("<p>Hello Jo</p>", "", {})


def test_a_page_by_another_pattern_is_refused_and_never_another_page():
    pattern = "<p>Hello {{ name }}, your order {{ number }} has left the workshop today.</p>" * 5
    page = pattern.replace("{{ name }}", "Jo").replace("{{ number }}", "BK-7")
    kept = packed.mail_by(pattern, page, "Hello Jo", {})
    assert len(kept) < len(page) / 4
    for wrong in ("", pattern.upper(), pattern.replace("left", "LEFT")):
        with pytest.raises(ValueError, match="can't be read"):
            packed.mail_of(kept, wrong)


def test_patterns_are_known_by_what_they_say():
    assert packed.pattern_id("a") == packed.pattern_id("a") != packed.pattern_id("b")
    assert 0 <= packed.pattern_id("any") < 2**63


def test_a_body_that_is_damaged_on_the_disk_is_given_as_it_is_and_keeps_no_other_from_being_read():
    damaged = packed.stored(b'{"id": 7}' * 100)[:-20]
    assert BODY.process_result_value(bytes(damaged), None) == damaged


_LINES = st.lists(st.dictionaries(st.sampled_from(["part", "saw", "why"]), TEXTS, min_size=1), max_size=4)
_DECISIONS = st.lists(
    st.fixed_dictionaries({"route": st.text("abc", min_size=1), "outcome": st.sampled_from(["send", "no"])})
    | st.fixed_dictionaries({"route": st.text("abc"), "outcome": st.just("no"), "trace": _LINES, "fault": TEXTS}),
    max_size=5,
)


@given(_DECISIONS)
def test_decisions_are_read_as_they_were_and_what_was_decided_stands_open(decisions):
    stored = packed.with_packed_traces(decisions)
    told = [(one["route"], one["outcome"]) for one in stored if "outcome" in one]
    assert told == [(one["route"], one["outcome"]) for one in decisions]
    assert packed.with_traces(orjson.loads(orjson.dumps(stored))) == decisions
    assert len(orjson.dumps(stored)) <= len(orjson.dumps(decisions))


def test_why_routes_do_not_send_takes_less_than_half_of_its_room():
    line = {"part": "from", "verdict": "no", "saw": "Fairground"}
    why = "The event is from Fairground, and the route listens to Webshop."
    decisions = [
        {
            "route": f"a-route-{number}",
            "outcome": "no",
            "trace": [{"part": "when", "saw": "created"}, line | {"why": why}],
        }
        for number in range(6)
    ]
    assert len(orjson.dumps(packed.with_packed_traces(decisions))) * 2 < len(orjson.dumps(decisions))


def test_traces_that_were_packed_in_base_85_are_read() -> None:
    decisions = [
        {"route": f"r{n}", "outcome": "no", "trace": [{"part": "when", "why": "It is off. " * 9}]} for n in range(9)
    ]
    *open_, last = packed.with_packed_traces(decisions)
    before = base64.b85encode(base64.b64decode(last["packed"])).decode()
    assert packed.with_traces([*open_, {"packed": before}]) == decisions
