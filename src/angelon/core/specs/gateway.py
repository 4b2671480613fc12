"""A way out. Credentials are kept apart, encrypted; a spec never holds one."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Any, Literal

from email_validator import EmailNotValidError
from pydantic import Field, PlainSerializer, field_validator, model_validator

from angelon.core.addresses import check_email
from angelon.core.retries import RetryPolicy
from angelon.core.specs.base import Key, Name, OneLine, Spec


class Sender(Spec):
    """Who a mail comes from."""

    address: str = Field(max_length=254)
    name: OneLine = ""
    reply_to: str = Field("", max_length=254)
    verified: bool = False
    """Whether somebody has read a code at the address and typed it in."""

    @field_validator("address", "reply_to")
    @classmethod
    def _address(cls, address: str) -> str:
        if not address:
            return address
        try:
            return check_email(address)
        except EmailNotValidError as error:
            raise ValueError(f"is no email address: {error}") from None


class Limits(Spec):
    """What an email gateway lets through. `types` are media types as found in the content itself, not by a
    file's name.
    """

    attachments: int = Field(10, ge=0, le=100)
    total_bytes: int = Field(10_000_000, ge=0, le=50_000_000)
    types: list[OneLine] = Field(
        default_factory=lambda: [
            "application/pdf",
            "image/png",
            "image/jpeg",
            "image/gif",
            "text/plain",
            "text/calendar",
        ],
        max_length=50,
    )


class HttpCall(Spec):
    """One HTTP request and where its answer says how it went.

    Address, headers and body are templates over what is sent (`to`, `text`, `key`, …); in a JSON body every value goes
    through `| json`, in a form through `| urlencode`. The `_at` fields are JSONPaths (RFC 9535) into a JSON answer. An
    answer of 2xx whose outcome is in `refused` counts as refused for good, one in `later` as not now.
    """

    method: Literal["POST", "PUT", "GET"] = "POST"
    url: str = Field("", max_length=2000)
    headers: dict[str, OneLine] = Field(default_factory=dict)
    content_type: Literal["application/json", "application/x-www-form-urlencoded"] = "application/json"
    body: str = Field("", max_length=20_000)
    id_at: str = Field("", max_length=300)
    outcome_at: str = Field("", max_length=300)
    refused: list[OneLine] = Field(default_factory=list, max_length=50)
    later: list[OneLine] = Field(default_factory=list, max_length=50)
    reason_at: str = Field("", max_length=300)

    @field_validator("url")
    @classmethod
    def _address(cls, url: str) -> str:
        if url and not url.lower().startswith(("https://", "http://")):
            raise ValueError("has to start with https:// or http://")
        return url


class Auth(Spec):
    """How a request shows who it is from. The secret itself is kept apart: a password, a bearer token (RFC 6750), a
    header's value, the key of a signature over the body (`hmac`: hex of HMAC-SHA256 in the header; or Standard
    Webhooks), or the client secret with which a token is asked for (`oauth`: RFC 6749, section 4.4, `username` being
    the client's id).
    """

    scheme: Literal["none", "basic", "bearer", "header", "hmac", "standard-webhooks", "oauth"] = "none"
    username: OneLine = ""
    header: OneLine = ""
    token_url: str = Field("", max_length=2000)
    """Where a token is asked for."""
    scope: OneLine = ""

    @field_validator("token_url")
    @classmethod
    def _token_address(cls, url: str) -> str:
        if url and not url.lower().startswith(("https://", "http://")):
            raise ValueError("has to start with https:// or http://")
        return url


class ApprovedTexts(Spec):
    """How a chat provider is asked for the texts that it has approved already, and where its answer says what.

    `items_at` is the place of every text; the others are JSONPaths (RFC 9535) within one. Gaps of a text are written
    `{1}` or `{{1}}`; a header is a text, or an object with `text` or `url`.
    """

    call: HttpCall
    items_at: str = Field("$.texts[*]", max_length=300)
    id_at: str = Field("$.id", max_length=300)
    name_at: str = Field("$.name", max_length=300)
    language_at: str = Field("$.language", max_length=300)
    category_at: str = Field("$.category", max_length=300)
    state_at: str = Field("$.state", max_length=300)
    header_at: str = Field("$.header", max_length=300)
    body_at: str = Field("$.body", max_length=300)
    footer_at: str = Field("$.footer", max_length=300)
    buttons_at: str = Field("$.buttons", max_length=300)
    samples_at: str = Field("$.samples", max_length=300)


class Review(Spec):
    """How a chat provider is asked to approve a text, and how it is asked what became of it.

    `submit` gets `text_key`, `locale`, `category`, `header`, `body`, `footer`, `buttons`, `samples`; `look` gets `id`,
    the provider's own. `approved` and `rejected` are the address at the outcome's path. `texts` lists what the provider
    has approved already.
    """

    submit: HttpCall
    look: HttpCall
    texts: ApprovedTexts | None = None
    approved: list[OneLine] = Field(default_factory=lambda: ["approved"])
    rejected: list[OneLine] = Field(default_factory=lambda: ["rejected"])


class Receipts(Spec):
    """How a provider tells later what became of a message: where in what it posts the id and the word stand, and what
    each word means.

    `text_at` is where the reason of a failure, or the text of an answer, stands.
    """

    id_at: str = Field("$.id", max_length=300)
    state_at: str = Field("$.state", max_length=300)
    text_at: str = Field("$.text", max_length=300)
    delivered: list[OneLine] = Field(default_factory=lambda: ["delivered"])
    read: list[OneLine] = Field(default_factory=lambda: ["read"])
    failed: list[OneLine] = Field(default_factory=lambda: ["failed", "undelivered"])
    answered: list[OneLine] = Field(default_factory=lambda: ["answered"])
    complained: list[OneLine] = Field(default_factory=lambda: ["complained"])
    from_at: str = Field("", max_length=300)
    """Where the number or account stands of who answers; needed for answers that belong to no send."""


Price = Annotated[Decimal, Field(ge=0, le=1000, decimal_places=6), PlainSerializer(str, when_used="json")]


class Quota(Spec):
    """How much a gateway may take; 0 for no limit. What is more waits, and goes by itself when it may."""

    per_second: float = Field(0, ge=0, le=10_000)
    """Sends a second, over all workers; a second's worth may go at once."""
    per_day: int = Field(0, ge=0, le=100_000_000)
    """Tries in a day of the shop's."""
    per_month: int = Field(0, ge=0, le=1_000_000_000)
    connections: int = Field(0, ge=0, le=64)
    """Connections at the same time, in each process that sends."""
    warn_below: Price = Decimal(0)
    """The credit from which on the team is warned, in the store's currency."""

    @property
    def limits(self) -> bool:
        return bool(self.per_second or self.per_day or self.per_month)


class Gateway(Spec):
    """An SMTP server (RFC 5321), an SMS or chat provider over HTTP, or another system that is called (`call`): of its
    `call` the address goes before each request's path, and the headers before its own.

    `tls`: `none`, `starttls` (RFC 3207), or `implicit` (RFC 8314). `price` is for one segment of SMS or one chat
    message, in the store's currency; `max_segments` the most that one SMS may take.
    """

    key: Key
    name: Name
    kind: Literal["smtp", "sms", "chat", "call"] = "smtp"
    host: OneLine = "localhost"
    port: int = Field(25, ge=1, le=65535)
    tls: Literal["none", "starttls", "implicit"] = "none"
    username: OneLine = ""
    timeout_seconds: float = Field(20, gt=0, le=40)
    sender: Sender | None = None
    limits: Limits = Field(default_factory=Limits)
    dkim: bool = False
    """Whether Angelon signs its mails (DKIM), for a server that does not: each From domain by a key of its own."""
    return_path: OneLine = ""
    """Where mail servers send mails back to that they could not deliver, such as bounces@mail.shop.example: each send's
    own address is made of it, which Angelon has to receive. Empty for the sender's own.
    """
    sender_id: OneLine = ""
    """What an SMS or chat message comes from, in the provider's own terms: a name, a number, an account."""
    addresses: Literal["phone", "account"] = "phone"
    """What a chat provider knows people by: their phone number, or an account's id of its own (`order.account`)."""
    call: HttpCall = Field(default_factory=HttpCall)
    auth: Auth = Field(default_factory=Auth)
    review: Review | None = None
    receipts: Receipts | None = None
    price: Price = Decimal(0)
    attachment_price: Price = Decimal(0)
    """What each attached file costs besides."""
    max_segments: int = Field(4, ge=1, le=30)
    quota: Quota = Field(default_factory=Quota)
    balance_at: str = Field("", max_length=300)
    """Where a provider's answer to a message tells what credit is left (JSONPath), in the store's currency."""
    retry: RetryPolicy = Field(default_factory=RetryPolicy)
    paused: bool = False
    untried: bool = False
    """Whether it is new, and nobody has seen its connection work: nothing goes out until then."""

    @field_validator("return_path")
    @classmethod
    def _return_path(cls, address: str) -> str:
        if not address:
            return address
        try:
            checked = check_email(address)
        except EmailNotValidError as error:
            raise ValueError(f"is no email address: {error}") from None
        if "+" in checked or len(checked.partition("@")[0]) > 12:
            raise ValueError("has to have a short local part without a plus sign, such as bounces@mail.shop.example")
        return checked

    @model_validator(mode="before")
    @classmethod
    def _whole(cls, data: Any) -> Any:
        if isinstance(data, dict):
            kind = data.get("kind", "smtp")
            if kind == "smtp" and not data.get("sender"):
                raise ValueError("needs a sender: the address that its mails come from")
            if kind == "smtp" and "host" in data and not data["host"] and not data.get("untried"):
                raise ValueError("needs a host: the mail server's name")
        return data

    @property
    def off(self) -> str:
        """Why nothing goes out through it, as the end of a sentence; empty where it does."""
        return "is paused" if self.paused else "was not tried yet" if self.untried else ""

    def cost(self, pieces: int, files: int = 0) -> Decimal:
        """What a message of some pieces with some attached files costs, in the store's currency."""
        return Decimal(self.price) * pieces + Decimal(self.attachment_price) * files

    @property
    def is_counted(self) -> bool:
        """Whether what it sends is counted: it has a limit, or a send costs something."""
        return bool(self.quota.limits or self.price or self.attachment_price)

    @property
    def channel(self) -> str:
        return {"smtp": "email"}.get(self.kind, self.kind)
