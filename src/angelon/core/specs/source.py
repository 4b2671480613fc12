"""One inbound connection of a store: how its deliveries are checked, named and read."""

from __future__ import annotations

import re
from typing import Any, Literal

from pydantic import Field, field_validator, model_serializer, model_validator

from angelon.core.event_types import CHANGES, well_formed
from angelon.core.specs.base import Key, Name, OneLine, Spec, VariableName
from angelon.core.specs.enrichment import Enrichment
from angelon.core.specs.fetch import Fetch
from angelon.core.specs.file_form import Folder
from angelon.core.specs.mail_in import MailIn
from angelon.core.specs.variable import Recipe, Step, Type

READING: dict[str, tuple[Type, str]] = {
    "reference": (Type.TEXT, "what the store itself calls the order, never shown to a customer"),
    "number": (Type.TEXT, "the number that the customer sees"),
    "status": (Type.TEXT, "the order's status in the store's own words"),
    "payment_status": (Type.TEXT, "status of the payment, where the store reports it separately"),
    "fulfilment_status": (Type.TEXT, "status of packing and shipping, where the store reports it separately"),
    "return_status": (Type.TEXT, "what is coming back, where the store tells that apart"),
    "total": (Type.MONEY, "what the customer pays"),
    "discount": (Type.MONEY, "what was taken off the price"),
    "postage": (Type.MONEY, "what sending costs the customer"),
    "tax": (Type.MONEY, "the tax in the total, or on top of the lines"),
    "gift_card": (Type.MONEY, "what a gift card or voucher paid of it"),
    "currency": (Type.TEXT, "an ISO 4217 code"),
    "placed_at": (Type.DATE, "when the order was placed"),
    "changed_at": (Type.DATE, "when the store last changed it; tells late deliveries from new ones"),
    "customer_id": (Type.TEXT, "what the store calls the customer"),
    "name": (Type.TEXT, "the customer's name"),
    "company": (Type.TEXT, "the business that buys, where it is one"),
    "tax_number": (Type.TEXT, "the business's tax number"),
    "email": (Type.EMAIL, "where email goes"),
    "phone": (Type.PHONE, "where SMS goes"),
    "account": (Type.TEXT, "the customer's account at a chat provider that knows people by an id of its own"),
    "country": (Type.TEXT, "two letters (ISO 3166-1)"),
    "language": (Type.TEXT, "the customer's language, a BCP 47 tag"),
    "address": (Type.TEXT, "where the order goes, line by line"),
    "lines": (Type.LIST, "what was ordered"),
    "parcels": (Type.LIST, "what is on its way"),
}
"""The parts of a reading: type and meaning."""

LINE_PARTS = ("name", "sku", "quantity", "price")
"""The parts of a line that every source knows; a source may read others of its own besides (`category`)."""
PARCEL_PARTS = ("carrier", "number", "expected_on", "status", "at", "place", "order", "items")
"""The parts of a parcel that every source knows: `status` is how far it is, in the teller's words, since `at`, in
`place`; `order` is the number of the order that it is for, where the payload is not an order; `items` what is in it.
"""


class Locator(Spec):
    """Where a short text stands in a delivery: in a header, at a path, or fixed. Written short: `$.path` or `header:
    X`.
    """

    header: OneLine = ""
    path: str = Field("", max_length=500)
    fixed: OneLine = ""

    @model_validator(mode="before")
    @classmethod
    def _short(cls, data: Any) -> Any:
        return {"path": data} if isinstance(data, str) else data

    @model_validator(mode="after")
    def _one(self) -> Locator:
        if sum(bool(x) for x in (self.header, self.path, self.fixed)) > 1:
            raise ValueError("says more than one of header, path and fixed; keep one")
        return self

    @model_serializer
    def _long(self) -> dict[str, str]:
        return {k: v for k, v in (("header", self.header), ("path", self.path), ("fixed", self.fixed)) if v}


class Signing(Spec):
    """How a delivery proves that the store sent it.

    `hmac-sha256`: the header holds HMAC-SHA256 (RFC 2104) of the raw body, hex or base64, after an optional prefix;
    with `timestamp_header` the signed text is `timestamp.body` and the timestamp (seconds since 1970) may be off by
    `tolerance_seconds`. `standard-webhooks`: the Standard Webhooks specification, version 1. The secret itself is
    kept apart, encrypted.
    """

    scheme: Literal["none", "hmac-sha256", "standard-webhooks"] = "hmac-sha256"
    header: OneLine = "Store-Signature"
    encoding: Literal["hex", "base64"] = "hex"
    prefix: OneLine = ""
    timestamp_header: OneLine = ""
    tolerance_seconds: int = Field(300, ge=1, le=86400)


class Challenge(Spec):
    """How the store verifies the address: it sends a text that has to come back. `parameter` names it in query
    or body.
    """

    method: Literal["GET", "POST"] = "GET"
    parameter: OneLine = "challenge"


class SameOrders(Spec):
    """Another source that tells of the same orders, and what an order is recognised by."""

    source: Key
    by: Literal["number", "number_and_email", "reference"] = "number"


class Source(Spec):
    key: Key
    name: Name
    signing: Signing = Field(default_factory=Signing)
    delivery_id: Locator = Field(default_factory=Locator)
    event_name: Locator = Field(default_factory=Locator)
    tells: Literal["events", "orders"] = "events"
    """What a delivery says: what happened, by its name; or how an order is now. What happened then follows from what
    was known of the order, and one that is new here is `order.created`."""
    event_names: dict[str, str] = Field(default_factory=dict)
    statuses: dict[str, str] = Field(default_factory=dict)
    """What the words of the order's status mean, as event types; the three below are those of its other statuses."""
    payment_statuses: dict[str, str] = Field(default_factory=dict)
    fulfilment_statuses: dict[str, str] = Field(default_factory=dict)
    return_statuses: dict[str, str] = Field(default_factory=dict)
    orders_at: str = Field("", max_length=500)
    same_body_minutes: int = Field(10, ge=0, le=1440)
    max_bytes: int = Field(1_048_576, ge=1024, le=16_777_216)
    allow_from: list[OneLine] = Field(default_factory=list, max_length=100)
    challenge: Challenge | None = None
    country: str = Field("", pattern=r"^([A-Z]{2})?$")
    decimal_sign: Literal["", ".", ","] = ""
    """How numbers in text are written, where it was stated: what stands before the decimals."""
    reading: dict[str, Recipe] = Field(default_factory=dict)
    line: dict[str, Recipe] = Field(default_factory=dict)
    parcel: dict[str, Recipe] = Field(default_factory=dict)
    recipes: dict[VariableName, Recipe] = Field(default_factory=dict)
    shared_steps: dict[VariableName, list[Step]] = Field(default_factory=dict)
    """Steps kept under a name, for use in several recipes by the step `run`."""
    lookups: dict[VariableName, dict[str, str]] = Field(default_factory=dict)
    enrichments: list[Enrichment] = Field(default_factory=list, max_length=10)
    """What is asked elsewhere about each delivery before it is mapped."""
    fetch: Fetch | None = None
    """How its orders are fetched, where the store calls nobody."""
    mail: MailIn | None = None
    """How mails are read that are its deliveries."""
    folder: Folder | None = None
    """How files are read that are put in its folder."""
    same_orders: SameOrders | None = None
    on: bool = True

    def meanings(self, part: str) -> dict[str, str]:
        """What the words of one of an order's statuses (`status`, `payment_status`, …) mean, as event types."""
        found: dict[str, str] = getattr(self, f"{part}es")
        return found

    @property
    def knows_orders(self) -> bool:
        """Whether an order can be told from another: what is fetched or imported again is compared with what it said
        last.
        """
        return bool({"reference", "number"} & self.reading.keys())

    @property
    def is_of_parcels(self) -> bool:
        """Whether its deliveries are about parcels and no orders, so that they need no event names."""
        return "parcels" in self.reading and not {"reference", "number"} & self.reading.keys()

    @property
    def needs_no_names(self) -> bool:
        """Whether what happened is known without a name: its deliveries are about parcels, or say how orders are."""
        return self.is_of_parcels or self.tells == "orders"

    @property
    def is_fetched(self) -> bool:
        """Whether its orders are fetched just now."""
        return self.on and self.fetch is not None and self.fetch.on

    def event_types(self) -> list[str]:
        """Every type of event that something of it means."""
        return [*self.event_names.values(), *(type_ for part in CHANGES for type_ in self.meanings(part).values())]

    @model_validator(mode="after")
    def _one_by_one(self) -> Source:
        if (self.fetch or self.folder or self.mail) is not None and self.orders_at:
            raise ValueError(
                "takes orders one by one, fetched, from files or mails, and says that a delivery holds several: empty "
                "the path of the list"
            )
        return self

    @field_validator("event_names", "statuses", "payment_statuses", "fulfilment_statuses", "return_statuses")
    @classmethod
    def _types(cls, names: dict[str, str]) -> dict[str, str]:
        for theirs, ours in names.items():
            if not well_formed(ours):
                raise ValueError(
                    f"maps “{theirs}” to “{ours}”, which is no event type: write it dotted, like order.created"
                )
        return names

    @field_validator("reading")
    @classmethod
    def _parts(cls, parts: dict[str, Recipe]) -> dict[str, Recipe]:
        return _known(parts, READING)

    @field_validator("line")
    @classmethod
    def _line(cls, parts: dict[str, Recipe]) -> dict[str, Recipe]:
        return _known_or_own(parts, LINE_PARTS)

    @field_validator("parcel")
    @classmethod
    def _parcel(cls, parts: dict[str, Recipe]) -> dict[str, Recipe]:
        return _known_or_own(parts, PARCEL_PARTS)

    @field_validator("allow_from")
    @classmethod
    def _networks(cls, networks: list[str]) -> list[str]:
        import ipaddress

        for network in networks:
            try:
                ipaddress.ip_network(network, strict=False)
            except ValueError:
                raise ValueError(f"“{network}” is no IP address or network (write 192.0.2.0/24)") from None
        return networks

    @field_validator("enrichments")
    @classmethod
    def _told_apart(cls, enrichments: list[Enrichment]) -> list[Enrichment]:
        names = [one.name for one in enrichments]
        if len(set(names)) < len(names):
            raise ValueError("has two enrichments of one name; each answer needs its own")
        return enrichments


_OWN_PART = re.compile(r"[a-z][a-z0-9_]{0,59}\Z")


def _known_or_own(parts: dict[str, Recipe], known: tuple[str, ...]) -> dict[str, Recipe]:
    """Parts of a line or parcel: those that are known, and others under names that a text can use."""
    for name in parts:
        if name not in known and not _OWN_PART.match(name):
            raise ValueError(
                f"“{name}” can't name a part: write it in small letters, digits and underscores, like category"
            )
    return parts


def _known(parts: dict[str, Recipe], known: Any) -> dict[str, Recipe]:
    for name in parts:
        if name not in known:
            raise ValueError(f"“{name}” is no part of it; the parts are {', '.join(known)}")
    return parts
