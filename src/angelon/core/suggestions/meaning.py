"""What a key's words mean, in whatever language and spelling: `grandTotal`, `MONTANT_TTC` and `Bestellnr` alike."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache
from pathlib import Path

import yaml
from rapidfuzz import fuzz, process

WORDS = Path(__file__).with_name("words.yaml")
_GLUE = frozenset({"", "s", "n", "en", "e", "de", "di", "du", "des", "van", "der", "la", "le"})
"""What stands between words that run together."""
CLOSE = 86
"""From how alike (of 100) an unknown word is taken for a known one."""


def words(name: str) -> tuple[str, ...]:
    """A key's words in lower case: `grandTotal`, `grand_total` and `Grand-Total` alike."""
    parted = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name)
    parted = re.sub(r"([A-Z]+)([A-Z][a-z])", r"\1 \2", parted)
    parted = re.sub(r"([a-z])\d+$", r"\1", parted)
    return tuple(w for w in re.split(r"[^\w°]+|_", parted.lower()) if w)


def plain(text: str) -> str:
    """Lower case without accents: `número` and `numero` alike."""
    low = text.lower().replace("ß", "ss").replace("ø", "o").replace("æ", "ae").replace("ł", "l").replace("đ", "d")
    return "".join(c for c in unicodedata.normalize("NFKD", low) if not unicodedata.combining(c))


@lru_cache(maxsize=1)
def _known() -> dict[str, frozenset[str]]:
    """Every known word with what it means."""
    found: dict[str, set[str]] = {}
    for concept, spelt in yaml.safe_load(WORDS.read_text()).items():
        for word in spelt:
            found.setdefault(plain(str(word)).replace("_", ""), set()).add(concept.partition("_")[0])
    return {word: frozenset(concepts) for word, concepts in found.items()}


@lru_cache(maxsize=20_000)
def meaning(key: str) -> frozenset[str]:
    """What the words of a key mean; empty where none is known."""
    found: set[str] = set()
    whole = plain(key).replace("_", "").replace("-", "").replace(" ", "")
    if whole in _known():
        return _known()[whole]
    for word in words(key):
        found |= _of_word(plain(word))
    return frozenset(found)


@lru_cache(maxsize=20_000)
def _of_word(word: str) -> frozenset[str]:
    known = _known()
    if word in known:
        return known[word]
    if len(word) > 3 and word.rstrip("s") in known:
        return known[word.rstrip("s")]
    if len(word) > 4 and (parts := _parted(word)):
        return frozenset().union(*(known[part] for part in parts))
    if len(word) > 4 and (close := process.extractOne(word, _long(), scorer=fuzz.ratio, score_cutoff=CLOSE)):
        return known[close[0]]
    return frozenset()


@lru_cache(maxsize=1)
def _long() -> tuple[str, ...]:
    return tuple(word for word in _known() if len(word) > 4)


def _parted(word: str) -> tuple[str, ...] | None:
    """The known words that run together in a word, the fewest that do; None where they don't fill it."""
    known = _known()
    best: dict[int, tuple[str, ...]] = {0: ()}
    for end in range(2, len(word) + 1):
        for start in range(max(0, end - 16), end - 1):
            piece = word[start:end]
            if piece not in known or (len(piece) == 2 and piece not in ("no", "nr", "id", "dt", "nm")):
                continue
            for glued in range(start, max(-1, start - 4), -1):
                if glued in best and word[glued:start] in _GLUE:
                    made = (*best[glued], piece)
                    if end not in best or len(made) < len(best[end]):
                        best[end] = made
    return best.get(len(word)) or None
