"""A message's part for one channel and locale, compiled: the one way in, whatever the channel."""

from __future__ import annotations

import threading

from angelon.core.messages.chat import CompiledChat, RenderedChat, compile_chat
from angelon.core.messages.email import CompiledEmail, RenderedEmail, compile_email
from angelon.core.messages.sms import CompiledSms, RenderedSms, compile_sms
from angelon.core.problems import Invalid
from angelon.core.specs.message import Message
from angelon.core.specs.store import Store

Part = CompiledEmail | CompiledSms | CompiledChat
Rendered = RenderedEmail | RenderedSms | RenderedChat


_KEPT: dict[tuple[int, int, str, str], tuple[Message, Store, Part]] = {}
"""Parts by the very objects that they were compiled from, which live as long as they stand here."""
MOST_KEPT = 512
_CHANGING = threading.Lock()


def compiled_part(message: Message, channel: str, locale: str, store: Store) -> Part:
    """A message's part for one channel and locale, compiled. Raises Invalid with what is wrong in it.

    A message and a store are never changed in place once they are used: the same object is the same text.
    """
    mark = (id(message), id(store), channel, locale)
    kept = _KEPT.get(mark)
    if kept is not None and kept[0] is message and kept[1] is store:
        return kept[2]
    part = _compiled(message, channel, locale, store)
    with _CHANGING:
        while len(_KEPT) >= MOST_KEPT:
            _KEPT.pop(next(iter(_KEPT)), None)
        _KEPT[mark] = (message, store, part)
    return part


def _compiled(message: Message, channel: str, locale: str, store: Store) -> Part:
    try:
        if channel == "sms":
            return compile_sms(message.sms[locale], store, locale)
        if channel == "chat":
            return compile_chat(message.chat[locale], store, locale)
        return compile_email(message.email[locale], store, locale, message)
    except Invalid as error:
        raise Invalid([p.at(f"{channel}.{locale}") for p in error.problems]) from None
