"""What a channel is: how its texts are compiled, what one rendered message says and takes, whom it can be sent to. One
file a channel (`email.py`, `sms.py`, `chat.py`, `call.py`); `channels.py` lists them.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar

from angelon.core.templates import Holes
from angelon.core.values import Value

if TYPE_CHECKING:
    from angelon.core.specs.gateway import Gateway
    from angelon.core.specs.message import Message
    from angelon.core.specs.store import Store


class Rendered(ABC):
    """One message as one person gets it."""

    locale: str
    text: str

    @abstractmethod
    def summary(self) -> str:
        """One line of at most 200 characters: what lists show."""

    @abstractmethod
    def as_text(self) -> str:
        """All that it says, as text."""

    @abstractmethod
    def size(self) -> int:
        """How long it is, by which messages of one channel compare."""

    @property
    def page(self) -> str:
        """The message as HTML; empty for a channel that has none."""
        return ""

    @property
    def pieces(self) -> int:
        """How many messages the provider charges for."""
        return 1

    def about(self) -> dict[str, Any]:
        """What is kept of it besides its text."""
        return {}

    def provider_values(self) -> dict[str, Any]:
        """What a provider's request may use, besides the addresses and the text."""
        return {}

    def problem_for(self, gateway: Gateway) -> str:
        """Why a gateway may not take it, as a sentence; empty where it may."""
        return ""


class Part(ABC):
    """A message's text for one channel and locale, compiled."""

    locale: str
    limited: ClassVar[bool] = False
    """Whether a gateway may refuse it for its length."""

    @property
    @abstractmethod
    def names(self) -> frozenset[str]:
        """The variables that it uses; `order` is the order as read."""

    @property
    @abstractmethod
    def order_fields(self) -> frozenset[str]:
        """What it looks at of the order."""

    @property
    def needed_order_fields(self) -> frozenset[str]:
        """What it looks at of the order without having asked first whether it is there."""
        return self.order_fields

    @property
    def shop_gaps(self) -> frozenset[str]:
        """What it says of the shop and is empty there."""
        return frozenset()

    @abstractmethod
    def render(self, values: Mapping[str, Value], holes: Holes = "refuse") -> Rendered:
        """The message for these values. Raises CantRender."""

    def approval_digest(self, category: str) -> str:
        """What a provider's approval of this text is known by; empty for a channel whose texts are not reviewed."""
        return ""


class Channel(ABC):
    key: ClassVar[str]
    label: ClassVar[str]
    """What people call it."""
    address_part: ClassVar[str]
    """Which part of an order holds the customer's address for it: `email` or `phone`."""
    address_label: ClassVar[str]
    text_field: ClassVar[str]
    """The field of its spec that holds the text."""
    blank: ClassVar[Mapping[str, Any]]
    """What a new text starts from."""

    @abstractmethod
    def compile(self, message: Message, locale: str, store: Store) -> Part:
        """One locale's text. Raises Invalid with every problem."""

    @abstractmethod
    def check_address(self, text: str, country: str | None = None) -> str:
        """An address as it is used; `country` (ISO 3166-1) reads national numbers. Raises ValueError with a sentence
        that says why it is none.
        """

    def address_key(self, address: str) -> str:
        """What an address is known by in the list of suppressions: lower case, `email:` or `phone:` before it."""
        return f"{self.address_part}:{address.strip().lower()}"
