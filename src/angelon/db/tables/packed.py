"""Bytes that are stored compressed (zstd, RFC 8878), and read as they were."""

from __future__ import annotations

import base64
import hashlib
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import orjson
import zstandard
from sqlalchemy import LargeBinary
from sqlalchemy.types import TypeDecorator

LEVEL = 3
LEAST, MOST = 400, 16_384
"""Bytes of a body that is worth it, and up to which its size as it is stored still says how much memory it takes."""
MOST_UNPACKED = 64 * 1024 * 1024
_MARK = b"\x00angelon-zstd\x01"
"""What a compressed body begins with; one that begins so itself is compressed, however long it is."""


_BY_PATTERN = b"\x00z\x01"
"""What a body begins with that is packed by a pattern, the id of which follows in eight bytes."""


@dataclass(frozen=True, slots=True)
class BodyPattern:
    """What bodies of one source and event have in common."""

    id: int
    """A part of its digest, with what it is of: two kinds that are built alike have one each."""
    source_id: int
    name: str
    data: bytes

    @classmethod
    def of(cls, source_id: int, name: str, data: bytes) -> BodyPattern:
        return cls(_short_digest(f"{source_id} {name}\0".encode() + data), source_id, name, data)


MOST_AT_HAND = 128
"""Patterns that a thread packs by; one takes some 90 KB of memory."""


class UnknownPattern(LookupError):
    """A body is packed by a pattern that is not at hand."""

    def __init__(self, id_: int) -> None:
        self.id = id_
        super().__init__(f"pattern {id_}")


class Stored(bytes):
    """A body as it is stored: made where nobody waits for it."""

    pattern: BodyPattern | None = None
    """One that is to be stored with it, for those that come later."""


def stored(body: bytes) -> Stored:
    """A body as it is stored."""
    own = body.startswith((_MARK, _BY_PATTERN))
    if not own and not LEAST <= len(body) <= MOST:
        return Stored(body)
    packed = _MARK + _quick().compress(body)
    return Stored(packed if own or len(packed) < len(body) else body)


def stored_by(body: bytes, pattern: BodyPattern) -> Stored:
    """A body as it is stored, by a pattern that is kept."""
    if not LEAST_JSON <= len(body) <= MOST or body.startswith((_MARK, _BY_PATTERN)):
        return stored(body)
    by: dict[int, zstandard.ZstdCompressor] = _own.__dict__.setdefault("by", {})
    made = by.get(pattern.id)
    if made is None:
        how = zstandard.ZstdCompressionParameters.from_level(
            LEVEL, source_size=1024, dict_size=len(pattern.data), format=zstandard.FORMAT_ZSTD1_MAGICLESS
        )
        dictionary = zstandard.ZstdCompressionDict(pattern.data, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
        dictionary.precompute_compress(compression_params=how)
        if len(by) >= MOST_AT_HAND:
            by.clear()
        made = by[pattern.id] = zstandard.ZstdCompressor(compression_params=how, dict_data=dictionary)
    packed = _BY_PATTERN + pattern.id.to_bytes(8, "big") + made.compress(body)
    return Stored(packed) if len(packed) < len(body) else stored(body)


_patterns: dict[int, zstandard.ZstdCompressionDict | None] = {}


def know_pattern(id_: int, data: bytes | None) -> None:
    """Has a pattern at hand from now on; None for one that is not there."""
    made = zstandard.ZstdCompressionDict(data, dict_type=zstandard.DICT_TYPE_RAWCONTENT) if data is not None else None
    _patterns[id_] = made


def _by_pattern(value: bytes) -> bytes:
    """A body again; as it is stored where its pattern is lost. Raises UnknownPattern."""
    start = len(_BY_PATTERN)
    id_ = int.from_bytes(value[start : start + 8], "big")
    if id_ not in _patterns:
        raise UnknownPattern(id_)
    dictionary = _patterns[id_]
    if dictionary is None:
        return value
    made = zstandard.ZstdDecompressor(dict_data=dictionary, format=zstandard.FORMAT_ZSTD1_MAGICLESS)
    return made.decompress(value[start + 8 :], max_output_size=MOST_UNPACKED)


_own = threading.local()


def _quick() -> zstandard.ZstdCompressor:
    """A compressor of this thread, at the level that costs a delivery least."""
    made: zstandard.ZstdCompressor | None = getattr(_own, "made", None)
    if made is None:
        made = _own.made = zstandard.ZstdCompressor(level=1)
    return made


class Body(TypeDecorator[bytes]):
    """The body of a request. Where it is empty, or longer than is worth it, it is stored as it is."""

    impl = LargeBinary
    cache_ok = True

    def process_bind_param(self, value: bytes | None, dialect: Any) -> bytes | None:
        return value if value is None or isinstance(value, Stored) else stored(value)

    def process_result_value(self, value: bytes | None, dialect: Any) -> bytes | None:
        if isinstance(value, str):  # SQLite gives back what somebody's own statement has put there
            return str(value).encode()
        if value is None or not value.startswith((_MARK, _BY_PATTERN)):
            return value
        try:
            return _by_pattern(value) if value.startswith(_BY_PATTERN) else _unpacked(value[len(_MARK) :])
        except zstandard.ZstdError:  # damaged on the disk: that one can't be read as an event, and keeps no other
            return value


# ---- JSON values, by a dictionary of keys and of our own words (`scripts/make_dictionary.py`), on SQLite

_JSON_MARK, _JSON_MARK_FIRST = b"\x02", b"\x01"
"""How a packed value begins, as no JSON does, and how one did until December: as a whole frame that names its
dictionary. A dictionary never changes; another has another mark.
"""
_JSON_BYTES = Path(__file__).with_name("json-1.dict").read_bytes()
_JSON_DICTIONARY = zstandard.ZstdCompressionDict(_JSON_BYTES)
_JSON_HOW = zstandard.ZstdCompressionParameters.from_level(
    5,  # a sixth less than at 3, for as many microseconds more
    source_size=LEAST,
    dict_size=len(_JSON_BYTES),
    format=zstandard.FORMAT_ZSTD1_MAGICLESS,
    write_dict_id=False,
)
_JSON_DICTIONARY.precompute_compress(compression_params=_JSON_HOW)
LEAST_JSON = 30
"""Bytes of a value that is worth it."""


def packed_json(text: str) -> str | bytes:
    """A JSON value as it is stored: as it is where it is short, or would be no shorter."""
    data = text.encode()
    if len(data) < LEAST_JSON:
        return text
    made: zstandard.ZstdCompressor | None = getattr(_own, "json", None)
    if made is None:
        made = _own.json = zstandard.ZstdCompressor(compression_params=_JSON_HOW, dict_data=_JSON_DICTIONARY)
    packed = _JSON_MARK + made.compress(data)
    return packed if len(packed) < len(data) else text


def json_of(stored: str | bytes) -> str | bytes:
    """A JSON value again."""
    if isinstance(stored, str) or not stored.startswith((_JSON_MARK, _JSON_MARK_FIRST)):
        return stored
    made: zstandard.ZstdDecompressor | None
    if stored.startswith(_JSON_MARK_FIRST):
        made = zstandard.ZstdDecompressor(dict_data=_JSON_DICTIONARY)
    else:
        made = getattr(_own, "of_json", None)
        if made is None:
            bare = zstandard.FORMAT_ZSTD1_MAGICLESS
            made = _own.of_json = zstandard.ZstdDecompressor(dict_data=_JSON_DICTIONARY, format=bare)
    return made.decompress(stored[1:], max_output_size=MOST_UNPACKED)


_PACKED = "packed"


def with_packed_traces(decisions: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Decisions as they are stored: what was decided stands open, for it is counted by the database; why is packed, in
    an element of its own behind. As they are where that would be no shorter.
    """
    traces = [one.get("trace") for one in decisions]
    text = orjson.dumps(traces).decode() if any(traces) else ""
    packed = packed_json(text)
    if isinstance(packed, str) or len(packed) * 4 // 3 + 20 > len(text):
        return list(decisions)
    open_ = [{name: value for name, value in one.items() if name != "trace"} for one in decisions]
    return [*open_, {_PACKED: base64.b64encode(packed).decode()}]


def with_traces(stored: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Decisions again."""
    if not stored or not isinstance(stored[-1], dict) or _PACKED not in stored[-1]:
        return stored
    *open_, last = stored
    text = last[_PACKED]
    decode = base64.b85decode if text.startswith("0") else base64.b64decode  # it was base 85 at first
    traces = orjson.loads(json_of(decode(text)))
    return [one | ({"trace": trace} if trace is not None else {}) for one, trace in zip(open_, traces, strict=True)]


# ---- what mails said, by the pattern that their pages were filled from


@lru_cache(maxsize=256)
def pattern_id(pattern: str) -> int:
    """By what a pattern is known."""
    return _short_digest(pattern.encode())


def _short_digest(data: bytes) -> int:
    """63 bits of a SHA-256: what a column of whole numbers holds."""
    return int.from_bytes(hashlib.sha256(data).digest()[:8], "big") >> 1


def mail_by(pattern: str, page: str, text: str, about: dict[str, Any]) -> bytes:
    """What a mail said and JSON about it, compressed by what they have in common with the page's pattern."""
    made = zstandard.ZstdCompressor(level=LEVEL, dict_data=_dictionary(pattern), write_checksum=True)
    return made.compress(b"\0".join((orjson.dumps(about), text.replace("\0", "").encode(), page.encode())))


def mail_of(packed: bytes, pattern: str) -> tuple[str, str, dict[str, Any]]:
    """Page, text and what there is about them again; of before December the page alone. Raises ValueError where they
    were not packed by this pattern.
    """
    dictionary = zstandard.ZstdCompressionDict(pattern.encode(), dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    try:
        data = _unpacked(packed, dictionary)
    except zstandard.ZstdError as error:
        raise ValueError(f"what a mail said can't be read: {error}") from None
    if not data.startswith(b"{"):
        return data.decode(), "", {}
    about, text, page = data.split(b"\0", 2)
    return page.decode(), text.decode(), orjson.loads(about)


@lru_cache(maxsize=256)
def _dictionary(pattern: str) -> zstandard.ZstdCompressionDict:
    made = zstandard.ZstdCompressionDict(pattern.encode(), dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    made.precompute_compress(level=LEVEL)
    return made


def _unpacked(data: bytes, dictionary: zstandard.ZstdCompressionDict | None = None) -> bytes:
    return zstandard.ZstdDecompressor(dict_data=dictionary).decompress(data, max_output_size=MOST_UNPACKED)
