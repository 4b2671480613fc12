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


WHY = "https://why.invalid/"
"""Stands in a compiled text where the link to the page comes that says why a mail was sent."""
_WHY_LINK = {
    "en": "Why you got this",
    "de": "Warum du das bekommst",
    "fr": "Pourquoi ce message",
    "es": "Por qué recibes esto",
    "it": "Perché ricevi questo",
    "nl": "Waarom je dit krijgt",
}


def why_html(locale: str) -> str:
    return f'<a href="{WHY}" style="color:inherit">{_WHY_LINK.get(locale.partition("-")[0], _WHY_LINK["en"])}</a>'


def why_text(locale: str) -> str:
    return f"{_WHY_LINK.get(locale.partition('-')[0], _WHY_LINK['en'])}: {WHY}"
