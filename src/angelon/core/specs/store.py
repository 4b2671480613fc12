"""One shop: what everything else belongs to."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable
from typing import Annotated, Literal, get_args
from zoneinfo import available_timezones

from email_validator import EmailNotValidError
from pydantic import Field, StringConstraints, field_validator

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.specs.alerts import Alerts
from angelon.core.specs.base import Key, Locale, Name, OneLine, Spec, VariableName
from angelon.core.specs.carrier import Carrier, Country
from angelon.core.specs.condition import Group
from angelon.core.specs.documents import Documents
from angelon.core.specs.gateway import Sender
from angelon.core.specs.message import Message

Colour = Annotated[str, StringConstraints(pattern=r"^#[0-9a-fA-F]{6}$")]
"""A colour as CSS writes it: `#0E5A55`."""


@functools.cache
def _zones() -> frozenset[str]:
    """The time zones of the IANA database by name. To find them, its whole folder is walked through."""
    return frozenset(available_timezones())


FixedWord = Literal[
    "total",
    "postage",
    "discount",
    "tax",
    "tax_within",
    "packed",
    "on_its_way",
    "at_your_door",
    "delivered",
    "expected",
    "leave_why",
    "leave_link",
]


class Letterhead(Spec):
    """What all of a store's emails share. `logo` is a file of the library (`library:shelf/name`), `logo_width` in CSS
    pixels.
    """

    accent: Colour = "#0E5A55"
    page: Colour = "#F4F1E9"
    """What stands behind the mail."""
    body: Colour = "#FFFDF7"
    """What its text stands on."""
    ink: Colour = "#1D232C"
    """Its text."""
    font: Literal["sans-serif", "serif", "monospace"] = "sans-serif"
    logo: OneLine = ""
    logo_alt: OneLine = ""
    logo_width: int = Field(160, ge=24, le=552)
    header: OneLine = ""
    signature: str = Field("", max_length=2000)
    footer: str = Field("", max_length=2000)
    subject_prefix: OneLine = ""
    cc: OneLine = ""
    bcc: OneLine = ""
    """Addresses that get a copy of every mail, parted by commas."""
    fixed_words: dict[Locale, dict[FixedWord, OneLine]] = Field(default_factory=dict, max_length=60)
    """What blocks say by themselves, by language, where the shop says it otherwise than we do (`fixed_words.py`)."""


class ShopSender(Sender):
    """An address that mails come from, with a name and an address for replies: chosen by messages and routes."""

    key: Key

    def called(self, shop: str) -> str:
        """How lists to choose from call it; `shop` is the shop's name."""
        return f"{self.name or shop} <{self.address}>{'' if self.verified else ', not verified'}"


class TeamMember(Spec):
    """Somebody of the shop: gets test sends, and what routes send to their role."""

    name: Name
    role: OneLine = ""
    """What they do, such as owner or packer."""
    email: str = Field("", max_length=254)
    phone: str = Field("", max_length=40)

    @field_validator("email")
    @classmethod
    def _email(cls, address: str) -> str:
        if not address:
            return address
        try:
            return check_email(address)
        except EmailNotValidError as error:
            raise ValueError(f"is no email address: {error}") from None

    @field_validator("phone")
    @classmethod
    def _phone(cls, number: str) -> str:
        if not number:
            return number
        try:
            return phone_text(read_phone(number, None))
        except BadPhone as error:
            raise ValueError(f"is no phone number in the international form: {error}") from None

    def address(self, channel: str) -> str:
        """Where they are written to on a channel; empty where nowhere."""
        return self.email if channel == "email" else self.phone


class Rules(Spec):
    """What no message of the store may say or point to."""

    forbidden: list[OneLine] = Field(default_factory=list, max_length=200)
    """Phrases, in any case."""
    link_hosts: list[OneLine] = Field(default_factory=list, max_length=200)
    """Where links may go: these hosts and the hosts under them; anywhere where there is none."""


class RuleSet(Rules):
    """Rules for one channel, or for what some routes send; for both where both are named."""

    channel: Literal["", "email", "sms", "chat", "call"] = ""
    routes: list[Key] = Field(default_factory=list, max_length=50)

    def applies(self, channel: str, routes: Iterable[str]) -> bool:
        """Whether it counts for a text of a channel that these routes send."""
        return (not self.channel or self.channel == channel) and (
            not self.routes or not set(self.routes).isdisjoint(routes)
        )


SuppressedBy = Literal["bounce", "complaint", "stop"]


class SignUp(Spec):
    """A page where customers agree to be written to by a channel: by every message, or by one about their order.
    `words` are what they agree to, and are kept with the consent.
    """

    key: Key
    channel: Literal["email", "sms", "chat"] = "sms"
    message: str = Field("", max_length=60)
    """The key of the one message that the permission is for, which is used up by it; empty for all."""
    title: dict[Locale, OneLine] = Field(default_factory=dict)
    about: dict[Locale, Annotated[str, StringConstraints(max_length=2000)]] = Field(default_factory=dict)
    words: dict[Locale, OneLine] = Field(default_factory=dict)
    thanks: dict[Locale, OneLine] = Field(default_factory=dict)


class ParcelNotice(Spec):
    """What is said above parcels by some carriers, or to some countries, such as a strike; all where none is named."""

    carriers: list[Key] = Field(default_factory=list, max_length=50)
    countries: list[Country] = Field(default_factory=list, max_length=250)
    text: dict[Locale, Annotated[str, StringConstraints(max_length=1000)]] = Field(default_factory=dict)

    @field_validator("text")
    @classmethod
    def _says_something(cls, text: dict[str, str]) -> dict[str, str]:
        if not text:
            raise ValueError("says nothing: write its text, or leave out the carrier and the countries")
        return text

    def meets(self, carrier: str, country: str) -> bool:
        return (not self.carriers or carrier in self.carriers) and (not self.countries or country in self.countries)


class PageTexts(Spec):
    """What the pages that customers see say besides: a notice above, such as holidays, and a footer, by language."""

    notice: dict[Locale, Annotated[str, StringConstraints(max_length=1000)]] = Field(default_factory=dict)
    footer: dict[Locale, Annotated[str, StringConstraints(max_length=2000)]] = Field(default_factory=dict)
    why: bool = False
    """Whether each mail has a link to the page that says why it came."""
    sign_ups: list[SignUp] = Field(default_factory=list, max_length=20)
    follow: bool = False
    """Whether customers follow their parcels on a page of the shop's."""
    follow_title: dict[Locale, OneLine] = Field(default_factory=dict)
    follow_none: dict[Locale, Annotated[str, StringConstraints(max_length=1000)]] = Field(default_factory=dict)
    """What is said of an order that has no parcel yet."""
    follow_quiet: dict[Locale, Annotated[str, StringConstraints(max_length=1000)]] = Field(default_factory=dict)
    """What is said of a parcel of which nothing was told yet."""
    follow_sign_up: str = Field("", max_length=60)
    """The key of the sign-up page whose permission that page offers: to be told when a parcel is out for delivery."""
    follow_notices: list[ParcelNotice] = Field(default_factory=list, max_length=50)

    @field_validator("sign_ups")
    @classmethod
    def _each_its_own(cls, pages: list[SignUp]) -> list[SignUp]:
        keys = [page.key for page in pages]
        if len(set(keys)) < len(keys):
            raise ValueError("has two sign-up pages with the same key; give each its own")
        if "logo" in keys:
            raise ValueError("has a sign-up page with the key “logo”, which is the shop’s picture; choose another")
        return pages


class CustomerPages(PageTexts):
    """The texts as they are live, and as somebody is changing them."""

    draft: PageTexts | None = None

    @property
    def current(self) -> PageTexts:
        """The draft, where there is one."""
        return self.draft or PageTexts.model_validate(self.model_dump(exclude={"draft"}))


class Keep(Spec):
    """How many days what is old is kept; 0 for ever."""

    bodies_days: int = Field(0, ge=0, le=3660)
    """The bodies of deliveries, and those that were refused; pinned samples stay."""
    contents_days: int = Field(0, ge=0, le=3660)
    """What was sent, word by word."""
    archive_days: int = Field(30, ge=0, le=3660)
    """After how many days that is moved to the archive, where there is one (ANGELON_ARCHIVE); 0 never."""
    attempts_days: int = Field(0, ge=0, le=3660)
    """The tries of sends that are settled."""
    traces_days: int = Field(0, ge=0, le=3660)
    """Why sends were made as they were."""
    orders_days: int = Field(0, ge=0, le=3660)
    """Orders with all that belongs to them, their figures too, counted from their last event or send."""


class Segment(Spec):
    """Customers that have something in common, under a name: conditions that routes can ask for."""

    key: VariableName
    name: Name
    holds: Group = Field(default_factory=Group)


class Store(Spec):
    key: Key
    name: Name
    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")] = "EUR"
    locale: Locale = "en"
    locales: list[Locale] = Field(default_factory=list, max_length=60)
    """The languages that the shop speaks besides its own; messages are expected in all of them."""
    timezone: str = "UTC"
    country: str = Field("", pattern=r"^([A-Z]{2})?$")
    support_email: OneLine = ""
    """Where customers write to: in texts `shop.email`, and where replies go."""
    support_phone: OneLine = ""
    """Where customers call: `shop.phone`."""
    website: str = Field("", max_length=300)
    hours: OneLine = ""
    """When somebody answers, in words: `shop.hours`."""
    base_url: str = Field("", max_length=300)
    """Where this Angelon can be reached from outside, where that was not set for the whole installation."""
    reader_times: Literal["shop", "reader"] = "shop"
    """Whose time zone the times in messages to customers are in."""
    senders: list[ShopSender] = Field(default_factory=list, max_length=50)
    letterhead: Letterhead = Field(default_factory=Letterhead)
    pages: CustomerPages = Field(default_factory=CustomerPages)
    rules: Rules = Field(default_factory=Rules)
    more_rules: list[RuleSet] = Field(default_factory=list, max_length=50)
    """Rules that count for a channel or for some routes besides those for everything."""
    documents: Documents = Field(default_factory=Documents)
    """How its invoices are worked out."""
    alerts: Alerts = Field(default_factory=Alerts)
    """Who hears of trouble with this installation."""
    carriers: list[Carrier] = Field(default_factory=list, max_length=300)
    """Who brings the shop's parcels."""
    team: list[TeamMember] = Field(default_factory=list, max_length=50)
    private_hosts: list[OneLine] = Field(default_factory=list, max_length=50)
    """Hosts that may be fetched from although their addresses are private (RFC 6890)."""
    segments: list[Segment] = Field(default_factory=list, max_length=100)
    consent: dict[Literal["email", "sms", "chat"], VariableName] = Field(default_factory=dict)
    """For each channel that customers have to have agreed to: the variable that says whether they have."""
    consent_covers: Literal["all", "optional"] = "all"
    """Which messages need that consent: all, or the optional ones only."""
    suppress_on: list[SuppressedBy] = Field(default_factory=lambda: list(get_args(SuppressedBy)), max_length=3)
    """What suppresses an address by itself: mail that came back for good, a complaint, an answer such as STOP."""
    leave_on: list[str] = Field(default_factory=list, max_length=20)
    """Event types after which the order's customer gets no optional message any more, such as return.received."""
    said_elsewhere: dict[OneLine, OneLine] = Field(default_factory=dict, max_length=60)
    """What customers hear of a moment from others, by event type: the store's own mail, the carrier's text. Nothing is
    sent by it; the overview shows it, so that doubles across systems are seen.
    """
    good_for: dict[OneLine, Annotated[int, Field(ge=1, le=8760)]] = Field(default_factory=dict, max_length=60)
    """For how many hours a send about an event of a type may go out after it is due, such as 12 for
    shipment.out_for_delivery; a message's own span counts besides, and the shorter one holds.
    """
    keep: Keep = Field(default_factory=Keep)
    echo_minutes: int = Field(10, ge=0, le=1440)
    """Within how long two routes must not tell the same person by the same channel about the same delivery."""

    def hours_for(self, message: Message | None, event_type: str) -> int:
        """For how many hours after it is due a message about an event may go out; 0 for ever."""
        spans = (message.good_for_hours if message is not None else 0, self.good_for.get(event_type, 0))
        return min((span for span in spans if span), default=0)

    def consent_for(self, channel: str) -> str:
        """The variable that says whether a customer has agreed to a channel; empty where the channel needs none."""
        return next((name for key, name in self.consent.items() if key == channel), "")

    def carrier(self, key: str) -> Carrier | None:
        return next((one for one in self.carriers if one.key == key), None)

    def rules_for(self, channel: str, routes: Iterable[str]) -> list[Rules]:
        """The rules that count for a text of a channel that these routes send."""
        return [self.rules, *(rules for rules in self.more_rules if rules.applies(channel, routes))]

    @field_validator("website", "base_url")
    @classmethod
    def _address(cls, address: str) -> str:
        if address and not re.fullmatch(r"https?://[^\s/?#]+(/\S*)?", address):
            raise ValueError("has to be a whole web address, such as https://shop.example")
        return address.rstrip("/")

    @field_validator("carriers")
    @classmethod
    def _each_its_key(cls, carriers: list[Carrier]) -> list[Carrier]:
        keys = [carrier.key for carrier in carriers]
        if len(set(keys)) < len(keys):
            raise ValueError("has two carriers with the same key; give each its own")
        return carriers

    @field_validator("senders")
    @classmethod
    def _told_apart(cls, senders: list[ShopSender]) -> list[ShopSender]:
        keys = [sender.key for sender in senders]
        if len(set(keys)) < len(keys):
            raise ValueError("has two senders of one key; give each its own")
        return senders

    @field_validator("timezone")
    @classmethod
    def _zone(cls, zone: str) -> str:
        if zone not in _zones():
            raise ValueError(f"“{zone}” is no time zone of the IANA database (write Europe/Dublin)")
        return zone
