"""What planning is given: an event, a store's set-up, what has happened before."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from angelon.core.messages.channel import Part
from angelon.core.planning.permission import Consents
from angelon.core.planning.purchases import Purchase
from angelon.core.questions import Asked as AskedQuestion
from angelon.core.specs.asked import Asked
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store
from angelon.core.specs.variable import Variable
from angelon.core.values import Value

if TYPE_CHECKING:
    from angelon.core.planning.context import PlanningContext


@dataclass(frozen=True, slots=True)
class Event:
    """What planning needs of an event. `received_at` is aware. `was` and `now` are statuses, for a derived change."""

    id: str
    type: str
    name: str
    source: str
    payload: Any
    received_at: dt.datetime
    was: str = ""
    now: str = ""
    unanswered: Mapping[str, str] = field(default_factory=dict)
    """What was asked elsewhere about it in vain, by the enrichment's name, and why."""
    asked: Mapping[str, Asked] = field(default_factory=dict)
    """What handlers have asked for about it, by the handler's name."""
    awaits: Mapping[str, str] = field(default_factory=dict)
    """The routes whose decisions wait for an answer, by key, and what each waits for."""


ALWAYS = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
"""Since when a route counts as switched on where any event shall count: in rehearsals, checks and runs by hand."""


@dataclass(frozen=True, slots=True)
class ActiveRoute:
    """A route that is switched on, and since when (aware). Events received before that never count."""

    route: Route
    since: dt.datetime


class AskHandlers(Protocol):
    """How a handler is asked about an event that brings no answer of its."""

    @property
    def digest(self) -> str: ...

    def __call__(self, handler: str, context: PlanningContext) -> Asked: ...


@dataclass(frozen=True, slots=True)
class Setup:
    """Everything that a store has set up, as it stands."""

    store: Store
    sources: Mapping[str, Source]
    variables: Mapping[str, Variable]
    messages: Mapping[str, Message]
    gateways: Mapping[str, Gateway]
    routes: list[ActiveRoute] = field(default_factory=list)
    approvals: Mapping[tuple[str, str, str, str], str] = field(default_factory=dict)
    """(gateway key, message key, locale, mark of the text) of every approved chat text: the provider's own id for it.
    """

    tables: Mapping[str, Mapping[str, str]] = field(default_factory=dict, compare=False)
    """The shop's own tables, by table and column (`prices.net`): what it says for each key."""
    given_out: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """The shop's tables whose rows are given out once, with their columns."""
    asks: AskHandlers | None = field(default=None, compare=False)
    """Set where handlers are rehearsed and checked; the worker asks them before it plans."""

    def approval(self, gateway: str, message: Message, locale: str, part: Part) -> str | None:
        """The provider's own id for an approved text; empty where the gateway reviews none, None where this text is not
        approved.
        """
        one = self.gateways.get(gateway)
        digest = part.approval_digest(message.category)
        if one is None or one.review is None or not digest:
            return ""
        return self.approvals.get((gateway, message.key, locale, digest))


@dataclass(frozen=True, slots=True)
class Contact:
    """What is known of the customer besides this event: orders so far with this one, and what has happened
    with them.
    """

    orders: int = 1
    returned: bool = False
    complained: bool = False
    language: str = ""
    tags: tuple[str, ...] = ()
    country: str = ""
    purchases: Mapping[int, Purchase] = field(default_factory=dict)
    """What was bought, by order; without what was cancelled or paid back."""
    kept: Mapping[str, Value] = field(default_factory=dict)
    """The last value that events have said of each variable that is kept."""


class Answer(NamedTuple):
    """What a customer has answered to a send: the words of a button, or of their own. `at` is aware."""

    text: str
    at: dt.datetime


class PriorSend(NamedTuple):
    """A send that has gone out or may still, or was tried: as much of it as guards look at. Times are aware."""

    route: str
    channel: str
    address: str
    at: dt.datetime
    """When it was made."""
    due_at: dt.datetime
    out: bool = False
    """Whether a gateway has taken it."""
    to_customer: bool = True
    message: str = ""
    """The message's key; empty where it is no longer known."""
    source: str = ""
    """The key of the source whose event it came of."""
    event_type: str = ""
    now: str = ""
    """The status that the event was about, where it was a change of one."""


@dataclass(frozen=True, slots=True)
class Facts:
    """What has happened before, as far as these routes ask. `sent_for_order` holds (route key, source key, order
    reference).
    """

    sent_for_order: frozenset[tuple[str, str, str]] = frozenset()
    last_sent_to_customer: Mapping[str, dt.datetime] = field(default_factory=dict)
    """Route key to when it last spoke to this customer (aware)."""
    statuses: tuple[str, ...] = ()
    """Every status that the order has had, in the store's own words, oldest first."""
    current: Mapping[str, str] = field(default_factory=dict)
    """The order's statuses now by part (`status`, `payment_status`, …), where they may be others than the event's."""
    contact: Contact | None = None
    types: tuple[tuple[str, dt.datetime], ...] = ()
    """Every event of this order so far: its type and when it came, oldest first."""
    prior_sends: tuple[PriorSend, ...] = ()
    """What this order's people have been told, oldest first."""
    sent_to_customer: tuple[dt.datetime, ...] = ()
    """When each message to this customer was made, about whatever order."""
    same_delivery: tuple[PriorSend, ...] = ()
    """What other events of the same delivery have made routes say."""
    suppressed: Mapping[str, str] = field(default_factory=dict)
    """Addresses that must not be written to, as guards write them (`address_key`), and why."""
    other_statuses: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """What `statuses` is for the order's status, for its others: by part (`payment_status`, …)."""
    answers: tuple[Answer, ...] = ()
    """What the order's customer has answered so far, oldest first."""
    consents: Consents = field(default_factory=dict)
    """What the owners of these addresses have said about being written to."""
    questions: tuple[AskedQuestion, ...] = ()
    """What the order's customer was asked."""

    def statuses_of(self, part: str) -> tuple[str, ...]:
        """Every value that one of the order's statuses has had, oldest first."""
        return self.statuses if part == "status" else self.other_statuses.get(part, ())

    def after(self, label: tuple[PriorSend, ...]) -> Facts:
        """These facts once a route is about to tell something, too, about the same delivery."""
        to_customer = tuple(one.at for one in label if one.to_customer)
        return Facts(
            self.sent_for_order,
            self.last_sent_to_customer,
            self.statuses,
            self.current,
            self.contact,
            self.types,
            self.prior_sends + label,
            self.sent_to_customer + to_customer,
            self.same_delivery + label,
            self.suppressed,
            self.other_statuses,
            self.answers,
            self.consents,
            self.questions,
        )
