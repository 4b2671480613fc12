"""What is said, by channel and locale."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from angelon.core.specs.base import Key, Locale, Name, OneLine, Spec, VariableName


class _Block(Spec):
    only_if: VariableName | None = None
    """The variable that has to have a value for the block to appear."""


class Heading(_Block):
    kind: Literal["heading"]
    text: str = Field("", max_length=500)


class Text(_Block):
    """Paragraphs. A blank line parts them; `**strong**` and `_emphasis_` mark words; `[words](address)` is a link."""

    kind: Literal["text"]
    text: str = Field("", max_length=20_000)


class Button(_Block):
    kind: Literal["button"]
    text: str = Field("", max_length=200)
    url: str = Field("", max_length=2000)


class Lines(_Block):
    """The order's lines as a table: name, quantity, price; then the total, where there is one."""

    kind: Literal["lines"]
    total: bool = True


class Divider(_Block):
    kind: Literal["divider"]


class Image(_Block):
    kind: Literal["image"]
    src: str = Field("", max_length=2000)
    alt: str = Field("", max_length=300)
    width: int = Field(552, ge=16, le=1200)


class Mjml(_Block):
    """MJML of one's own: what may stand in a column."""

    kind: Literal["mjml"]
    mjml: str = Field("", max_length=50_000)


Block = Annotated[Heading | Text | Button | Lines | Divider | Image | Mjml, Field(discriminator="kind")]


class EmailText(Spec):
    """An email in one locale. `html` is a page of one's own in place of the blocks; `text` replaces the made plain text."""

    subject: OneLine = ""
    preheader: OneLine = ""
    blocks: list[Block] = Field(default_factory=list, max_length=100)
    html: str = Field("", max_length=300_000)
    text: str = Field("", max_length=50_000)


class Message(Spec):
    key: Key
    name: Name
    about: OneLine = ""
    locale: Locale = "en"
    """The variant for readers whose own is not there."""
    email: dict[Locale, EmailText] = Field(default_factory=dict)

    def channels(self) -> list[str]:
        return ["email"] if self.email else []

    def locale_for(self, channel: str, wanted: str | None) -> str | None:
        """The variant for a reader: `de-AT`, else `de`, else the message's own, else the first there is; None for no part."""
        variants: dict[str, EmailText] = getattr(self, channel, {}) or {}
        if not variants:
            return None
        tag = (wanted or "").replace("_", "-")
        while tag:
            for have in variants:
                if have.lower() == tag.lower():
                    return have
            tag = tag.rpartition("-")[0]
        return self.locale if self.locale in variants else next(iter(variants))
