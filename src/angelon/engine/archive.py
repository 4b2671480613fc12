"""The archive: a folder or an object store for what sends said and nobody looks at every day.

A pack is a file of many texts, each compressed and sealed by a key that is used once (AES-128 in Galois/Counter Mode,
NIST SP 800-38D); the database keeps the keys.
"""

from __future__ import annotations

import base64
import os
from collections.abc import Sequence
from typing import Any

import orjson
import structlog
import zstandard
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from angelon.core.problems import Invalid
from angelon.db.log.archive import NotThere, Place
from angelon.db.tables import ContentRow
from angelon.engine.exports.targets import Target, target_of

log = structlog.get_logger()

_ONCE = bytes(12)
"""The nonce: no key seals two texts."""
_PARTS = ("html", "packed", "pattern_id", "text", "about")


class Archive:
    """Where `said` names it: a folder, or `s3://bucket/prefix`. For several threads."""

    def __init__(self, said: str) -> None:
        """Where `said` is empty there is none (any more), and nothing can be read."""
        self.said = said
        self._target: Target | None = None

    @property
    def target(self) -> Target:
        """Raises Invalid."""
        if self._target is None:
            self._target = target_of(self.said)
        return self._target

    def write(self, name: str, contents: Sequence[ContentRow]) -> list[Place]:
        """Writes a pack; gives where each text is in it. Raises OSError, Invalid."""
        places, data, start = [], [], 0
        for row in contents:
            key = AESGCM.generate_key(bit_length=128)
            sealed = AESGCM(key).encrypt(_ONCE, _packed(row), row.send_id.encode())
            places.append(Place(row.send_id, name, start, len(sealed), key))
            data.append(sealed)
            start += len(sealed)
        with self.target.writing(name) as file:
            file.write(b"".join(data))
        return places

    def read(self, place: Place) -> ContentRow:
        """A text as it was in the database. Raises NotThere."""
        if not self.said:
            raise NotThere("It was moved to the archive, and ANGELON_ARCHIVE does not say where that is.")
        try:
            sealed = self.target.reading(place.name, place.start, place.size)
            unpacked = _unpacked(AESGCM(place.key).decrypt(_ONCE, sealed, place.send_id.encode()))
        except FileNotFoundError:
            raise NotThere(f"The archive has no file {place.name}.") from None
        except OSError as error:
            raise NotThere(f"The archive can’t be read: {str(error)[:200]}") from None
        except Invalid as error:
            raise NotThere(str(error.problems[0])) from None
        except (InvalidTag, ValueError, zstandard.ZstdError):
            log.error("a text of the archive can't be read", send=place.send_id, pack=place.name)
            raise NotThere(f"The archive’s file {place.name} is damaged.") from None
        return ContentRow(send_id=place.send_id, **unpacked)


def new_name(store: str, first: str, month: str) -> str:
    """A pack's name: its store, its month (`2026-11`), its first send, and something that no other has."""
    return f"{store}/{month}/{first}-{os.urandom(4).hex()}.pack"


def _packed(row: ContentRow) -> bytes:
    parts: dict[str, Any] = {name: getattr(row, name) for name in _PARTS}
    parts["packed"] = base64.b64encode(row.packed).decode() if row.packed is not None else None
    return zstandard.ZstdCompressor(level=9).compress(orjson.dumps(parts))


def _unpacked(data: bytes) -> dict[str, Any]:
    parts: dict[str, Any] = orjson.loads(zstandard.ZstdDecompressor().decompress(data))
    parts["packed"] = base64.b64decode(parts["packed"]) if parts["packed"] is not None else None
    return parts
