"""Starting points: messages for the life of an order, to change rather than to begin from nothing."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import yaml

_WORDS = {
    "address": {"en": "It goes to", "de": "Sie geht an", "fr": "Elle va à"},
}
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
                    if (sample := self.samples[language].get(re.split(r"\W", of)[0]))
                },
                **({"buttons": [{"kind": "reply", "text": text["reply"]}]} if "reply" in text else {}),
            }
        return {"key": key, "name": name, "about": self.about, "tells_of": self.event, "locale": locale, **made}

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
            if block in ("pay", "confirm"):
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


def _load() -> list[Starter]:
    data = yaml.safe_load(Path(__file__).with_name("starters.yaml").read_text())
    return [
        Starter(
            s["key"],
            s["name"],
            s["about"],
            s["event"],
            tuple(s["with"]),
            {tag: s[tag] for tag in ("en", "de", "fr")},
            data["samples"],
            data["variables"],
        )
        for s in data["starters"]
    ]


STARTERS = _load()


def by_key(key: str) -> Starter | None:
    return next((s for s in STARTERS if s.key == key), None)
