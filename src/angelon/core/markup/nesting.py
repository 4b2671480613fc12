"""How deep markup nests, counted before a parser sees it: native parsers go down the levels on the machine's stack, and
end the process.
"""

from __future__ import annotations

import re

from angelon.core.problems import Problem

DEEPEST = 150
"""Levels that a page or block may nest."""
MOST_MATCHES = 3_000_000
"""Elements times style rules that are matched against each other."""

_TAG = re.compile(r"<!--.*?(?:-->|\Z)|<(/?)([A-Za-z][^\s/>]*)((?:[^>\"']|\"[^\"]*\"|'[^']*')*)>", re.S)
_EMPTY = frozenset(
    {"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr"}
)
_CLOSES_ITSELF = frozenset(
    {"p", "li", "dt", "dd", "option", "tr", "td", "th", "tbody", "thead", "tfoot", "colgroup", "html", "head", "body"}
)
"""HTML elements that end where the next of their kind begins, or stand once: many real pages never close them."""


def depth(markup: str, html: bool) -> int:
    """How deep a page nests, never less than a parser would find; `html` has HTML's rules for tags that need no end."""
    deepest = 0
    unmatched = 0
    open_tags: list[str] = []
    for found in _TAG.finditer(markup):
        closing, name, rest = found[1], (found[2] or "").lower(), found[3] or ""
        if not name or (html and (name in _EMPTY or name in _CLOSES_ITSELF)):
            continue
        if closing:
            if open_tags and open_tags[-1] == name:
                open_tags.pop()
            elif name in open_tags:  # what stood open in between counts on, since a parser may leave it open
                while open_tags.pop() != name:
                    unmatched += 1
        elif not (rest.endswith("/") and not html):
            open_tags.append(name)
            deepest = max(deepest, len(open_tags) + unmatched)
    return deepest


def _brackets(text: str) -> int:
    deepest = here = 0
    for found in re.finditer(r"[\[({]|[\])}]", text):
        here = here + 1 if found[0] in "[({" else max(0, here - 1)
        deepest = max(deepest, here)
    return deepest


def problems_of_markup(markup: str, html: bool) -> list[Problem]:
    """What makes a page too much for the parsers that it has to go through; empty where nothing does."""
    found = depth(markup, html)
    if found > DEEPEST:
        return [
            Problem(
                "",
                f"The page nests {found:,} levels deep, and {DEEPEST} are allowed.",
                "Take out elements that only wrap others.",
            )
        ]
    styles = "".join(re.findall(r"<(?:mj-)?style[^>]*>(.*?)</(?:mj-)?style", markup, re.S | re.I))
    if _brackets(styles) > DEEPEST:
        return [Problem("", "The styles nest too many brackets.", "Write the rules one after the other.")]
    rules = styles.count("{") + styles.count(",")
    if rules * max(1, markup.count("<")) > MOST_MATCHES:
        return [
            Problem(
                "",
                f"The page has too many style rules ({rules:,}) for its many elements.",
                "Take out the rules that it does not use.",
            )
        ]
    return []
