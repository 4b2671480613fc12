"""What is written into the tables, as typed values: one class a table, one constructor for each way that a row comes
about.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from operator import attrgetter
from typing import Any

from angelon.core.messages.channels import address_key
from angelon.core.planning.follow_up import has_follow_up
from angelon.core.planning.plan import PlannedSend
from angelon.core.planning.trace_lines import TraceLine
from angelon.core.planning.turns import Turn
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.states import State, move
from angelon.core.values import Value, pack, unpack
from angelon.db.rows import SendRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables.packed import mail_by, pattern_id


@dataclass(slots=True)
class NewEvent:
    """An event as it is stored. Times are aware; `item` counts the orders of one delivery from 0.

    Made for every delivery, and for that not frozen, which would double what making it costs; nothing changes one.
    """

    id: str
    source_id: int
    delivery_id: str
    delivery_key: str
    """What it is known by within its source, so that the same one is never stored twice."""
    name: str
    type: str
    received_at: dt.datetime
    item: int = 0
    parent_id: str | None = None
    was: str = ""
    now: str = ""
    problem: str = ""
    order_id: int | None = None
    planned_at: dt.datetime | None = None
    decisions: list[Any] | None = None
    lane: int | None = None

    @classmethod
    def derived(
        cls,
        parent: Any,
        id_: str,
        key: str,
        name: str,
        type_: str,
        at: dt.datetime,
        order_id: int | None,
        was: str = "",
        now: str = "",
    ) -> NewEvent:
        """An event that follows from another (a row of the event table) and reads the same delivery."""
        return cls(
            id_,
            parent.source_id,
            parent.delivery_id,
            key,
            name[:200],
            type_,
            at,
            parent.item,
            parent.parent_id or parent.id,
            was,
            now,
            order_id=order_id,
            lane=parent.lane,
        )

    @classmethod
    def sample(cls, id_: str, source_id: int, name: str, type_: str, at: dt.datetime) -> NewEvent:
        """A payload that was not delivered: there to be read, never planned."""
        return cls(id_, source_id, id_, f"sample:{id_}", name[:200], type_, at, planned_at=at, decisions=[])

    def row(self) -> dict[str, Any]:
        return dict(zip(_EVENT_FIELDS, _event_values(self), strict=True))


_EVENT_FIELDS = tuple(one.name for one in fields(NewEvent))
_event_values = attrgetter(*_EVENT_FIELDS)


@dataclass(slots=True)
class NewDelivery:
    """One request as it came in: its body and kept headers, stored once, and the events in it."""

    id: str
    source_id: int
    received_at: dt.datetime
    content_type: str
    headers: Mapping[str, str]
    body: bytes
    events: tuple[NewEvent, ...] = ()
    window: dt.timedelta | None = None
    """For how long the same body is taken for the same delivery; None where its events have ids of their own."""
    body_hash: str = ""
    """What the body is known by, where it is: SHA-256, the first 40 hexadecimal digits."""

    def row(self) -> dict[str, Any]:
        return {
            "id": self.id,
            "source_id": self.source_id,
            "received_at": self.received_at,
            "content_type": self.content_type,
            "headers": {name: value for name, value in self.headers.items() if name != "content-type"},
            "body": self.body,
            "body_hash": self.body_hash,
        }

    def with_events(self, events: tuple[NewEvent, ...]) -> NewDelivery:
        return replace(self, events=events)


@dataclass(frozen=True, slots=True)
class Asks:
    """What a send asks its customer. Where the question is open already, it is that one."""

    open_hours: int
    reply_key: str
    anew: bool = False
    """Whether somebody has it asked by hand: its time begins anew."""


@dataclass(frozen=True, slots=True)
class NewSend:
    """A send as it is stored. Times are aware."""

    id: str
    store_id: int
    channel: str
    recipient: str
    recipient_name: str
    locale: str
    state: State
    created_at: dt.datetime
    due_at: dt.datetime
    event_id: str | None = None
    order_id: int | None = None
    route_id: int | None = None
    message_id: int | None = None
    gateway_id: int | None = None
    revision_id: int | None = None
    """The message's live revision that its values were worked out for."""
    reason: str = ""
    settled_at: dt.datetime | None = None
    values: Mapping[str, Value] = field(default_factory=dict)
    trace: tuple[TraceLine, ...] = ()
    whom: str = "customer"
    step: int = 0
    test: bool = False
    draft: Mapping[str, Any] | None = None
    """The message itself, where it is not one of the store's published ones."""
    instead_of: str | None = None
    run_id: int | None = None
    fallback_at: dt.datetime | None = None
    expires_at: dt.datetime | None = None
    format_locale: str = ""
    """How its numbers and days are written; empty where that is as the shop does."""
    question_id: str | None = None
    """The question that it asks; given when it is stored."""
    asks: Asks | None = None
    turn: Turn = Turn.ORDINARY

    @classmethod
    def planned(
        cls,
        live: LiveSetup,
        send: PlannedSend,
        id_: str,
        event_id: str | None,
        order_id: int | None,
        now: dt.datetime,
        instead_of: str | None = None,
        run_id: int | None = None,
        event_type: str = "",
        gives_way: bool = False,
    ) -> NewSend:
        """A planned send about an event of a type. One that may need a fallback, or somebody's help, says when that is
        looked at. An urgent route's goes first; one that `gives_way` goes after others.
        """
        route = live.routes.get(send.route)
        return cls(
            id=id_,
            store_id=live.store_id,
            channel=send.channel,
            recipient=send.recipient,
            recipient_name=send.recipient_name[:200],
            locale=send.locale,
            state=send.state,
            created_at=now,
            due_at=send.due_at,
            event_id=event_id,
            order_id=order_id,
            route_id=live.route_ids[send.route],
            message_id=live.message_ids.get(send.message),
            gateway_id=live.gateway_ids.get(send.gateway),
            revision_id=live.revision_ids.get(send.message) if send.state is State.SCHEDULED else None,
            reason=send.reason,
            settled_at=now if send.state is State.SKIPPED else None,
            values=send.values,
            trace=tuple(send.trace),
            whom=send.to,
            step=send.step,
            instead_of=instead_of,
            run_id=run_id,
            fallback_at=_fallback_at(live, route, send, now),
            expires_at=_expires_at(live, send, event_type),
            format_locale=send.format_locale,
            asks=_asks(live, send, order_id, event_id, run_id is not None),
            turn=Turn.URGENT if route is not None and route.urgent else Turn.GIVES_WAY if gives_way else Turn.ORDINARY,
        )

    @classmethod
    def again(cls, was: Any, id_: str, recipient: str, now: dt.datetime, live: LiveSetup) -> NewSend:
        """The same once more, at once, by hand: to the same person, at the same address or another. `was` is a row of
        the send table; its values are worked out from the event anew.
        """
        message = live.setup.messages.get(live.message_key(was.message_id))
        question = message.question if message is not None and was.question_id else None
        saw = f"sent again manually, after {was.id}"
        return cls(
            id_,
            was.store_id,
            was.channel,
            recipient,
            was.recipient_name,
            was.locale,
            State.SCHEDULED,
            now,
            now,
            event_id=was.event_id,
            order_id=was.order_id,
            route_id=was.route_id,
            message_id=was.message_id,
            gateway_id=was.gateway_id,
            values={name: unpack(value) for name, value in (was.values_ or {}).items()},
            trace=(TraceLine("manual run", "yes", saw),),
            turn=Turn.URGENT if was.turn == Turn.URGENT else Turn.ORDINARY,
            whom=was.whom,
            step=was.step,
            test=was.test,
            draft=was.draft,
            format_locale=was.format_locale,
            asks=Asks(question.open_hours, address_key(was.channel, recipient), True) if question else None,
        )

    @classmethod
    def for_test(
        cls,
        live: LiveSetup,
        id_: str,
        message_id: int,
        message: Message,
        gateway: str,
        channel: str,
        locale: str,
        recipient: str,
        values: Mapping[str, Value],
        event_id: str | None,
        now: dt.datetime,
        written: str = "",
    ) -> NewSend:
        """A message as it stands, to somebody of the shop; it counts for nothing."""
        return cls(
            id_,
            live.store_id,
            channel,
            recipient,
            "",
            locale,
            State.SCHEDULED,
            now,
            now,
            event_id=event_id,
            message_id=message_id,
            gateway_id=live.gateway_ids[gateway],
            values=values,
            trace=(TraceLine("test", "yes", "sent from the message’s page"),),
            test=True,
            draft=message.plain(),
            format_locale=written,
        )

    @classmethod
    def notice(
        cls,
        live: LiveSetup,
        id_: str,
        about: Any,
        gateway: str,
        message: Message,
        address: str,
        name: str,
        role: str,
        values: Mapping[str, Value],
        saw: str,
        now: dt.datetime,
    ) -> NewSend:
        """A mail to somebody of the shop about a send (a row of the send table) that no fallback is left for."""
        return cls(
            id_,
            live.store_id,
            "email",
            address,
            name,
            live.setup.store.locale,
            State.SCHEDULED,
            now,
            now,
            event_id=about.event_id,
            order_id=about.order_id,
            gateway_id=live.gateway_ids[gateway],
            values=values,
            trace=(TraceLine("fallback", "yes", saw),),
            whom=f"role:{role}",
            draft=message.plain(),
            instead_of=about.id,
        )

    def row(self) -> dict[str, Any]:
        """The columns. Every send has all of them, so that many are stored by one statement."""
        columns = dict(zip(_SEND_FIELDS, _send_values(self), strict=True))
        columns["values"] = {name: pack(value) for name, value in self.values.items()}
        columns["trace"] = [line.as_dict() for line in self.trace]
        del columns["asks"]
        return columns | _NOT_TRIED


_NOT_TRIED = {"worker": "", "tries": 0, "subject": ""}
_SEND_FIELDS = tuple(one.name for one in fields(NewSend))
_send_values = attrgetter(*_SEND_FIELDS)


def _asks(live: LiveSetup, send: PlannedSend, order_id: int | None, event_id: str | None, by_hand: bool) -> Asks | None:
    """What a planned send asks: only a customer is asked, and only about an order."""
    message = live.setup.messages.get(send.message)
    question = message.question if message is not None else None
    if question is None or send.to != "customer" or send.state is State.SKIPPED or not (order_id and event_id):
        return None
    return Asks(question.open_hours, address_key(send.channel, send.recipient) if send.recipient else "", by_hand)


def _expires_at(live: LiveSetup, send: PlannedSend, event_type: str) -> dt.datetime | None:
    """Until when a send may go out, as its message and its event's type say."""
    hours = live.setup.store.hours_for(live.setup.messages.get(send.message), event_type)
    return send.due_at + dt.timedelta(hours=hours) if hours else None


def _fallback_at(live: LiveSetup, route: Route | None, send: PlannedSend, now: dt.datetime) -> dt.datetime | None:
    if send.state is State.HELD and has_follow_up(route, live.setup.routes):
        return now
    if send.state is State.SCHEDULED and route is not None and len(route.fallback.options) > send.step:
        within = route.fallback.within_minutes
        return send.due_at + dt.timedelta(minutes=within) if within else None
    return None


@dataclass(slots=True)
class Settlement:
    """How a claimed send stands after its turn; only the worker that holds it may store that. Times are aware."""

    id: str
    worker: str
    state: State
    reason: str
    due_at: dt.datetime
    settled_at: dt.datetime | None
    subject: str
    revision_id: int | None
    tries: int
    reference: str
    cost: str
    fallback_at: dt.datetime | None
    values: dict[str, Any] | None = None
    """Its values as they are stored, where they are new."""

    @classmethod
    def of(cls, row: SendRecord, worker: str) -> Settlement:
        """A send as its row has it, held until something else is known."""
        return cls(
            row.id,
            worker,
            State.HELD,
            "",
            row.due_at,
            None,
            row.subject,
            row.revision_id,
            row.tries,
            row.reference,
            row.cost,
            row.fallback_at,
        )

    def not_tried(self, state: State, reason: str, at: dt.datetime | None = None) -> None:
        """It was not handed over, so the turn does not count as a try; `at` is when it ended, where it has."""
        self.state, self.reason, self.settled_at = move(State.SENDING, state), reason, at
        self.tries -= 1

    def bare(self, reason: str) -> Settlement:
        """The outcome alone, for a database that refuses the rest."""
        return replace(self, values=None, subject="", reason=reason)

    def row(self) -> dict[str, Any]:
        columns = dict(zip(_SETTLED, _settled_values(self), strict=True))
        return {"b_id": columns.pop("id"), "b_worker": columns.pop("worker"), **columns}


_SETTLED = tuple(one.name for one in fields(Settlement))
_settled_values = attrgetter(*_SETTLED)


@dataclass(frozen=True, slots=True)
class NewAttempt:
    """One try, and what the gateway answered. Times are aware."""

    send_id: str
    number: int
    began_at: dt.datetime
    ended_at: dt.datetime
    outcome: str
    code: str
    answer: str

    def row(self) -> dict[str, Any]:
        return {one.name: getattr(self, one.name) for one in fields(self)}


_FILES = ("files", "pictures")


@dataclass(frozen=True, slots=True)
class NewContent:
    """What a send said at its last try."""

    send_id: str
    packed: bytes | None
    text: str
    about: dict[str, Any]
    pattern: str
    """What an email's page was filled from, and is packed by."""
    at: dt.datetime

    @classmethod
    def of(cls, send_id: str, html: str, text: str, about: dict[str, Any], pattern: str, at: dt.datetime) -> NewContent:
        """With a mail packed already: whoever stores it holds the database meanwhile. What files it had stays open."""
        if not html:
            return cls(send_id, None, text, about, "", at)
        files = {name: about[name] for name in _FILES if name in about}
        rest = {name: value for name, value in about.items() if name not in files}
        return cls(send_id, mail_by(pattern, html, text, rest), "", files, pattern, at)

    @property
    def pattern_id(self) -> int | None:
        return pattern_id(self.pattern) if self.packed is not None else None

    def row(self) -> dict[str, Any]:
        own = {"packed": self.packed, "pattern_id": self.pattern_id, "text": self.text, "about": self.about or None}
        return {"send_id": self.send_id, "html": "", **own}
