"""JSON values as SQLite keeps them: packed by a dictionary that never changes, and read as they were."""

import hashlib
import json
from pathlib import Path

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as some
from sqlalchemy.dialects import postgresql, sqlite

from angelon.db.tables import packed
from angelon.db.tables.columns import PackedJson, PackedTraces

ANY = some.recursive(
    some.none() | some.booleans() | some.integers(-(2**53), 2**53) | some.text(some.characters(codec="utf-8")),
    lambda inner: some.lists(inner, max_size=5) | some.dictionaries(some.text("abcé$", max_size=8), inner, max_size=5),
    max_leaves=30,
)
SQLITE, POSTGRESQL = sqlite.dialect(), postgresql.dialect()


@given(ANY)
def test_a_value_is_read_as_it_was_stored(value):
    for dialect in (SQLITE, POSTGRESQL):
        stored = PackedJson().process_bind_param(value, dialect)
        assert PackedJson().process_result_value(stored, dialect) == value
    assert stored is None or isinstance(stored, str), "PostgreSQL keeps text"


def test_long_values_take_a_third_and_short_ones_stay_as_they_are():
    trace = [{"part": part, "saw": "at once"} for part in ("when", "from", "send", "to", "by", "timing", "once")]
    stored = PackedTraces().process_bind_param(trace, SQLITE)
    assert isinstance(stored, bytes)
    assert len(stored) < len(json.dumps(trace)) / 3
    assert PackedJson().process_bind_param({"a": 1}, SQLITE) == '{"a":1}'


def test_what_was_stored_as_text_before_is_read():
    assert PackedJson().process_result_value('{"a":[1,null]}', SQLITE) == {"a": [1, None]}
    assert PackedJson().process_result_value(b'{"a":1}', SQLITE) == {"a": 1}


def test_a_damaged_value_is_an_error_and_not_another_value():
    stored = packed.packed_json(json.dumps({"key": "value " * 50}))
    with pytest.raises(Exception, match=r"(?i)error|corrupt|destination|data"):
        packed.json_of(stored[:20] + b"\x00" * 5)


def test_the_dictionary_never_changes():
    """What is stored can't be read by another one: a new one has a mark of its own."""
    data = Path(packed.__file__).with_name("json-1.dict").read_bytes()
    assert hashlib.sha256(data).hexdigest() == DIGEST


DIGEST = "3f82021da929e61c07600e2a750abe2748c648b60fe3a0536d0f508d2b333601"


def test_what_was_packed_as_a_whole_frame_is_read_as_well():
    data = Path(packed.__file__).with_name("json-1.dict").read_bytes()
    kept = zstandard.ZstdCompressor(dict_data=zstandard.ZstdCompressionDict(data)).compress(b'{"a": 1}')
    assert packed.json_of(b"\x01" + kept) == b'{"a": 1}'
