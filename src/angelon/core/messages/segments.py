"""How many segments a text takes as SMS, as handsets and networks count (3GPP TS 23.038 and TS 23.040).

A text whose every character is in the GSM 7-bit default alphabet or its extension table goes out in that; one character
outside both, and the whole text goes out as UCS-2.
"""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass, field
from typing import Literal

BASIC = frozenset(
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ "
    "!\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"
)
"""The default alphabet (TS 23.038, section 6.2.1), without the escape to the extension table."""

EXTENSION = frozenset("\f^{}\\[~]|€")
"""The extension table (section 6.2.1.1): each of these takes two septets, which can't be parted."""

ALIKE = {
    "‘": "'",
    "’": "'",
    "‚": ",",
    "“": '"',
    "”": '"',
    "„": '"',
    "«": '"',
    "»": '"',
    "–": "-",
    "—": "-",
    "…": "...",
    "\u00a0": " ",
    "\u202f": " ",
    "×": "x",
    "•": "-",
    "−": "-",
    "ç": "Ç",
    "\t": " ",
    "`": "'",
    "´": "'",
}
"""What to write instead of a character that would make the whole text UCS-2."""


@dataclass(frozen=True, slots=True)
class Count:
    """`units` are septets or UTF-16 code units in all; `left` how many more fit into the last segment."""

    encoding: Literal["GSM-7", "UCS-2"]
    segments: int
    units: int
    left: int
    forced_by: list[tuple[str, str]] = field(default_factory=list)
    """Each character outside the GSM alphabet, once, with what to write instead (empty where nothing is alike)."""


def instead(character: str) -> str:
    """A text of the GSM alphabet that reads like this character; empty where there is none."""
    if character in ALIKE:
        return ALIKE[character]
    plain = "".join(c for c in unicodedata.normalize("NFKD", character) if not unicodedata.combining(c))
    return plain if plain and plain != character and all(c in BASIC or c in EXTENSION for c in plain) else ""


def count(text: str) -> Count:
    """Counts a text. A character that takes two units is never parted: where one is left, it starts the next
    segment.
    """
    outside = [c for c in dict.fromkeys(text) if c not in BASIC and c not in EXTENSION]
    if outside:
        sizes = [2 if ord(c) > 0xFFFF else 1 for c in text]
        return _filled("UCS-2", sizes, 70, 67, [(c, instead(c)) for c in outside])
    return _filled("GSM-7", [2 if c in EXTENSION else 1 for c in text], 160, 153, [])


def _filled(
    encoding: Literal["GSM-7", "UCS-2"], sizes: list[int], alone: int, each: int, forced: list[tuple[str, str]]
) -> Count:
    units = sum(sizes)
    if units <= alone:
        return Count(encoding, 1 if units else 0, units, alone - units, forced)
    segments, room = 1, each
    for size in sizes:
        if size > room:
            segments, room = segments + 1, each
        room -= size
    return Count(encoding, segments, units, room, forced)
