"""Starting points: messages for the life of an order, to change rather than to begin from nothing."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import yaml

from angelon.core.specs import Message
from angelon.core.specs.base import read_spec

_WORDS = {
    "address": {"en": "It goes to", "de": "Sie geht an", "fr": "Elle va à"},
}
_OF_ORDER = {"customer_name": "order.name", "order_number": "order.number", "total": "order.total"}
"""What stands in an order's own fields of what the texts use."""
_ONLY_IF = {"when": "expected_on", "keep": "collect_by", "why": "problem"}
"""Texts that appear only where their variable has a value."""


@dataclass(frozen=True)
class Starter:
    key: str
    name: str
    about: str
    event: str
    blocks: tuple[str, ...]
    texts: dict[str, dict[str, str]]
    samples: dict[str, dict[str, str]]
    known: dict[str, dict[str, Any]]
    asks: bool = False
    """Whether it asks a question: the one that `question_starter` gives."""

    def for_shop(self, mapped: Collection[str]) -> Starter:
        """The same with the order's own fields in place of variables that no source maps: nobody maps a value twice."""
        instead = {variable: field for variable, field in _OF_ORDER.items() if variable not in mapped}
        if not instead:
            return self
        named = re.compile(rf"(\{{\{{\s*)({'|'.join(instead)})\b")

        def put(text: str) -> str:
            return named.sub(lambda match: match[1] + instead[match[2]], text)

        return replace(
            self,
            texts={tag: {part: put(text) for part, text in texts.items()} for tag, texts in self.texts.items()},
            samples={
                tag: {instead.get(name, name): sample for name, sample in samples.items()}
                for tag, samples in self.samples.items()
            },
            known={name: spec for name, spec in self.known.items() if name not in instead},
        )

    @cached_property
    def variables(self) -> list[dict[str, Any]]:
        """Every variable that its texts use, as a spec."""
        words = " ".join(text for texts in self.texts.values() for text in texts.values()) + " ".join(
            f"{{{{ {b}_link }}}}" for b in self.blocks
        )
        used = set(re.findall(r"[a-z_]+", " ".join(re.findall(r"\{[{%](.*?)[}%]\}", words)))) | {
            _ONLY_IF[part] for texts in self.texts.values() for part in texts if part in _ONLY_IF
        }
        return [{"name": name, **spec} for name, spec in self.known.items() if name in used]

    def speaks(self, wanted: list[str]) -> bool:
        """Whether it is written in one of these languages."""
        return any(tag.partition("-")[0] in self.texts for tag in wanted)

    def spec(self, key: str, name: str, locale: str, wanted: list[str]) -> dict[str, Any]:
        """A message in those of the wanted languages that it is written in, English where it is in none of them."""
        made: dict[str, dict[str, Any]] = {"email": {}, "sms": {}, "chat": {}}
        languages = {tag: tag.partition("-")[0] for tag in wanted if tag.partition("-")[0] in self.texts} or {
            locale: "en"
        }
        for tag, language in languages.items():
            text = self.texts[language]
            made["email"][tag] = {"subject": text["subject"], "blocks": self._blocks(text, language)}
            made["sms"][tag] = {"text": text["sms"]}
            made["chat"][tag] = {
                "body": text["chat"],
                "samples": {
                    of: sample
                    for of in dict.fromkeys(re.findall(r"\{\{\s*(.*?)\s*\}\}", text["chat"]))
                    if (sample := self.samples[language].get(re.split(r"[^\w.]", of)[0]))
                },
                **({"buttons": [{"kind": "reply", "text": text["reply"]}]} if "reply" in text else {}),
            }
        asked = {"question": question_starter(list(languages))} if self.asks else {}
        about = {"about": self.about, "tells_of": "" if self.asks else self.event}
        return {"key": key, "name": name, "locale": locale, **about, **made, **asked}

    def _blocks(self, text: dict[str, str], language: str) -> list[dict[str, Any]]:
        blocks: list[dict[str, Any]] = [
            {"kind": "heading", "text": text["heading"]},
            {"kind": "text", "text": text["text"]},
        ]
        blocks += [
            {"kind": "text", "text": text[part], "only_if": variable}
            for part, variable in _ONLY_IF.items()
            if part in text
        ]
        for block in self.blocks:
            if block == "pay":
                blocks.append(
                    {
                        "kind": "button",
                        "text": text["button"],
                        "url": f"{{{{ {block}_link }}}}",
                        "only_if": f"{block}_link",
                    }
                )
            else:
                blocks.append({"kind": block, **({"title": _WORDS[block][language]} if block in _WORDS else {})})
        return blocks


_DATA: dict[str, Any] = yaml.safe_load(Path(__file__).with_name("starters.yaml").read_text())


def _load() -> list[Starter]:
    return [
        Starter(
            s["key"],
            s["name"],
            s["about"],
            s["event"],
            tuple(s["with"]),
            {tag: s[tag] for tag in ("en", "de", "fr")},
            _DATA["samples"],
            _DATA["variables"],
            s.get("asks", False),
        )
        for s in _DATA["starters"]
    ]


STARTERS = _load()


def question_starter(wanted: Sequence[str]) -> dict[str, Any]:
    """A question with a yes and a no in those of the wanted languages that it is written in, English where in none."""
    texts = _DATA["question"]
    languages = {tag: texts[tag.partition("-")[0]] for tag in wanted if tag.partition("-")[0] in texts}
    languages = languages or {wanted[0]: texts["en"]}

    def said(part: str) -> dict[str, str]:
        return {tag: text[part] for tag, text in languages.items()}

    answers = [{"key": key, "means": key, "words": said(key), "thanks": said(f"after_{key}")} for key in ("yes", "no")]
    return {"title": said("title"), "about": said("about"), "answers": answers}


def text_in(message: Message, channel: str, like: str, locale: str, mapped: Collection[str]) -> dict[str, Any] | None:
    """The text in another language of the starter that a message's text in `like` still is; None where it is none's."""
    language, was = locale.partition("-")[0], message.variants(channel)[like]
    for starter in STARTERS:
        if language not in starter.texts or like.partition("-")[0] not in starter.texts:
            continue
        for one in (starter.for_shop(mapped), starter):
            made = read_spec(Message, one.spec(message.key, message.name, like, [like, locale]))
            if made.variants(channel).get(like) == was:
                plain: dict[str, Any] = made.variants(channel)[locale].plain()
                return plain
    return None


def by_key(key: str) -> Starter | None:
    return next((s for s in STARTERS if s.key == key), None)
