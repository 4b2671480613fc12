"""Words replaced in all texts of a message: only in what people read, never in a variable, condition or link."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Any

from jinja2 import TemplateSyntaxError

from angelon.core.messages.channels import CHANNELS
from angelon.core.specs.base import read_spec
from angelon.core.specs.message import Message
from angelon.core.templates import segments

_NOT_READ = frozenset(
    {"kind", "url", "src", "phone", "method", "path", "content_type", "category", "only_if", "samples"}
)
"""Fields of a text that hold no words for readers."""


@dataclass(frozen=True, slots=True)
class Found:
    """A place of a message where the words are: `at` as `email.en.blocks.2.text`, its text as it is and would be."""

    at: str
    channel: str
    locale: str
    was: str
    now: str


def found(message: Message, words: str, instead: str, any_case: bool = True) -> list[Found]:
    """Every place that has the words, in the order of the text."""
    made: list[Found] = []
    for channel in CHANNELS:
        for locale, text in message.variants(channel).items():

            def look(place: str, was: str, channel: str = channel, locale: str = locale) -> str:
                now = _replaced(was, words, instead, any_case)
                if now != was:
                    made.append(Found(place, channel, locale, was, now))
                return was

            _changed(text.model_dump(mode="json"), f"{channel}.{locale}", look)
    return made


def replaced(message: Message, words: str, instead: str, at: Collection[str], any_case: bool = True) -> Message:
    """The message with the words replaced in these places. Raises Invalid where a text becomes too long, say."""
    spec = message.model_dump(mode="json")

    def change(place: str, text: str) -> str:
        return _replaced(text, words, instead, any_case) if place in at else text

    for channel in CHANNELS:
        for locale in spec.get(channel) or {}:
            spec[channel][locale] = _changed(spec[channel][locale], f"{channel}.{locale}", change)
    return read_spec(Message, spec)


def _replaced(text: str, words: str, instead: str, any_case: bool) -> str:
    try:
        parts = segments(text)
    except TemplateSyntaxError:
        return text
    pattern = re.compile(re.escape(words), re.I if any_case else 0)

    def put(match: re.Match[str]) -> str:
        """The new words, with a capital where the old ones had one."""
        begins = match[0][:1].isupper() and not words[:1].isupper()
        return instead[:1].upper() + instead[1:] if begins else instead

    return "".join(part if jinja else pattern.sub(put, part) for jinja, part in parts)


def _changed(written: Any, place: str, change: Callable[[str, str], str]) -> Any:
    """What is written with `change` (given the place and its text) done to every text for readers."""
    if isinstance(written, str):
        return change(place, written)
    if isinstance(written, list):
        return [_changed(one, f"{place}.{number}", change) for number, one in enumerate(written)]
    if isinstance(written, dict):
        return {
            key: one if key in _NOT_READ else _changed(one, f"{place}.{key}", change) for key, one in written.items()
        }
    return written
