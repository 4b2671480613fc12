"""What a reader chooses on the page of their preferences: which optional messages they get, and by which channel."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from angelon.core.planning.permission import OPTIONAL, notice
from angelon.core.specs.message import Message
from angelon.db.people import consents, suppressions
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.unit import Work

BY_READERS = ("left", "one-click", "stop")
"""Suppressions that a reader may take back: what the shop or a mail server said stays."""
CHANNELS_OF = {"email": ("email",), "phone": ("sms", "chat"), "account": ("chat",)}


@dataclass(frozen=True, slots=True)
class Notice:
    """An optional message as readers know it, and the channels by which live routes send it to such an address."""

    key: str
    title: str
    channels: tuple[str, ...]


def notices(live: LiveSetup, address_key: str, locale: str) -> list[Notice]:
    """The optional messages that live routes send by a channel of this kind of address, in the order of their names."""
    fitting = CHANNELS_OF.get(address_key.partition(":")[0], ())
    sent: dict[str, set[str]] = {}
    for active in live.setup.routes:
        route = active.route
        ways = [(route.send, route.channel), *((o.send or route.send, o.channel) for o in route.fallback.options)]
        for message, channel in ways:
            if channel in fitting:
                sent.setdefault(message, set()).add(channel)
    found = [
        Notice(key, title_of(message, locale), tuple(sorted(sent.get(key, ()))))
        for key, message in live.setup.messages.items()
        if message.purpose == "optional" and (key in sent or set(message.channels()) & set(fitting))
    ]
    return sorted(found, key=lambda one: one.title.casefold())


def title_of(message: Message, locale: str) -> str:
    """What readers of a language know an optional message by."""
    language = locale.partition("-")[0]
    return message.title.get(locale) or message.title.get(language) or message.title.get(message.locale) or message.name


def refused(work: Work, address_key: str) -> set[str]:
    """The scopes that an address's owner, or somebody else, has said no to."""
    return {row.scope for row in suppressions.of_address(work.session, work.store_id, address_key)}


def choose(work: Work, address_key: str, wanted: Collection[str], shown: Collection[str], words: str) -> None:
    """Keeps what a reader wants of the messages that were shown to them, with the proof of it."""
    why = "did not choose it on the page of their preferences."
    work_back = [OPTIONAL, *(notice(key) for key in wanted)] if wanted else []
    suppressions.lift(work.session, work.store_id, address_key, work_back, BY_READERS)
    for key in shown:
        if key not in wanted:
            suppressions.add(work.session, work.store_id, address_key, why, work.now, notice(key), "left")
    _prove(work, address_key, bool(wanted), words)
    work.record("preferences chosen", "address", address_key, None, {"wanted": sorted(wanted)})


def leave(work: Work, address_key: str, origin: str, why: str, words: str) -> None:
    """No optional message goes to an address any more."""
    suppressions.add(work.session, work.store_id, address_key, why, work.now, OPTIONAL, origin)
    _prove(work, address_key, False, words)
    work.record("left", "address", address_key, None, {"origin": origin})


def _prove(work: Work, address_key: str, granted: bool, words: str) -> None:
    for channel in CHANNELS_OF.get(address_key.partition(":")[0], ()):
        consents.note(
            work.connection,
            work.store_id,
            address_key,
            channel,
            granted,
            "the page of their preferences",
            words,
            "the reader",
            work.now,
        )
