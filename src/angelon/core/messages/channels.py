"""The channels that there are, and a message's part for one of them, compiled: the one way in, whatever the channel."""

from __future__ import annotations

import dataclasses
import re
import threading

from angelon.core.messages.call import CallChannel
from angelon.core.messages.channel import Channel, Part
from angelon.core.messages.chat import ChatChannel
from angelon.core.messages.email import EmailChannel
from angelon.core.messages.sms import SmsChannel
from angelon.core.outside import note_compiling
from angelon.core.problems import Invalid
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.store import Store

CHANNELS: dict[str, Channel] = {
    channel.key: channel for channel in (EmailChannel(), SmsChannel(), ChatChannel(), CallChannel())
}
CHANNEL_LABELS = {key: channel.label for key, channel in CHANNELS.items()}
"""What people call a channel."""

_KEPT: dict[tuple[int, int, str, str], tuple[Message, Store, Part]] = {}
"""Parts by the very objects that they were compiled from, which live as long as they stand here."""
MOST_KEPT = 512
_CHANGING = threading.Lock()


def compiled_part(message: Message, channel: str, locale: str, store: Store) -> Part:
    """A message's part for one channel and locale, compiled. Raises Invalid with what is wrong in it.

    A message and a store are never changed in place once they are used: the same object is the same text.
    """
    cache_key = (id(message), id(store), channel, locale)
    kept = _kept(cache_key, message, store)
    if kept is not None:
        return kept
    note_compiling()
    try:
        part = CHANNELS[channel].compile(message, locale, store)
    except Invalid as error:
        raise Invalid([p.at(f"{channel}.{locale}") for p in error.problems]) from None
    return _keep(cache_key, message, store, part)


def _kept(cache_key: tuple[int, int, str, str], message: Message, store: Store) -> Part | None:
    kept = _KEPT.get(cache_key)
    return kept[2] if kept is not None and kept[0] is message and kept[1] is store else None


def _keep(cache_key: tuple[int, int, str, str], message: Message, store: Store, part: Part) -> Part:
    with _CHANGING:
        while len(_KEPT) >= MOST_KEPT:
            _KEPT.pop(next(iter(_KEPT)), None)
        _KEPT[cache_key] = (message, store, part)
    return part


def part_for_reader(message: Message, channel: str, locale: str, written: str, store: Store) -> Part:
    """The same, with numbers and days as they are written in `written` (a locale); as in the shop where it is empty.
    Raises Invalid.
    """
    part = compiled_part(message, channel, locale, store)
    if written in ("", part.locale):
        return part
    cache_key = (id(message), id(store), channel, f"{locale} {written}")
    kept = _kept(cache_key, message, store)
    if kept is not None:
        return kept
    return _keep(cache_key, message, store, dataclasses.replace(part, locale=written))  # type: ignore[type-var]


ACCOUNT = re.compile(r"[^\s<>,;]{1,200}\Z")
"""The form of an account's id: one word."""


def address_part(channel: str, gateway: Gateway | None) -> str:
    """Which part of an order holds the customer's address for a gateway of this channel."""
    return "account" if _by_account(channel, gateway) else CHANNELS[channel].address_part


def address_label(channel: str, gateway: Gateway | None) -> str:
    return "account id" if _by_account(channel, gateway) else CHANNELS[channel].address_label


def check_address(channel: str, gateway: Gateway | None, text: str, country: str | None = None) -> str:
    """An address as a gateway takes it. Raises ValueError with a sentence that says why it is none."""
    if _by_account(channel, gateway):
        if not ACCOUNT.match(text.strip()):
            raise ValueError("An account id is one word of at most 200 characters, as the chat provider writes it.")
        return text.strip()
    return CHANNELS[channel].check_address(text, country)


def _by_account(channel: str, gateway: Gateway | None) -> bool:
    return channel == "chat" and gateway is not None and gateway.addresses == "account"


def address_key(channel: str, address: str) -> str:
    """What an address is known by in the list of suppressions."""
    return CHANNELS[channel].address_key(address)
