"""What a gateway is handed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from angelon.core.messages.channel import Rendered
from angelon.core.specs.gateway import Gateway


@dataclass(frozen=True, slots=True)
class Mail:
    """An email ready for SMTP: envelope addresses and the message's bytes (CRLF line ends). `also` are those in cc and
    bcc.
    """

    from_address: str
    to_address: str
    data: bytes
    also: tuple[str, ...] = ()


def subject_of(rendered: Rendered) -> str:
    """What stands for what was sent in lists: a mail's subject, else the beginning of its text."""
    return rendered.summary()[:500]


@dataclass(frozen=True, slots=True)
class ProviderMessage:
    """An SMS or chat message ready for a provider: the values that its request is made from."""

    values: Mapping[str, Any] = field(default_factory=dict)

    @property
    def to_address(self) -> str:
        return str(self.values.get("to", ""))

    @staticmethod
    def of(rendered: Rendered, recipient: str, gateway: Gateway, locale: str, template: str) -> ProviderMessage:
        """A text for somebody; `template` is the provider's own id of an approved one."""
        about = {"to": recipient, "sender": gateway.sender_id, "text": rendered.text, "locale": locale}
        return ProviderMessage({**about, "template": template, **rendered.provider_values()})
