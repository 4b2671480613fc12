"""A chat message: numbered placeholders as chat providers want them, made from variables; and what it says for one
order.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, ClassVar

from angelon.core.addresses import phone_text, read_phone
from angelon.core.messages.channel import Channel, Part, Rendered
from angelon.core.messages.known_fields import shop_values, unknown_fields
from angelon.core.problems import Invalid, Problem
from angelon.core.questions import answer_label
from angelon.core.specs.message import ChatButton, ChatText, Message
from angelon.core.specs.store import Store
from angelon.core.templates import (
    BadTemplate,
    CantRender,
    Compiled,
    Holes,
    compile_template,
    one_line,
    segments,
)
from angelon.core.values import Value, regional

LENGTHS = {"header": 80, "body": 1000, "footer": 80, "button": 24}
"""What the stand-in's review allows, in characters; usual sizes for the trade."""


@dataclass(frozen=True, slots=True)
class NumberedText:
    """A chat text as it is handed in for review: `{1}` stands where the first placeholder goes.

    `placeholders` are the expressions by number (from 1). The same expression has the same number throughout.
    """

    header: dict[str, str]
    body: str
    footer: str
    buttons: tuple[dict[str, str], ...]
    placeholders: tuple[str, ...]

    def digest(self, category: str) -> str:
        """What an approval is for: the same mark means the same text."""
        data = json.dumps(
            [self.header, self.body, self.footer, self.buttons, self.placeholders, category],
            sort_keys=True,
            ensure_ascii=False,
        )
        return hashlib.sha256(data.encode()).hexdigest()[:24]


@dataclass(frozen=True, slots=True)
class RenderedChat(Rendered):
    """A chat message as one customer sees it, and the values for its placeholders in order."""

    header: dict[str, str]
    text: str
    footer: str
    buttons: tuple[dict[str, str], ...]
    values: tuple[str, ...] = ()
    locale: str = "en"

    def summary(self) -> str:
        return one_line(self.text)[:200]

    def as_text(self) -> str:
        buttons = (f"[{button['text']}]" for button in self.buttons)
        return "\n".join(part for part in (self.header.get("text", ""), self.text, self.footer, *buttons) if part)

    def size(self) -> int:
        return len(self.text)

    def about(self) -> dict[str, Any]:
        return {"header": dict(self.header), "footer": self.footer, "buttons": [dict(b) for b in self.buttons]}

    def provider_values(self) -> dict[str, Any]:
        return {"values": list(self.values), **self.about()}


@dataclass(frozen=True, slots=True)
class CompiledChat(Part):
    numbered: NumberedText
    placeholders: tuple[Compiled, ...]
    locale: str
    samples: Mapping[str, str] = field(default_factory=dict)

    @property
    def names(self) -> frozenset[str]:
        """The variables that it uses; `order` is the order as read."""
        return frozenset().union(*(p.names for p in self.placeholders)) if self.placeholders else frozenset()

    @property
    def shop_gaps(self) -> frozenset[str]:
        return frozenset().union(*(p.shop_gaps for p in self.placeholders)) if self.placeholders else frozenset()

    @property
    def order_fields(self) -> frozenset[str]:
        """What it looks at of the order."""
        return frozenset().union(*(p.order_fields for p in self.placeholders)) if self.placeholders else frozenset()

    def render(self, values: Mapping[str, Value], holes: Holes = "refuse") -> RenderedChat:
        """The message for these values. Raises CantRender."""
        texts = []
        for number, placeholder in enumerate(self.placeholders, 1):
            text = one_line(placeholder.render(values, self.locale, 1000, holes if holes == "mark" else "allow"))
            if not text:
                raise CantRender(
                    Problem(
                        "body",
                        f"{{{number}}} ({self.numbered.placeholders[number - 1]}) has no value, and a chat message "
                        "can't have a gap.",
                        "Map it, or take it out of the text.",
                    )
                )
            texts.append(text)
        return self.filled(tuple(texts))

    def approval_digest(self, category: str) -> str:
        return self.numbered.digest(category)

    def filled(self, texts: tuple[str, ...]) -> RenderedChat:
        """The message with these texts in its placeholders. A text that looks like a placeholder stays what it is."""
        n = self.numbered
        return RenderedChat(
            {name: fill(part, texts) for name, part in n.header.items()},
            fill(n.body, texts),
            fill(n.footer, texts),
            tuple({name: fill(part, texts) for name, part in button.items()} for button in n.buttons),
            texts,
            self.locale,
        )


class ChatChannel(Channel):
    key, label, text_field = "chat", "chat", "body"
    address_part, address_label = "phone", "phone number"
    blank: ClassVar[Mapping[str, Any]] = {"body": ""}

    def compile(self, message: Message, locale: str, store: Store) -> CompiledChat:
        return compile_chat(with_buttons(message.chat[locale], message, locale), store, locale)

    def check_address(self, text: str, country: str | None = None) -> str:
        return phone_text(read_phone(text, country))

    def address_key(self, address: str) -> str:
        """An account's id, which is no number, is a key of its own."""
        return super().address_key(address) if address.startswith("+") else f"account:{address.strip()}"


def fill(numbered: str, texts: tuple[str, ...]) -> str:
    """A numbered text with texts in place of `{1}`, `{2}`, all at once."""
    return re.sub(r"\{(\d+)\}", lambda m: texts[int(m[1]) - 1] if 0 < int(m[1]) <= len(texts) else m[0], numbered)


MOST_BUTTONS = 3


def with_buttons(text: ChatText, message: Message, locale: str) -> ChatText:
    """A chat text with a button for each answer of its message's question, as far as there is room."""
    if message.question is None:
        return text
    labels = (answer_label(one, locale, message.locale) for one in message.question.answers)
    own = {button.text for button in text.buttons}
    buttons = [
        ChatButton(kind="reply", text=label.replace("{", "(").replace("}", ")")) for label in labels if label not in own
    ]
    return text.model_copy(update={"buttons": [*text.buttons, *buttons][:MOST_BUTTONS]})


def compile_chat(text: ChatText, store: Store, locale: str) -> CompiledChat:
    """Compiles one locale's chat message. Raises Invalid with every problem."""
    made = _compiled(json.dumps(text.model_dump(mode="json"), sort_keys=True), store.country, locale)
    shop = shop_values(store)
    return replace(made, placeholders=tuple(placeholder.of_shop(shop) for placeholder in made.placeholders))


@lru_cache(maxsize=512)
def _compiled(spec: str, country: str, locale: str) -> CompiledChat:
    text = ChatText.model_validate_json(spec)
    problems: list[Problem] = []
    known: dict[str, int] = {}

    def numbered(where: str, source: str) -> str:
        try:
            whole = compile_template(source)
        except BadTemplate as error:
            problems.append(error.problem.at(where))
            return ""
        problems.extend(problem.at(where) for problem in unknown_fields(whole))
        made = ""
        for jinja, part in segments(source):
            if not jinja:
                made += part.replace("{", "(").replace("}", ")")
            elif not part.startswith("{{"):
                problems.append(
                    Problem(
                        where,
                        "A chat text has no conditions and no loops: its provider fills gaps in a fixed text.",
                        "Take it out, or make a variable that holds the whole phrase.",
                    )
                )
                return ""
            else:
                expression = part[2:-2].strip().strip("-").strip()
                made += f"{{{known.setdefault(expression, len(known) + 1)}}}"
        return made

    header: dict[str, str] = {"kind": text.header.kind}
    if text.header.kind == "text":
        header["text"] = numbered("header.text", text.header.text)
    elif text.header.kind != "none":
        header["url"] = numbered("header.url", text.header.url)
    body = numbered("body", text.body)
    footer = numbered("footer", text.footer)
    buttons = []
    for number, button in enumerate(text.buttons):
        made: dict[str, str] = {"kind": button.kind, "text": numbered(f"buttons.{number}.text", button.text)}
        if button.kind == "link":
            made["url"] = numbered(f"buttons.{number}.url", button.url)
        elif button.kind == "call":
            made["phone"] = button.phone
        buttons.append(made)
    if problems:
        raise Invalid(problems)
    placeholders = tuple(known)
    compiled = tuple(compile_template("{{ " + expression + " }}") for expression in placeholders)
    return CompiledChat(
        NumberedText(header, body, footer, tuple(buttons), placeholders),
        compiled,
        regional(locale, country),
        text.samples,
    )


def review_values(compiled: CompiledChat, category: str, text_key: str, locale: str) -> dict[str, Any]:
    """What a request for review may use: the numbered text, with a sample for each placeholder in order."""
    n = compiled.numbered
    return {
        "text_key": text_key,
        "locale": locale,
        "category": category,
        "header": n.header,
        "body": n.body,
        "footer": n.footer,
        "buttons": [dict(b) for b in n.buttons],
        "samples": [compiled.samples.get(expression, "") for expression in n.placeholders],
        "placeholders": len(n.placeholders),
    }


def review_problems(compiled: CompiledChat) -> list[Problem]:
    """What a chat provider would reject, by rules that are usual in the trade."""
    n = compiled.numbered
    found = []
    for where, part in (("header.text", n.header.get("text", "")), ("body", n.body)):
        if re.match(r"\s*\{\d+\}", part) or re.search(r"\{\d+\}\s*$", part):
            found.append(
                Problem(
                    where,
                    "A placeholder is at the start or the end, and reviewers refuse that.",
                    "Put a word before or after it.",
                )
            )
        if re.search(r"\{\d+\}\s*\{\d+\}", part):
            found.append(
                Problem(
                    where, "Two placeholders are side by side, and reviewers refuse that.", "Put a word between them."
                )
            )
    for where, part, most in (
        ("header.text", n.header.get("text", ""), "header"),
        ("body", n.body, "body"),
        ("footer", n.footer, "footer"),
    ):
        if len(part) > LENGTHS[most]:
            found.append(
                Problem(
                    where, f"The {most} has {len(part)} characters, and {LENGTHS[most]} are allowed.", "Shorten it."
                )
            )
    if re.search(r"\{\d+\}", n.footer):
        found.append(
            Problem("footer", "The footer has a placeholder, and reviewers want it fixed.", "Move it to the body.")
        )
    if not n.body.strip():
        found.append(Problem("body", "The chat message has no text.", "Write one."))
    for number, button in enumerate(n.buttons):
        if not button["text"].strip():
            found.append(
                Problem(f"buttons.{number}.text", "A button has no words.", "Write them, or take the button out.")
            )
        if len(button["text"]) > LENGTHS["button"]:
            found.append(
                Problem(
                    f"buttons.{number}.text",
                    f"A button has {len(button['text'])} characters, and {LENGTHS['button']} are allowed.",
                    "Shorten it.",
                )
            )
        if button["kind"] == "link" and not re.match(r"https?://[^{}\s/]+", button["url"]):
            found.append(
                Problem(
                    f"buttons.{number}.url",
                    "A link has to begin with a fixed address.",
                    "Start it with https:// and the shop's host; a variable may follow.",
                )
            )
        if button["kind"] == "call" and not re.fullmatch(r"\+[0-9 ]{6,20}", button.get("phone", "")):
            found.append(
                Problem(
                    f"buttons.{number}.phone",
                    "A number to call has to be in the international form.",
                    "Write it like +353 20 915 1234.",
                )
            )
    if n.header["kind"] in ("image", "document") and not n.header.get("url", "").strip():
        found.append(
            Problem("header.url", f"The {n.header['kind']} has no address.", "Write one, or choose no header.")
        )
    found += [
        Problem(
            f"samples.{expression}",
            f"“{expression}” has no sample, and a reviewer wants one.",
            "Write one, or use the sample event.",
        )
        for expression in n.placeholders
        if not compiled.samples.get(expression, "").strip()
    ]
    return found
