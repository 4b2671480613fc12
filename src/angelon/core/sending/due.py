"""A due send and all that is known around it, as the rules look at it; and what a send needs to be known."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from angelon.core.messages.attachments import LibraryFile
from angelon.core.messages.channel import Part
from angelon.core.messages.channels import CHANNEL_LABELS, part_for_reader
from angelon.core.planning.inputs import Event, Facts, Setup
from angelon.core.problems import Invalid
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.condition import compares
from angelon.core.specs.message import FromLibrary, Message
from angelon.core.specs.route import Route
from angelon.core.values import Value, unpack


@dataclass(frozen=True, slots=True)
class DueSend:
    """One send that a worker has claimed. Keys are empty where the thing is gone; times are aware."""

    id: str
    channel: str
    recipient: str
    recipient_name: str
    locale: str
    whom: str
    """Which of the route's recipients it is for."""
    route: str
    message: str
    gateway: str
    revision_id: int | None
    stored: Mapping[str, Any]
    """Its values as they are stored."""
    created_at: dt.datetime
    has_event: bool = True
    test: bool = False
    expires_at: dt.datetime | None = None
    """Until when it may go out (aware)."""
    order_id: int | None = None
    event_id: str = ""
    draft: Message | None = None
    """The message itself, where it is not one of the store's published ones."""
    format_locale: str = ""
    """How its numbers and days are written; empty where that is as the shop does."""
    question: str = ""
    """The id of the question that it asks."""
    question_values: Mapping[str, Value] = field(default_factory=dict)
    """What its text says of that; empty where the shop has no public address."""
    download: str = ""
    """The address of the page with its files; empty where the shop has no public address."""
    given: Mapping[str, Value] | None = None
    """The row of a table that it gives out; None as long as there is none."""
    follow: str = ""
    """The address of the page where the customer follows the order's parcels; empty where there is none."""

    def values(self) -> dict[str, Value]:
        return {name: unpack(value) for name, value in self.stored.items()}


@dataclass(frozen=True, slots=True)
class EventFacts:
    """A send's event as it is read now, and what has happened around its order."""

    event: Event
    reading: Reading
    variables: Variables
    facts: Facts = field(default_factory=Facts)


@dataclass(frozen=True)
class SendContext:
    """What is known around the sends of one store in one batch."""

    setup: Setup
    routes: Mapping[str, Route]
    """Every route as it last went live, those that are off too."""
    revisions: Mapping[str, int]
    """The live revision of each message."""
    files: Sequence[LibraryFile] = ()
    suppressed: Mapping[str, str] = field(default_factory=dict)
    """Address keys that must not be written to, and why."""
    events: Mapping[str, EventFacts] = field(default_factory=dict)
    """By send, for those that need one (`needs_event`)."""
    closed: Mapping[str, str] = field(default_factory=dict)
    """By question, why it is no longer open."""
    trial: str = ""
    """Where sends go while the store is on trial; empty where it is not."""
    unreadable: Mapping[str, str] = field(default_factory=dict)
    """By send, why its event can't be read."""
    sends: Mapping[str, DueSend] = field(default_factory=dict)
    """The sends themselves."""


def part_of(send: DueSend, around: SendContext) -> tuple[Message, str, Part] | str:
    """(message, locale, compiled text) of a send; or why there is none, as a sentence."""
    message = send.draft if send.draft is not None else around.setup.messages.get(send.message)
    if message is None:
        return "The message is not published."
    locale = message.locale_for(send.channel, send.locale)
    if locale is None:
        return f"“{message.name}” has no {CHANNEL_LABELS[send.channel]} part."
    try:
        return message, locale, part_for_reader(message, send.channel, locale, send.format_locale, around.setup.store)
    except Invalid as error:
        return f"“{message.name}” can't be made: {error.problems[0].what}"


def guards_again(send: DueSend, around: SendContext) -> bool:
    """Whether guards or conditions that look at the order are asked again now that the send is due."""
    route = around.routes.get(send.route)
    if route is None or send.test or not send.has_event:
        return False
    return (
        any(part.again for part in compares(route.only_if))
        or route.guards.skip_refunded
        or route.guards.unless_answered
        or route.guards.unless_asking
        or bool(route.guards.after_route)
        or (send.whom == "customer" and bool(around.setup.store.consent_for(send.channel)))
    )


def has_its_values(send: DueSend, part: Part, around: SendContext) -> bool:
    """Whether the values that were worked out when it was planned still fit the text. Those of a handler's send may be
    the handler's own, and fit a newer text that asks for no others.
    """
    route = around.routes.get(send.route)
    own = send.draft is not None or (route is not None and bool(route.handler))
    current = own or send.revision_id == around.revisions.get(send.message)
    return bool(send.recipient) and current and send.stored.keys() >= part.names


def needs_event(send: DueSend, around: SendContext) -> bool:
    """Whether a send's event has to be read before it can be prepared."""
    if not send.has_event:
        return False
    if guards_again(send, around):
        return True
    found = part_of(send, around)
    if isinstance(found, str):
        return False
    message, _, part = found
    if send.draft is None and not has_its_values(send, part, around):
        return True
    chooses = send.channel == "email" and any(isinstance(one, FromLibrary) for one in message.attachments)
    return chooses and "order" not in send.stored
