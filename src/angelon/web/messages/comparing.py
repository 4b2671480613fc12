"""Two versions of a message side by side: what changed, field by field, word by word."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from typing import Any

from markupsafe import Markup, escape

_NAMES = {"email": "Email", "sms": "SMS", "chat": "Chat", "blocks": "block", "only_if": "only if", "url": "address", "src": "picture", "alt": "words for the picture", "html": "page"}


@dataclass(frozen=True)
class Change:
    """One field that differs. `old` and `new` are HTML with what was taken out and put in marked."""

    where: str
    old: Markup
    new: Markup


def compare(old: dict[str, Any], new: dict[str, Any]) -> list[Change]:
    """Every field that differs between two specs of a message, in the order of the message."""
    before, after = dict(_fields((), old)), dict(_fields((), new))
    return [Change(_called(place), *marked(before.get(place, ""), after.get(place, ""))) for place in dict.fromkeys([*before, *after]) if before.get(place, "") != after.get(place, "")]


def _fields(place: tuple[str, ...], value: Any) -> list[tuple[tuple[str, ...], str]]:
    if isinstance(value, dict):
        return [pair for key, inner in value.items() for pair in _fields((*place, str(key)), inner)]
    if isinstance(value, list):
        return [pair for number, inner in enumerate(value, 1) for pair in _fields((*place, str(number)), inner)]
    text = "yes" if value is True else "no" if value is False else "" if value is None else str(value)
    return [(place, text)] if text else []


def _called(place: tuple[str, ...]) -> str:
    return " · ".join(_NAMES.get(part, part) for part in place)


def marked(old: str, new: str) -> tuple[Markup, Markup]:
    """Two texts as HTML, with what was taken out and put in marked."""
    a, b = re.findall(r"\{[{%].*?[}%]\}|\s+|\w+|[^\w\s]", old), re.findall(r"\{[{%].*?[}%]\}|\s+|\w+|[^\w\s]", new)
    left, right = Markup(), Markup()
    for kind, a1, a2, b1, b2 in difflib.SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        out, put = escape("".join(a[a1:a2])), escape("".join(b[b1:b2]))
        left += out if kind == "equal" else Markup("<del>{}</del>").format(out) if out else ""
        right += put if kind == "equal" else Markup("<ins>{}</ins>").format(put) if put else ""
    return left, right
