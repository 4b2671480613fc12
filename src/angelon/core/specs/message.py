"""What is said, by channel and locale."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal, get_args

from pydantic import Field, model_validator

from angelon.core.specs.base import ChannelKey, Key, Locale, Name, OneLine, SetupTag, Spec, VariableName
from angelon.core.specs.marks import Marks

CHANNELS: tuple[str, ...] = get_args(ChannelKey)


class _Block(Spec):
    only_if: VariableName | None = None
    """The variable that has to have a value for the block to appear."""


class Heading(_Block):
    kind: Literal["heading"]
    text: str = Field("", max_length=500)


class Text(_Block):
    """Paragraphs. A blank line parts them; `**strong**` and `_emphasis_` mark words; `[words](address)` is a link."""

    kind: Literal["text"]
    text: str = Field("", max_length=20_000)


class Button(_Block):
    kind: Literal["button"]
    text: str = Field("", max_length=200)
    url: str = Field("", max_length=2000)


class Lines(_Block):
    """The order's lines as a table: name, quantity, price; then the total, where there is one."""

    kind: Literal["lines"]
    total: bool = True


class Address(_Block):
    """Where the order goes, line by line, as the source reads it (`order.address`)."""

    kind: Literal["address"]
    title: str = Field("", max_length=200)


class Parcel(_Block):
    """What is on its way: carrier, number and day of each parcel, and how far the order has come on its line."""

    kind: Literal["parcel"]
    progress: bool = True


class Answers(_Block):
    """A button for each answer of the message's question; each leads to the page where it is given."""

    kind: Literal["answers"]


class Divider(_Block):
    kind: Literal["divider"]


class Image(_Block):
    """A picture: from a web address, or out of the store's files as `library:shelf/name`, which travels in the mail."""

    kind: Literal["image"]
    src: str = Field("", max_length=2000)
    alt: str = Field("", max_length=300)
    width: int = Field(552, ge=16, le=1200)


class Mjml(_Block):
    """MJML of one's own: what may stand in a column."""

    kind: Literal["mjml"]
    mjml: str = Field("", max_length=50_000)


Piece = Annotated[
    Heading | Text | Button | Lines | Address | Parcel | Answers | Divider | Image | Mjml, Field(discriminator="kind")
]


class Columns(_Block):
    """Two columns side by side; one under the other where it is narrow."""

    kind: Literal["columns"]
    left: list[Piece] = Field(default_factory=list, max_length=20)
    right: list[Piece] = Field(default_factory=list, max_length=20)


Block = Annotated[
    Heading | Text | Button | Lines | Address | Parcel | Answers | Divider | Image | Mjml | Columns,
    Field(discriminator="kind"),
]


class EmailText(Spec):
    """An email in one locale. `html` is a page of one's own in place of the blocks; `text` replaces the made plain
    text.
    """

    subject: OneLine = ""
    preheader: OneLine = ""
    blocks: list[Block] = Field(default_factory=list, max_length=100)
    html: str = Field("", max_length=300_000)
    text: str = Field("", max_length=50_000)
    text_only: bool = False
    """Whether the mail has no HTML at all: `text` is all of it, with the letterhead's signature and footer under it."""

    def pieces(self) -> Iterator[tuple[str, Any]]:
        """Every block with its place: `blocks.3`, and inside columns `blocks.3.left.0`."""
        for number, block in enumerate(self.blocks):
            yield f"blocks.{number}", block
            if isinstance(block, Columns):
                for side in ("left", "right"):
                    for inner, piece in enumerate(getattr(block, side)):
                        yield f"blocks.{number}.{side}.{inner}", piece


class Envelope(Spec):
    """Who an email is from and who else it concerns, in every language: addresses parted by commas, which may hold
    variables. `sender` is the key of one of the shop's senders; empty for the gateway's own.
    """

    sender: str = Field("", max_length=60)
    reply_to: OneLine = ""
    cc: OneLine = ""
    bcc: OneLine = ""


class FromLibrary(Spec):
    """Files of a shelf of the store's library: those for every order, and those kept for this order's skus, reference
    or locale.
    """

    kind: Literal["library"]
    shelf: Key
    required: bool = False
    """Whether the send waits where the shelf has nothing for it."""


class FromAddress(Spec):
    """Files fetched from addresses that the payload names, parted by spaces; or what a call answered: a document in
    base64, with `data:` (RFC 2397) or without. `through` is the key of a gateway for HTTP calls whose address and
    credentials are used: `url` is then what follows its address.
    """

    kind: Literal["url"]
    url: str = Field("", max_length=2000)
    name: OneLine = ""
    required: bool = True
    through: str = Field("", max_length=60)


class Calendar(Spec):
    """A calendar entry (iCalendar, RFC 5545) for a whole day, where the variable has one."""

    kind: Literal["calendar"]
    day: VariableName
    title: OneLine = ""
    place: OneLine = ""


class FromOrder(Spec):
    """A document of the order: the invoice that counts, made where there is none yet; for an event about a document,
    that one. Or a proforma invoice or delivery note, drawn anew each time.
    """

    kind: Literal["document"]
    of: Literal["invoice", "proforma", "delivery"] = "invoice"
    required: bool = True
    """Whether the mail is held where it can't be made."""


Attachment = Annotated[FromLibrary | FromAddress | Calendar | FromOrder, Field(discriminator="kind")]


class Download(Spec):
    """How often, and for how long after the message was sent, its files can be downloaded."""

    times: int = Field(5, ge=1, le=1000)
    days: int = Field(30, ge=1, le=3650)


class SmsText(Spec):
    text: str = Field("", max_length=2000)


class ChatHeader(Spec):
    """What stands above a chat message: a line of text, or a picture or document from an address."""

    kind: Literal["none", "text", "image", "document"] = "none"
    text: OneLine = ""
    url: OneLine = ""


class ChatButton(Spec):
    """`link` opens an address, `reply` answers with its own words, `call` dials a number."""

    kind: Literal["link", "reply", "call"] = "link"
    text: OneLine = ""
    url: OneLine = ""
    phone: OneLine = ""


class ChatText(Spec):
    header: ChatHeader = Field(default_factory=ChatHeader)
    body: str = Field("", max_length=4000)
    footer: OneLine = ""
    buttons: list[ChatButton] = Field(default_factory=list, max_length=3)
    samples: dict[str, OneLine] = Field(default_factory=dict)
    """An example for each placeholder, by what stands in it (`customer_name`): what a reviewer sees."""


class CallText(Spec):
    """A request to another system (RFC 9110): what follows the gateway's address, more headers, and a body. All are
    templates; values in `path` are percent-encoded (RFC 3986), those of a JSON body go through `| json`.
    """

    method: Literal["POST", "PUT", "PATCH", "DELETE", "GET"] = "POST"
    path: str = Field("", max_length=2000)
    headers: dict[str, OneLine] = Field(default_factory=dict, max_length=30)
    content_type: Literal["application/json", "application/x-www-form-urlencoded"] = "application/json"
    body: str = Field("", max_length=20_000)
    keep_answer: bool = False
    """Whether the answer is kept: its status and JSON are in the event's payload under `+` and the message's key, with
    underscores, and `call.answered` follows.
    """


class Answer(Spec):
    """One answer that a question may get. `words` are on its button, by language; `also` are more words that are taken
    for it in a reply, whatever the language; `thanks` is what its giver reads then.
    """

    key: Key
    means: Literal["yes", "no", "other"] = "other"
    """What it comes to: words that mean yes or no everywhere are taken for it."""
    words: dict[Locale, OneLine] = Field(default_factory=dict)
    also: list[OneLine] = Field(default_factory=list, max_length=40)
    thanks: dict[Locale, OneLine] = Field(default_factory=dict)
    marks: Marks = Field(default_factory=Marks)
    """What is noted about the customer who gives it."""


class Question(Spec):
    """A question to the customer about an order, with one outcome: an answer, none in time, withdrawn, or it could not
    be asked. `title` and `about` are templates over the order, the shop and `question.ends`.
    """

    title: dict[Locale, OneLine] = Field(default_factory=dict)
    about: dict[Locale, Annotated[str, Field(max_length=2000)]] = Field(default_factory=dict)
    answers: list[Answer] = Field(default_factory=list, max_length=5)
    open_hours: int = Field(48, ge=1, le=2160)
    """For how long it may be answered, from when it was delivered, or sent where a channel does not tell."""
    late: dict[Locale, OneLine] = Field(default_factory=dict)
    """What is said to whoever answers too late."""
    withdraw_on: list[Annotated[str, Field(max_length=60)]] = Field(
        default_factory=lambda: ["order.cancelled"], max_length=20
    )
    """Events of the order after which an answer no longer matters."""

    @model_validator(mode="after")
    def _keys(self) -> Question:
        keys = [one.key for one in self.answers]
        if len(set(keys)) != len(keys):
            raise ValueError("has two answers with the same key; give each its own")
        if taken := [key for key in keys if key in ("open", "answered", "withdrawn")]:
            raise ValueError(f"has an answer with the key “{taken[0]}”, which means something else; choose another")
        return self


class Message(Spec):
    key: Key
    name: Name
    about: OneLine = ""
    tags: list[SetupTag] = Field(default_factory=list, max_length=10)
    tells_of: str = Field("", max_length=60)
    """The event type that it is the news of; empty where it says something of its own. Two messages that tell of the
    same are one piece of news to a person.
    """
    locale: Locale = "en"
    """The variant for readers whose own is not there."""
    email: dict[Locale, EmailText] = Field(default_factory=dict)
    sms: dict[Locale, SmsText] = Field(default_factory=dict)
    chat: dict[Locale, ChatText] = Field(default_factory=dict)
    call: dict[Locale, CallText] = Field(default_factory=dict)
    download: Download | None = None
    """Where set, the files of its attachments do not go with the email: `download.link` leads to a page with them."""
    gives: str = Field("", max_length=60)
    """The table of which each send gives out a row of its own, `given.code` and so on in the text; empty for none."""
    envelope: Envelope = Field(default_factory=Envelope)
    attachments: list[Attachment] = Field(default_factory=list, max_length=20)
    category: Literal["order", "service", "offer"] = "order"
    """What a chat provider is told the message is: news of an order, an answer or question about one, or an offer."""

    purpose: Literal["needed", "optional"] = "needed"
    """Whether the reader needs it about their order, or may choose not to get it: an optional mail has a link to their
    preferences, and a mail program's own button to leave (RFC 8058).
    """
    good_for_hours: int = Field(0, ge=0, le=8760)
    """For how many hours after it is due it may still go out: news that is old by then is skipped. 0 for ever."""
    title: dict[Locale, OneLine] = Field(default_factory=dict)
    """What readers know an optional message by on the page of their preferences; its name where a language has none."""

    question: Question | None = None
    """What it asks the customer, if anything."""
    older: dict[str, str] = Field(default_factory=dict)
    """Texts that were not changed since the main language was, by `channel.locale`: the digest of what that said."""

    @property
    def keeps_answer(self) -> bool:
        """Whether what another system answers to its call is kept."""
        return any(one.keep_answer for one in self.call.values())

    def channels(self) -> list[str]:
        return [channel for channel in CHANNELS if getattr(self, channel)]

    def same_news(self, other: Message) -> bool:
        """Whether a person who has got one of the two has been told what the other says."""
        return self.key == other.key or bool(self.tells_of and self.tells_of == other.tells_of)

    def variants(self, channel: str) -> dict[str, Any]:
        """The texts of a channel by locale; empty for a channel that nobody knows."""
        return dict(getattr(self, channel)) if channel in CHANNELS else {}

    def locale_for(self, channel: str, wanted: str | None) -> str | None:
        """The variant for a reader: `de-AT`, else `de`, else the message's own, else the first there is; None for no
        part.
        """
        variants: dict[str, Any] = getattr(self, channel) if channel in CHANNELS else {}
        if not variants:
            return None
        if wanted and wanted in variants:
            return wanted
        tag = (wanted or "").replace("_", "-")
        while tag:
            for have in variants:
                if have.lower() == tag.lower():
                    return have
            tag = tag.rpartition("-")[0]
        return self.locale if self.locale in variants else next(iter(variants))
