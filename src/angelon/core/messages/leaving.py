"""What an optional mail says about leaving: one sentence with a link to the reader's preferences, in their language."""

from __future__ import annotations

from angelon.core.messages.fixed_words import OwnWords, words_in

LINK = "https://preferences.invalid/"
"""Stands in a compiled text where each reader's own link comes; `.invalid` is nobody's (RFC 2606)."""


def as_html(locale: str, own: OwnWords | None = None) -> str:
    word = words_in(locale, own)
    return f'{word("leave_why")} <a href="{LINK}" style="color:inherit">{word("leave_link")}</a>'


def as_text(locale: str, own: OwnWords | None = None) -> str:
    word = words_in(locale, own)
    return f"{word('leave_why')} {word('leave_link')}: {LINK}"
