"""What travels over the API, both ways: the server answers with these models, and the client reads them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from typing import Any, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

SCOPES: dict[str, str] = {
    "events.read": "Read events with what each route decided",
    "events.write": "Hand in events",
    "sends.read": "Read sends, with addresses and contents",
    "sends.write": "Retry, hold and cancel sends",
    "orders.read": "Read orders and people, with contact details",
    "parcels.write": "Add parcels, and report their stage",
    "documents.write": "Make invoices",
    "people.write": "Set people’s tags, and note their consent",
    "suppressions.read": "Read suppressed addresses",
    "suppressions.write": "Suppress addresses, and let them be written to again",
    "tests": "Rehearse events and run checks",
    "setup.read": "Read the whole set-up, without secrets",
    "setup.write": "Change the whole set-up",
    "metrics": "Read how it runs, as numbers for a monitoring system",
}
"""What a token may be allowed, and what that is."""

Channel = Literal["email", "sms", "chat", "call"]
State = Literal[
    "scheduled", "sending", "retrying", "held", "sent", "delivered", "read", "failed", "skipped", "cancelled"
]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", use_attribute_docstrings=True)


class Problem(Model):
    """One thing that is wrong: where, what, and what to do."""

    where: str = ""
    what: str
    hint: str = ""
    severity: str = "error"


class ProblemDetails(Model):
    """An error (RFC 9457)."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    problems: list[Problem] = Field(default_factory=list)


class Accepted(Model):
    """An event, or the several of one delivery, that is stored and will be planned."""

    event: str
    """Its id."""
    events: list[str] = Field(default_factory=list)
    """All ids, where the delivery holds several orders."""


class TraceLine(Model):
    part: str
    verdict: str
    saw: str = ""
    why: str = ""


class Decision(Model):
    """What one route, or handler, made of an event."""

    route: str
    outcome: str
    reason: str = ""
    trace: list[TraceLine] = Field(default_factory=list)


class Event(Model):
    id: str
    type: str
    name: str
    """The store's own name for it."""
    source: str
    received_at: AwareDatetime
    was: str = ""
    now: str = ""
    planned_at: AwareDatetime | None = None
    order: int | None = None
    problem: str = ""
    decisions: list[Decision] = Field(default_factory=list)


class Send(Model):
    """A send as lists have it."""

    id: str
    state: State
    reason: str = ""
    waits_for: str = ""
    """Why it has not gone out though it is due, such as a gateway without credit."""
    channel: Channel
    recipient: str = ""
    recipient_name: str = ""
    subject: str = ""
    message: str = ""
    """The message's key; so are route and gateway."""
    route: str = ""
    gateway: str = ""
    order: int | None = None
    order_number: str = ""
    amount: float | None = None
    """What the order comes to, in `currency` (ISO 4217)."""
    currency: str = ""
    event: str | None = None
    created_at: AwareDatetime
    due_at: AwareDatetime
    tries: int = 0
    settled_at: AwareDatetime | None = None
    cost: str = ""


class Attempt(Model):
    number: int
    began_at: AwareDatetime
    ended_at: AwareDatetime
    outcome: str
    code: str = ""
    answer: str = ""


class SendDetails(Send):
    """A send with its tries, its text and its trace."""

    attempts: list[Attempt] = Field(default_factory=list)
    text: str = ""
    trace: list[TraceLine] = Field(default_factory=list)


class Page(Model):
    """A part of a list."""

    next: str | None = None
    """The cursor of the next part; none where this is the last."""


class Sends(Page):
    items: list[Send]


class SendsQuery(Model):
    """Which sends, the newest first; several values of one filter are parted by commas."""

    state: str = Field("", max_length=200)
    channel: str = Field("", max_length=60)
    message: str = Field("", max_length=500)
    route: str = Field("", max_length=500)
    gateway: str = Field("", max_length=500)
    recipient: str = Field("", max_length=320)
    words: str = Field("", max_length=200)
    """In recipient, order number and subject."""
    since: AwareDatetime | None = None
    order: int | None = Field(None, ge=0, le=2**53)
    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=200)


class Act(Model):
    """What to do with sends: with those of `ids`, or a part of those that a filter leaves; ask again with `after` until
    `next` is empty.
    """

    act: Literal["retry", "hold", "cancel"]
    ids: list[str] = Field(default_factory=list, max_length=1000)
    filter: SendsQuery | None = None
    after: str = Field("", max_length=60)


class Acted(Model):
    seen: int
    moved: int
    next: str = ""


class Order(Model):
    id: int
    number: str
    reference: str
    source: str
    status: str = ""
    total: str = ""
    """As people read it; `amount` and `currency` (ISO 4217) are the same to reckon with."""
    amount: float | None = None
    currency: str = ""
    placed_at: AwareDatetime | None = None
    last_event_at: AwareDatetime
    person: Person | None = None


class Person(Model):
    """A customer as the orders tell."""

    id: int
    name: str = ""
    email: str = ""
    phone: str = ""
    country: str = ""
    language: str = ""


class Question(Model):
    """What an order's customer was asked, and what has become of it."""

    id: str
    message: str
    """The message's key."""
    outcome: str
    """The key of an answer; else `open`, `no_answer`, `not_asked` or `withdrawn`."""
    asked_at: AwareDatetime
    ends_at: AwareDatetime | None = None
    """Until when an answer counts; none as long as it is not out."""
    closed_at: AwareDatetime | None = None
    way: str = ""
    """How it was answered: chat, sms, page or team."""
    said: str = ""
    reply: str = ""
    """The last reply that was no answer."""
    late_answer: str = ""


class NoteAnswer(Model):
    """An answer that the customer gave to somebody, by its key."""

    answer: str = Field(max_length=60)


class Parcel(Model):
    """A parcel, and how far it is."""

    id: int
    number: str
    carrier: str = ""
    """The carrier's key; its name as it was told, where it is none that is set up."""
    stage: str = ""
    """`label_printed`, `picked_up`, `in_transit`, `out_for_delivery`, `ready_to_collect`, `delivered`, `failed` or
    `returned`; empty where nothing was told.
    """
    estimated: bool = False
    """Whether it only counts as delivered, because its time has passed and nothing else was told."""
    trouble: str = ""
    """`late`, `lost` or `failed`, as long as it is."""
    expected_on: dt.date | None = None
    delivered_at: AwareDatetime | None = None
    orders: list[str] = Field(default_factory=list)
    """The numbers of the orders that are in it."""


class Parcels(Page):
    items: list[Parcel]


class ParcelsQuery(Model):
    stage: str = Field("", max_length=30)
    carrier: str = Field("", max_length=100)
    trouble: Literal["", "late", "lost", "failed", "any"] = ""
    number: str = Field("", max_length=60)
    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=200)


class TellParcel(Model):
    number: str = Field(min_length=1, max_length=60)
    carrier: str = Field("", max_length=100)
    """A carrier's key or name; without it the number says whose it is, where it does."""
    order: str = Field("", max_length=200)
    """The number of the order that it is for; not needed for a parcel that is known."""
    status: str = Field("", max_length=200)
    """How far it is, in the carrier's words or as a stage; without it the parcel is only added."""
    at: AwareDatetime | None = None
    """Since when; now, where that is not said."""
    expected_on: dt.date | None = None
    place: str = Field("", max_length=100)
    items: list[str] = Field(default_factory=list, max_length=100)
    """The skus, else the names, of what is in it; all of the order, where none is named."""
    silent: bool = False
    """Whether nobody is to hear of it."""


class TellParcels(Model):
    parcels: list[TellParcel] = Field(min_length=1, max_length=200)


class ParcelsTold(Model):
    taken: int
    problems: list[Problem] = Field(default_factory=list)
    """What was not taken, each with its place in the list."""


class Document(Model):
    """An invoice or credit note. Amounts are decimals, as they are printed."""

    id: int
    number: str
    kind: Literal["invoice", "credit"]
    day: dt.date
    order_id: int | None = None
    order: str = ""
    """The order's number; its order may be kept no longer."""
    buyer: str = ""
    country: str
    """Whose tax it is under."""
    rule: str
    currency: str
    net: str
    tax: str
    gross: str
    taken_back: bool = False
    """Whether all of an invoice was taken back."""
    corrects_id: int | None = None


class Documents(Page):
    items: list[Document]


class DocumentsQuery(Model):
    kind: Literal["", "invoice", "credit"] = ""
    country: str = Field("", max_length=2)
    rule: str = Field("", max_length=30)
    month: str = Field("", pattern=r"^(\d{4}-(0[1-9]|1[0-2]))?$")
    words: str = Field("", max_length=60)
    """Its number, its order's number, or a part of the buyer's name (of the newest 10,000)."""
    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=200)


class DocumentReason(Model):
    """Why a figure is as it is."""

    what: str
    figure: str
    why: str


class DocumentDetails(Document):
    """A document with the reason of each figure and its files."""

    reasons: list[DocumentReason] = Field(default_factory=list)
    pdf: str = ""
    """Its PDF in base64; empty where it could not be drawn just now."""
    xml: str = ""
    """The same figures by EN 16931; empty where that has no form for them."""


class MakeInvoice(Model):
    """For whom; what is null is as the order has it. An address is taken as a whole."""

    name: str | None = Field(None, max_length=200)
    company: str | None = Field(None, max_length=200)
    lines: list[str] | None = Field(None, max_length=6)
    postcode: str | None = Field(None, max_length=40)
    city: str | None = Field(None, max_length=200)
    country: str | None = Field(None, pattern=r"^[A-Z]{2}$")
    tax_number: str | None = Field(None, max_length=60)
    email: str = Field("", max_length=254)
    """Where it goes, if not to the order's own address."""
    replace: bool = False
    """Whether an invoice for another buyer is taken back and replaced."""


class ImportedRow(Model):
    row: int
    """Counted from 1, the heading among them."""
    problem: str


class Import(Model):
    """A file whose rows are orders, and how far it is imported."""

    id: int
    name: str
    state: str
    """looked_at, waiting, running, done, stopped, failed"""
    rows: int
    """Orders that were gone through."""
    new: int
    """Those that were new, or had changed."""
    failed: int
    problem: str = ""
    not_imported: list[ImportedRow] = Field(default_factory=list)
    """The first hundred rows that were not imported, with the reason."""


class OrderDetails(Order):
    """An order with its events, its sends, its parcels and what was asked."""

    events: list[Event] = Field(default_factory=list)
    sends: list[Send] = Field(default_factory=list)
    questions: list[Question] = Field(default_factory=list)
    parcels: list[Parcel] = Field(default_factory=list)


class Orders(Page):
    items: list[Order]


class ListQuery(Model):
    words: str = Field("", max_length=200)
    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=200)


class Suppression(Model):
    id: int
    address: str
    """`email:` or `phone:` and the address."""
    why: str = ""
    since: AwareDatetime
    scope: str = ""
    """What is not sent: everything, `optional` messages, or `notice:` and one message's key."""


class Consent(Model):
    """What somebody has said about being written to by a channel, and the proof."""

    channel: str
    address: str
    granted: bool
    at: AwareDatetime
    where: str
    words: str = ""


class NoteConsent(Model):
    address: str = Field(max_length=320)
    channel: Literal["email", "sms", "chat"]
    granted: bool
    where: str = Field(min_length=1, max_length=300)
    """Where they said so: a page, a form, a counter."""
    words: str = Field("", max_length=2000)
    """The words that they agreed to."""


class SetTag(Model):
    tag: str = Field(min_length=1, max_length=40)
    on: bool = True


class People(Page):
    items: list[Person]


class PersonDetails(Person):
    """A customer with what is known of them."""

    tags: list[str] = Field(default_factory=list)
    kept: dict[str, str] = Field(default_factory=dict)
    """The last value of every variable that is kept with customers, as people read it."""
    spent: list[str] = Field(default_factory=list)
    """What the orders come to, a sum for each currency; without those that were cancelled or paid back."""
    orders: list[Order] = Field(default_factory=list)
    suppressions: list[Suppression] = Field(default_factory=list)
    consents: list[Consent] = Field(default_factory=list)


class Suppressions(Page):
    items: list[Suppression]


class Suppress(Model):
    addresses: list[str] = Field(min_length=1, max_length=1000)
    why: str = Field("", max_length=300)
    scope: Literal["", "optional"] = ""
    """What is not sent any more: everything, or optional messages."""


class Suppressed(Model):
    added: int
    unknown: list[str] = Field(default_factory=list)
    """Those that are neither an email address nor a phone number."""


class Rehearse(Model):
    """A delivery that might come, and the route whose decision is asked for; all that are live where none is named."""

    source: str = Field(max_length=60)
    name: str = Field("", max_length=200)
    """The store's own name of the event, where it is not in the payload."""
    type: str = Field("", max_length=60)
    """The event type, in place of what the name means."""
    payload: Any
    route: str = Field("", max_length=60)
    at: AwareDatetime | None = None


class RehearsedSend(Model):
    state: str
    reason: str = ""
    channel: Channel
    recipient: str = ""
    message: str = ""
    gateway: str = ""
    locale: str = ""
    due_at: AwareDatetime
    text: str = ""


class RehearsedDecision(Decision):
    sends: list[RehearsedSend] = Field(default_factory=list)


class Rehearsed(Model):
    type: str
    decisions: list[RehearsedDecision]


class CheckOutcome(Model):
    key: str
    name: str
    route: str
    passed: bool
    differences: list[str] = Field(default_factory=list)


class Checked(Model):
    passed: bool
    checks: list[CheckOutcome]

    @classmethod
    def of(cls, outcomes: Iterable[Any]) -> Checked:
        """Of the outcomes of checks (angelon.core.planning.checking)."""
        checks = [
            CheckOutcome(
                key=one.check.key,
                name=one.check.name,
                route=one.check.route,
                passed=one.passed,
                differences=one.differences,
            )
            for one in outcomes
        ]
        return cls(passed=all(one.passed for one in checks), checks=checks)


class Setup(Model):
    """The whole set-up, without secrets: a bundle (docs/bundle.schema.json)."""

    bundle: dict[str, Any]
    etag: str


class SetupQuery(Model):
    dry_run: bool = False
    """Says what would change, and changes nothing."""


class SetupChanged(Model):
    dry_run: bool
    changes: list[str]
    """What was created or changed, a line for each thing."""
    differences: list[str] = Field(default_factory=list)
    """Each field that is another than before."""
    lacking: list[str] = Field(default_factory=list)
    left_off: list[str] = Field(default_factory=list)
    etag: str


class SetupPart(Model):
    spec: dict[str, Any]
    etag: str


class Nothing(Model):
    """No parameters."""


Moment = dt.datetime
OrderDetails.model_rebuild()
