"""Chat texts that a provider has approved already: read from its list, and taken over with variables in their gaps.
Pure.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

from angelon.core.messages.chat import CompiledChat, NumberedText, compile_chat
from angelon.core.payload.paths import BadPath, compile_path
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.base import read_spec
from angelon.core.specs.gateway import Review
from angelon.core.specs.message import ChatText
from angelon.core.specs.store import Store
from angelon.core.values import show

MOST = 500
"""Texts of one list that are looked at."""
_GAP = re.compile(r"\{\{\s*(\d{1,2})\s*\}\}|\{(\d{1,2})\}")
_HEADERS = ("none", "text", "image", "document")


@dataclass(frozen=True, slots=True)
class ApprovedText:
    """A text as its provider has it: its gaps are `{1}`, `{2}` … `samples` are in their order."""

    reference: str
    name: str
    language: str
    category: str
    header: dict[str, str]
    body: str
    footer: str
    buttons: tuple[dict[str, str], ...]
    samples: tuple[str, ...]

    @property
    def gaps(self) -> list[int]:
        """The numbers of its gaps, in the order in which they are read."""
        return list(dict.fromkeys(int(number) for text in self._texts() for number in re.findall(r"\{(\d+)\}", text)))

    def _texts(self) -> list[str]:
        return [
            self.header.get("text", ""),
            self.header.get("url", ""),
            self.body,
            self.footer,
            *(button.get(part, "") for button in self.buttons for part in ("text", "url")),
        ]

    def around(self, gap: int) -> str:
        """The words around a gap, to tell it by."""
        text = next((text for text in self._texts() if f"{{{gap}}}" in text), "")
        before, _, after = text.partition(f"{{{gap}}}")
        left = re.split(r"\{\d+\}", before)[-1].split(" ")[-5:]
        right = re.split(r"\{\d+\}", after)[0].split(" ")[:5]
        return f"{' '.join(left)}{{{gap}}}{' '.join(right)}".strip()


def read_list(review: Review, body: bytes) -> list[ApprovedText]:
    """The approved texts of a provider's answer. Raises Invalid where the answer is no list of texts."""
    texts = review.texts
    if texts is None:
        return []
    try:
        payload = orjson.loads(body)
        found = compile_path(texts.items_at).find(payload)
    except (orjson.JSONDecodeError, BadPath) as error:
        what = f"The provider’s list of texts can’t be read: {error}."
        raise Invalid([Problem("review.texts", what, "Look at the path on the gateway’s page.")]) from None
    if not isinstance(found, list):
        what = f"The provider’s answer has no list at {texts.items_at}."
        raise Invalid([Problem("review.texts.items_at", what, "Look at the path on the gateway’s page.")])
    made = []
    for item in found[:MOST]:
        if isinstance(item, dict) and _at(texts.state_at, item) in review.approved:
            made.append(
                ApprovedText(
                    _at(texts.id_at, item),
                    _at(texts.name_at, item),
                    _at(texts.language_at, item),
                    _at(texts.category_at, item),
                    _header(_raw(texts.header_at, item)),
                    _numbered(_at(texts.body_at, item)),
                    _numbered(_at(texts.footer_at, item)),
                    _buttons(_raw(texts.buttons_at, item)),
                    tuple(str(sample) for sample in _list(_raw(texts.samples_at, item))),
                )
            )
    return [text for text in made if text.reference and text.body]


def taken_over(
    text: ApprovedText, given: Mapping[int, str], store: Store, locale: str
) -> tuple[ChatText, CompiledChat]:
    """The chat text that says what an approved one says, with a variable or expression in each of its gaps.

    Raises Invalid where a gap has none, or where the outcome would not be the text that was approved.
    """
    problems = [
        Problem(f"gap.{gap}", f"Gap {{{gap}}} has no variable.", "Choose its value.")
        for gap in text.gaps
        if not given.get(gap, "").strip()
    ]
    if problems:
        raise Invalid(problems)

    def filled(said: str) -> str:
        return re.sub(r"\{(\d+)\}", lambda gap: f"{{{{ {given.get(int(gap[1]), '').strip()} }}}}", said)

    samples = {given[gap].strip(): text.samples[gap - 1] for gap in text.gaps if 0 < gap <= len(text.samples)}
    made = read_spec(
        ChatText,
        {
            "header": {name: filled(part) if name != "kind" else part for name, part in text.header.items()},
            "body": filled(text.body),
            "footer": filled(text.footer),
            "buttons": [
                {name: filled(part) if name in ("text", "url") else part for name, part in button.items()}
                for button in text.buttons
            ],
            "samples": samples,
        },
    )
    compiled = compile_chat(made, store, locale)
    _refuse_other(text, compiled.numbered)
    return made, compiled


def _refuse_other(text: ApprovedText, numbered: NumberedText) -> None:
    """Raises Invalid where a text is not, gap by gap, what was approved."""
    if len(numbered.placeholders) < len(text.gaps):
        what = "Two gaps hold the same variable, so the provider would get fewer values than it wants."
        raise Invalid([Problem("gap", what, "Choose a variable of its own for each; a copy of one will do.")])
    if text.gaps != sorted(text.gaps) or text.gaps != list(range(1, len(text.gaps) + 1)):
        order = ", ".join(f"{{{gap}}}" for gap in text.gaps)
        what = f"The provider numbers its gaps {order}, and values are handed over in the order of reading."
        raise Invalid([Problem("gap", what, "Write the text here, and submit it for a review of its own.")])
    if (numbered.header, numbered.body, numbered.footer, numbered.buttons) != (
        text.header,
        text.body,
        text.footer,
        text.buttons,
    ):
        what = "The text has signs that Angelon writes otherwise, so it would not be the one that was approved."
        raise Invalid([Problem("body", what, "Write the text here, and submit it for a review of its own.")])


def _raw(path: str, item: Any) -> Any:
    try:
        return compile_path(path).find(item) if path else None
    except BadPath:
        return None


def _at(path: str, item: Any) -> str:
    found = _raw(path, item)
    return show(found)[:4000] if isinstance(found, str | int | float) else ""


def _list(found: Any) -> list[Any]:
    return found if isinstance(found, list) else []


def _numbered(said: str) -> str:
    return _GAP.sub(lambda gap: f"{{{int(gap[1] or gap[2])}}}", said)


def _header(found: Any) -> dict[str, str]:
    if isinstance(found, str):
        return {"kind": "text", "text": _numbered(found)} if found else {"kind": "none"}
    if not isinstance(found, dict) or found.get("kind") not in _HEADERS or found["kind"] == "none":
        return {"kind": "none"}
    part = "text" if found["kind"] == "text" else "url"
    return {"kind": str(found["kind"]), part: _numbered(str(found.get(part) or ""))}


def _buttons(found: Any) -> tuple[dict[str, str], ...]:
    made = []
    for button in _list(found):
        if isinstance(button, dict):
            kept = {part: str(button[part]) for part in ("kind", "text", "url", "phone") if button.get(part)}
            made.append({name: _numbered(part) if name in ("text", "url") else part for name, part in kept.items()})
    return tuple(made)
