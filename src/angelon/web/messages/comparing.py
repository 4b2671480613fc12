"""Two versions of a message side by side: what changed, field by field, word by word."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from markupsafe import Markup, escape

_NAMES = {
    "email": "Email",
    "sms": "SMS",
    "chat": "Chat",
    "call": "HTTP call",
    "blocks": "block",
    "only_if": "only if",
    "url": "address",
    "src": "picture",
    "alt": "words for the picture",
    "html": "page",
}


@dataclass(frozen=True)
class Change:
    """One field that differs. `old` and `new` are HTML with what was taken out and put in marked."""

    where: str
    old: Markup
    new: Markup


def compare(old: dict[str, Any], new: dict[str, Any]) -> list[Change]:
    """Every field that differs between two specs of a message, in the order of the message."""
    before, after = dict(_fields((), old)), dict(_fields((), new))
    return [
        Change(_called(place), *marked(before.get(place, ""), after.get(place, "")))
        for place in dict.fromkeys([*before, *after])
        if before.get(place, "") != after.get(place, "")
    ]


def _fields(place: tuple[str, ...], value: Any) -> list[tuple[tuple[str, ...], str]]:
    if isinstance(value, dict):
        return [pair for key, inner in value.items() for pair in _fields((*place, str(key)), inner)]
    if isinstance(value, list):
        return [pair for number, inner in enumerate(value, 1) for pair in _fields((*place, str(number)), inner)]
    text = "yes" if value is True else "no" if value is False else "" if value is None else str(value)
    return [(place, text)] if text else []


def _called(place: tuple[str, ...]) -> str:
    return " · ".join(_NAMES.get(part, part) for part in place)


MOST_PAIRS = 1_000_000
"""Pairs of words that are held against each other; what is larger is compared by lines first."""
MOST_LINES = 4_000


def marked(old: str, new: str) -> tuple[Markup, Markup]:
    """Two texts as HTML, with what was taken out and put in marked: by words, of long texts by lines and then
    by words.
    """
    a, b = _words(old), _words(new)
    if len(a) * len(b) <= MOST_PAIRS:
        return _marked(a, b, lambda out, put: (_del(out), _ins(put)))
    lines, new_lines = _lines(old), _lines(new)
    start, end = _alike(lines, new_lines)
    if max(len(lines), len(new_lines)) - start - end > MOST_LINES:
        return _del([old]), _ins([new])

    def closer(out: list[str], put: list[str]) -> tuple[Markup, Markup]:
        words, new_words = _words("".join(out)), _words("".join(put))
        if not words or not new_words or len(words) * len(new_words) > MOST_PAIRS // 10:
            return _del(out), _ins(put)
        return _marked(words, new_words, lambda a, b: (_del(a), _ins(b)))

    return _marked(lines, new_lines, closer)


def _marked(
    a: list[str], b: list[str], changed: Callable[[list[str], list[str]], tuple[Markup, Markup]]
) -> tuple[Markup, Markup]:
    start, end = _alike(a, b)
    before, after = escape("".join(a[:start])), escape("".join(a[len(a) - end :]))
    a, b = a[start : len(a) - end], b[start : len(b) - end]
    left, right = before, before
    for kind, a1, a2, b1, b2 in difflib.SequenceMatcher(None, a, b).get_opcodes():
        if kind == "equal":
            out = put = escape("".join(a[a1:a2]))
        else:
            out, put = changed(a[a1:a2], b[b1:b2])
        left += out
        right += put
    return left + after, right + after


def _alike(a: list[str], b: list[str]) -> tuple[int, int]:
    """How many pieces stay at the beginning and at the end: they need no comparing."""
    start = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    rest = min(len(a), len(b)) - start
    return start, next((n for n in range(rest) if a[-1 - n] != b[-1 - n]), rest)


def _words(text: str) -> list[str]:
    return re.findall(r"\{[{%].*?[}%]\}|\s+|\w+|[^\w\s]", text)


def _lines(text: str) -> list[str]:
    """Lines, and tags where a page has no lines."""
    return re.findall(r"[^\n>]*[\n>]|[^\n>]+$", text)


def _del(out: list[str]) -> Markup:
    return Markup("<del>{}</del>").format("".join(out)) if any(out) else Markup()


def _ins(put: list[str]) -> Markup:
    return Markup("<ins>{}</ins>").format("".join(put)) if any(put) else Markup()
