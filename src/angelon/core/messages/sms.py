"""An SMS compiled once and rendered many times."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, ClassVar

from angelon.core.addresses import phone_text, read_phone
from angelon.core.direction import right_to_left
from angelon.core.messages.channel import Channel, Part, Rendered
from angelon.core.messages.known_fields import shop_values, unknown_fields
from angelon.core.messages.segments import Count, count
from angelon.core.problems import Invalid
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message, SmsText
from angelon.core.specs.store import Store
from angelon.core.templates import BadTemplate, Compiled, Holes, compile_template, one_line
from angelon.core.values import Value, regional

MAX_TEXT = 5000


@dataclass(frozen=True, slots=True)
class RenderedSms(Rendered):
    """A text as it goes out, and what it takes."""

    text: str
    count: Count
    locale: str = "en"

    def summary(self) -> str:
        return one_line(self.text)[:200]

    def as_text(self) -> str:
        return self.text

    def size(self) -> int:
        return self.count.segments * 10_000 + self.count.units

    @property
    def pieces(self) -> int:
        return self.count.segments

    def about(self) -> dict[str, Any]:
        return self.provider_values()

    def provider_values(self) -> dict[str, Any]:
        return {"encoding": self.count.encoding, "segments": self.count.segments}

    def problem_for(self, gateway: Gateway) -> str:
        if self.count.segments <= gateway.max_segments:
            return ""
        return f"The SMS takes {self.count.segments} segments, and {gateway.name} allows {gateway.max_segments}."


@dataclass(frozen=True, slots=True)
class CompiledSms(Part):
    text: Compiled
    locale: str
    limited: ClassVar[bool] = True

    @property
    def names(self) -> frozenset[str]:
        """The variables that it uses; `order` is the order as read."""
        return self.text.names

    @property
    def shop_gaps(self) -> frozenset[str]:
        return self.text.shop_gaps

    @property
    def order_fields(self) -> frozenset[str]:
        """What it looks at of the order."""
        return self.text.order_fields

    @property
    def needed_order_fields(self) -> frozenset[str]:
        return self.text.needed_order_fields

    def render(self, values: Mapping[str, Value], holes: Holes = "refuse") -> RenderedSms:
        """The SMS for these values. Raises CantRender."""
        text = tidy(self.text.render(values, self.locale, MAX_TEXT, holes, right_to_left(self.locale)))
        return RenderedSms(text, count(text), self.locale)


def tidy(text: str) -> str:
    """A text fit for a handset: line breaks as they are, no control characters, no space that costs and says nothing.

    The no-break spaces that money and dates are written with would make the whole text UCS-2, so they are plain ones
    here.
    """
    text = text.replace("\r\n", "\n").replace("\u00a0", " ").replace("\u202f", " ")
    text = re.sub(r"[\x00-\x09\x0b-\x1f\x7f\u2028\u2029]+", " ", text)
    return re.sub(r" *\n *", "\n", re.sub(r" {2,}", " ", text)).strip()


class SmsChannel(Channel):
    key, label, text_field = "sms", "SMS", "text"
    address_part, address_label = "phone", "phone number"
    blank: ClassVar[Mapping[str, Any]] = {"text": ""}

    def compile(self, message: Message, locale: str, store: Store) -> CompiledSms:
        return compile_sms(message.sms[locale], store, locale)

    def check_address(self, text: str, country: str | None = None) -> str:
        return phone_text(read_phone(text, country))


def compile_sms(text: SmsText, store: Store, locale: str) -> CompiledSms:
    """Compiles one locale's SMS. Raises Invalid."""
    made = _compiled(text.text, store.country, locale)
    return replace(made, text=made.text.of_shop(shop_values(store))) if made.text.shop_fields else made


@lru_cache(maxsize=512)
def _compiled(text: str, country: str, locale: str) -> CompiledSms:
    try:
        made = CompiledSms(compile_template(text), regional(locale, country))
    except BadTemplate as error:
        raise Invalid([error.problem.at("text")]) from None
    found = unknown_fields(made.text)
    if found:
        raise Invalid([problem.at("text") for problem in found])
    return made
