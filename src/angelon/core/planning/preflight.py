"""What would go wrong with a message, found before it is published. Errors keep it from being published, warnings
don't.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

from lxml import html
from rapidfuzz import process

from angelon.core.calls import text_missing
from angelon.core.colours import ENOUGH, contrast
from angelon.core.messages.attachments import LibraryFile
from angelon.core.messages.blocks import LIBRARY
from angelon.core.messages.channel import Part, Rendered
from angelon.core.messages.channels import CHANNEL_LABELS, CHANNELS, compiled_part
from angelon.core.messages.chat import CompiledChat, RenderedChat, review_problems
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.known_fields import GIVEN, SAMPLE_QUESTION, unknown_fields
from angelon.core.messages.leaving import LINK, WHY
from angelon.core.messages.sms import RenderedSms
from angelon.core.planning import question_checks
from angelon.core.planning.inputs import Setup
from angelon.core.planning.plan import values_for
from angelon.core.planning.senders import sender_problem
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading
from angelon.core.recipes.evaluate import Variables
from angelon.core.specs.message import FromLibrary, FromOrder, Message
from angelon.core.specs.source import Source
from angelon.core.specs.store import Rules, RuleSet, Store
from angelon.core.templates import BadTemplate, CantRender, Compiled, compile_template

SHOWN_IN_FULL = 100_000
"""Bytes of HTML; some mail programs cut what is longer."""
LONG_SUBJECT = 70
OURS = (SAMPLE_QUESTION["link"], LINK, WHY)
"""Where links to pages of ours will come."""


@dataclass(frozen=True)
class Sample:
    """A real event to try a message with."""

    label: str
    source: Source
    reading: Reading
    variables: Variables


@dataclass
class Preflight:
    """Looks at a message as it stands, whatever the event, and with real samples where there are any.

    `speaking` are the routes that send the message, as (channel, gateway key, source keys); `files` what the library
    holds.
    """

    message: Message
    setup: Setup
    speaking: Sequence[tuple[str, str, Sequence[str]]] = ()
    samples: Sequence[Sample] = ()
    files: Sequence[LibraryFile] = ()
    reviews: Mapping[tuple[str, str], str] = field(default_factory=dict)
    """(locale, mark) to the state of the review of a chat text."""
    routes: Sequence[str] = ()
    """The keys of the routes that send the message."""
    found: list[Problem] = field(default_factory=list)

    def run(self) -> list[Problem]:
        """Every problem, errors first, each named once."""
        if not self.message.channels():
            self._error("email", "The message has no text yet.", "Write an email, an SMS or a chat message.")
        for channel in self.message.channels():
            for locale in self.message.variants(channel):
                self._variant(channel, locale)
            self._locales(channel)
        if self.message.purpose == "optional" and self.message.sms:
            self._warn(
                f"sms.{self.message.locale}",
                "An SMS has no link to leave: its reader can only answer STOP.",
                "Say so in the text, where the law of their country asks for it.",
            )
        if self.message.email:
            self._letterhead()
            self._sender()
            self._attachments()
        self.found += question_checks.problems_of(self.message)
        self._requests()
        self._speakers()
        unique: dict[tuple[str, str, str], Problem] = {}
        for problem in self.found:  # with several samples the same thing is wrong with each: the longest tells it
            unique.setdefault((problem.where, problem.hint, problem.severity), problem)
        return sorted(unique.values(), key=lambda p: p.severity != "error")

    def _error(self, where: str, what: str, hint: str = "") -> None:
        self.found.append(Problem(where, what, hint))

    def _warn(self, where: str, what: str, hint: str = "") -> None:
        self.found.append(Problem(where, what, hint, "warning"))

    # ---- one text

    def _variant(self, channel: str, locale: str) -> None:
        where = f"{channel}.{locale}"
        text = self.message.variants(channel)[locale]
        _check(_EMPTY, channel)(self, where, text)
        try:
            compiled = compiled_part(self.message, channel, locale, self.setup.store)
        except Invalid as error:
            self.found += error.problems
            self._also_wrong(where, text, {problem.what for problem in error.problems})
            return
        unknown = sorted(compiled.names - set(self.setup.variables) - GIVEN)
        for name in unknown:
            self.found.append(unknown_variable(name, self.setup).at(place_of(self.message, channel, locale, name)))
        self._gives(where, compiled)
        _check(_COMPILED, channel)(self, where, locale, compiled)
        if not unknown:
            self._mapped(channel, locale, compiled)
        self._with_samples(channel, locale, compiled)

    def _gives(self, where: str, compiled: Any) -> None:
        """Whether the row of a table that the text gives out can be there."""
        gives, columns = self.message.gives, self.setup.given_out.get(self.message.gives, ())
        if "download" in compiled.names and self.message.download is None:
            what = "The text has {{ download.link }}, and the message has no files to download."
            self._error(where, what, "Choose that its attachments are downloaded.")
        if self.message.download is not None and "download" not in compiled.names and where.startswith("email"):
            self._warn(where, "Its files are downloaded, and the text has no {{ download.link }}.", "Write it.")
        if "given" not in compiled.names:
            return
        if not gives:
            self._error(where, "The text has {{ given.… }}, and the message gives out no table.", "Choose the table.")
        elif not columns:
            self._error(where, f"There is no table “{gives}” whose rows are given out.", "Make it under Tables.")

    def _empty_call(self, where: str, text: Any) -> None:
        if not text.path.strip() and not text.body.strip():
            self._error(f"{where}.path", "The call has neither a path nor a body.", "Write what is asked for.")

    def _empty_parts(self, where: str, text: Any) -> None:
        if not text.subject.strip():
            self._error(f"{where}.subject", "The subject is empty.", "Write one.")
        if text.text_only and not text.text.strip():
            self._error(f"{where}.text", "The mail has no text.", "Write it, or go back to blocks.")
        if not text.text_only and not text.blocks and not text.html:
            self._error(f"{where}.blocks", "The mail has no text.", "Add a block.")
        for place, block in text.pieces():
            spot = f"{where}.{place}"
            if block.kind == "image":
                if not block.alt.strip():
                    self._warn(
                        f"{spot}.alt",
                        "A picture has no words for those who can’t see it.",
                        "Say in a few words what it shows.",
                    )
                if not block.src.strip():
                    self._error(f"{spot}.src", "A picture has no address.", "Choose a file, or write a web address.")
                self._in_library(f"{spot}.src", block.src)
            if block.kind == "button":
                if not block.url.strip():
                    self._error(
                        f"{spot}.url",
                        "The button leads nowhere.",
                        "Write an address, or choose a variable that holds one.",
                    )
                if not block.text.strip():
                    self._error(f"{spot}.text", "The button has no words.", "Write them.")

    def _in_library(self, where: str, src: str) -> None:
        if not src.strip().startswith(LIBRARY):
            return
        mark = src.strip()[len(LIBRARY) :]
        if not any(f"{file.shelf}/{file.name}" == mark and file.by == "" for file in self.files):
            self._error(where, f"The library has no file “{mark}” for every order.", "Upload it, or choose another.")

    def _empty_sms(self, where: str, text: Any) -> None:
        if not text.text.strip():
            self._error(f"{where}.text", "The SMS has no text.", "Write one, or remove the SMS part in this language.")

    def _chat_buttons(self, where: str, mail: RenderedChat, label: str) -> None:
        for number, button in enumerate(mail.buttons):
            if button["kind"] == "link":
                self._link(f"{where}.buttons.{number}.url", button["url"])

    def _chat(self, where: str, locale: str, compiled: CompiledChat) -> None:
        found = [problem.at(where) for problem in review_problems(compiled)]
        self.found += found
        reviewing = [way for way in self.setup.gateways.values() if way.channel == "chat" and way.review is not None]
        if not reviewing or found:
            return
        state = self.reviews.get((locale, compiled.numbered.digest(self.message.category)), "draft")
        if state == "submitted":
            self._error(
                f"{where}.review",
                "The chat text is in review at the provider.",
                "Wait for the answer; what is live stays in use until then.",
            )
        elif state == "rejected":
            self._error(
                f"{where}.review",
                "The provider has rejected the chat text.",
                "Read the reason, change the text and submit it again.",
            )
        elif state != "approved":
            self._error(
                f"{where}.review", "The chat text is not approved by the provider yet.", "Submit it for review."
            )

    def _mapped(self, channel: str, locale: str, compiled: Part) -> None:
        """Sources that use the message and have no recipe for what it needs."""
        if not any(spoken == channel for spoken, _, _ in self.speaking):
            return self._mapped_nowhere(channel, compiled)
        for spoken, _, sources in self.speaking:
            if spoken != channel:
                continue
            for key in sources:
                source = self.setup.sources.get(key)
                if source is None:
                    continue
                for name in sorted(compiled.names - GIVEN):
                    variable = self.setup.variables[name]
                    if (
                        name not in source.recipes
                        and variable.sample is None
                        and (variable.required or channel == "chat")
                    ):
                        self._warn(
                            f"sources.{key}.{name}",
                            f"{source.name} has no mapping for “{name}”: its sends of this message would be held.",
                            "Map it.",
                        )

    def _mapped_nowhere(self, channel: str, compiled: Part) -> None:
        """The same for a message that no route sends by this channel: what no source at all says."""
        said = {name for source in self.setup.sources.values() for name in source.recipes}
        missing = [
            name
            for name in sorted(compiled.names - GIVEN - said)
            if (variable := self.setup.variables[name]).sample is None and (variable.required or channel == "chat")
        ]
        if missing and self.setup.sources:
            names = ", ".join(f"“{name}”" for name in missing)
            key = next(iter(self.setup.sources))
            what = f"No source has a mapping for {names}: sends of this message would be held."
            self._warn(f"sources.{key}.{missing[0]}", what, "Map it." if len(missing) == 1 else "Map them.")

    def _also_wrong(self, where: str, text: Any, told: set[str]) -> None:
        """What else is wrong with a text that can't be compiled, so that nobody mends it error by error."""
        for part in _readable(text.model_dump()):
            unknown = sorted(part.names - set(self.setup.variables) - GIVEN)
            for problem in (*unknown_fields(part), *(unknown_variable(name, self.setup) for name in unknown)):
                if problem.what not in told:
                    told.add(problem.what)
                    self.found.append(problem.at(where))

    # ---- with real events

    def _with_samples(self, channel: str, locale: str, compiled: Part) -> None:
        where = f"{channel}.{locale}"
        rendered: list[tuple[Sample | None, Rendered]] = list(self._rendered(where, compiled))
        if not rendered:
            bare = _bare(compiled, self.setup)
            rendered = [(None, bare)] if bare is not None else []
        rendered.sort(key=lambda pair: -pair[1].size())
        for sample, mail in rendered:
            _check(_RENDERED, channel)(self, where, mail, sample.label if sample else "")
            if channel != "call":
                self._phrases(channel, where, mail)

    def _rendered(self, where: str, compiled: Part) -> Iterable[tuple[Sample | None, Rendered]]:
        for sample in self.samples:
            values, missing = values_for(
                compiled.names & (set(self.setup.variables) | GIVEN), sample.reading, sample.variables
            )
            if missing or compiled.names - set(values):
                continue
            try:
                yield sample, compiled.render(values)
            except CantRender as error:
                self._warn(
                    where, f"With {sample.label} the send would be held: {error.problem.what}", error.problem.hint
                )

    def _email(self, where: str, mail: RenderedEmail, label: str) -> None:
        if len(mail.subject) > LONG_SUBJECT:
            self._warn(
                f"{where}.subject",
                f"The subject comes to {len(mail.subject)} characters; a mailbox shows about {LONG_SUBJECT}.",
                "Put what matters first, or shorten it.",
            )
        size = len(mail.html.encode())
        if size > SHOWN_IN_FULL:
            self._warn(
                f"{where}.blocks",
                f"The mail comes to {size // 1000} KB; some mail programs cut after about {SHOWN_IN_FULL // 1000} KB.",
                "Shorten it, or use fewer blocks.",
            )
        if not mail.text.strip():
            self._error(f"{where}.text", "The mail has no text part.", "Write one; some readers see nothing else.")
        for address, words in _links(mail.html):
            self._link(_link_place(self.message, where, words), address)
        own = self.message.email[where.partition(".")[2]].html
        if own and any(not (image.get("alt") or "").strip() for image in _tree(mail.html).iter("img")):
            self._warn(
                f"{where}.html", "A picture has no words for those who can’t see it.", "Give every img an alt text."
            )

    def _link(self, where: str, address: str) -> None:
        if not address.strip() or address.startswith(OURS):
            return
        shown = address[:70]
        parts = urlsplit(address.strip())
        if any(c.isspace() for c in address.strip()):
            self._error(
                where,
                f"The link “{shown}” holds a space.",
                "Take it out, or use the filter urlencode on the variable in it.",
            )
        elif parts.scheme in ("mailto", "tel"):
            return
        elif parts.scheme not in ("http", "https") or not parts.hostname or "." not in parts.hostname.strip("."):
            self._error(where, f"The link “{shown}” is no full address.", "Start it with https:// and a host.")
        else:
            host = parts.hostname.lower()
            for rules in self._rules(where.partition(".")[0]):
                hosts = [h.lower().lstrip(".") for h in rules.link_hosts]
                if hosts and not any(host == h or host.endswith("." + h) for h in hosts):
                    self._error(
                        where,
                        f"The link goes to {host}, and {_called(rules)} allow {', '.join(hosts)} only.",
                        "Point it there, or allow the host in Settings.",
                    )

    def _sms(self, where: str, sms: RenderedSms, label: str) -> None:
        caps = [
            self.setup.gateways[gateway].max_segments
            for channel, gateway, _ in self.speaking
            if channel == "sms" and gateway in self.setup.gateways
        ]
        caps = caps or [way.max_segments for way in self.setup.gateways.values() if way.channel == "sms"]
        if caps and sms.count.segments > min(caps):
            of = f" with {label}" if label else ""
            self._error(
                f"{where}.text",
                f"The SMS takes {sms.count.segments} segments{of}, and the gateway allows {min(caps)}.",
                "Shorten it, or raise the cap on the gateway’s page.",
            )
        if sms.count.encoding == "UCS-2" and sms.count.segments > 1:
            signs = ", ".join(f"“{c}”" + (f" (write {i})" if i else "") for c, i in sms.count.forced_by[:4])
            self._warn(
                f"{where}.text",
                f"{signs} make{'s' if len(sms.count.forced_by) == 1 else ''} the SMS go out as UCS-2: "
                f"{sms.count.segments} segments{f' with {label}' if label else ''}.",
                "Write it without, where that reads as well.",
            )

    def _phrases(self, channel: str, where: str, mail: Rendered) -> None:
        words = f"{mail.summary()} {mail.text}".casefold()
        field = CHANNELS[channel].text_field
        for rules in self._rules(channel):
            for phrase in rules.forbidden:
                if phrase.casefold() in words:
                    self._error(
                        f"{where}.{field}",
                        f"It says “{phrase}”, which {_called(rules)} forbid.",
                        f"Say “{phrase}” otherwise, or change the rules in Settings.",
                    )

    def _rules(self, channel: str) -> list[Rules]:
        return self.setup.store.rules_for(channel, self.routes)

    # ---- the whole

    def _locales(self, channel: str) -> None:
        store = self.setup.store
        if channel == "call":  # a system has no language
            return
        have = self.message.variants(channel)
        for locale in have:
            if not listed(locale, store):
                used = self.message.locale_for(channel, store.locale)
                self._warn(
                    f"{channel}.{locale}",
                    f"The {CHANNEL_LABELS[channel]} in {locale} is never sent: the store does not list {locale} "
                    "among its languages.",
                    f"List it in Settings. Until then those readers get {used}.",
                )
        for place in self.message.older:
            if place.startswith(f"{channel}."):
                locale = place.partition(".")[2]
                self._warn(
                    place,
                    f"The {CHANNEL_LABELS[channel]} in {locale} is older than the one in {self.message.locale}, which "
                    "was changed since.",
                    "Change it too, or say on its page that it still says the same.",
                )
        for locale in dict.fromkeys([store.locale, *store.locales]):
            if locale not in have and locale.partition("-")[0] not in have:
                used = self.message.locale_for(channel, locale)
                self._warn(
                    f"{channel}.{locale}",
                    f"There is no {CHANNEL_LABELS[channel]} in {locale}.",
                    f"Those readers get {used} instead.",
                )

    def _letterhead(self) -> None:
        letterhead = self.setup.store.letterhead
        ratio = contrast(letterhead.accent, letterhead.body)
        if not letterhead.logo and ratio < ENOUGH:
            self._warn(
                "letterhead.accent",
                f"The accent colour on paper has a contrast of {ratio:.1f}; {ENOUGH} is needed to read it easily.",
                "Choose a darker one.",
            )
        inked = contrast(letterhead.ink, letterhead.body)
        if inked < ENOUGH:
            self._warn(
                "letterhead.ink",
                f"The text colour on the body colour has a contrast of {inked:.1f}; {ENOUGH} is needed to read it.",
                "Choose a darker text or a lighter body.",
            )
        if letterhead.logo:
            self._in_library(
                "letterhead.logo", letterhead.logo if letterhead.logo.startswith(LIBRARY) else LIBRARY + letterhead.logo
            )

    def _sender(self) -> None:
        chosen = self.message.envelope.sender
        if chosen and not any(sender.key == chosen for sender in self.setup.store.senders):
            self._error("envelope.sender", f"There is no sender “{chosen}” any more.", "Choose another, or none.")
            return
        for channel, key, _ in self.speaking:
            gateway = self.setup.gateways.get(key)
            if channel == "email" and gateway is not None:
                why = sender_problem(None, self.message, gateway, self.setup.store)
                if why:
                    tell, place = (self._error, "envelope.sender") if chosen else (self._warn, f"gateways.{key}")
                    tell(place, why, "Have a code sent to it, on the page Senders.")

    def _requests(self) -> None:
        for _, key, _ in self.speaking:
            missing = text_missing(self.setup.gateways[key]) if key in self.setup.gateways else None
            if missing is not None:
                self._error(f"gateways.{key}", missing.what, "Correct the request on the gateway’s page.")

    def _attachments(self) -> None:
        gateways = [
            self.setup.gateways[key]
            for channel, key, _ in self.speaking
            if channel == "email" and key in self.setup.gateways
        ]
        gateways = gateways or [way for way in self.setup.gateways.values() if way.channel == "email"]
        shelves = {file.shelf for file in self.files}
        for number, spec in enumerate(self.message.attachments):
            where = f"email.*.attachments.{number}"
            if isinstance(spec, FromOrder) and spec.of == "invoice" and not self.setup.store.documents.on:
                (self._error if spec.required else self._warn)(
                    where, "It takes an invoice along, and invoices are off.", "Switch them on under Documents."
                )
            if isinstance(spec, FromLibrary):
                if spec.shelf not in shelves:
                    (self._error if spec.required else self._warn)(
                        where, f"The folder “{spec.shelf}” of the library is empty.", "Upload a file to it."
                    )
                for file in self.files:
                    for gateway in gateways:
                        if file.shelf == spec.shelf and file.type not in gateway.limits.types:
                            self._error(
                                where,
                                f"“{file.name}” is {file.type} by its content, which {gateway.name} does not take.",
                                "Remove it from the folder, or allow the type on the gateway’s page.",
                            )
                        if file.shelf == spec.shelf and file.size > gateway.limits.total_bytes:
                            self._error(
                                where,
                                f"“{file.name}” has {file.size / 1e6:.1f} MB, and {gateway.name} takes "
                                f"{gateway.limits.total_bytes / 1e6:.1f} MB in all.",
                                "Use a smaller file.",
                            )
        for gateway in gateways:
            if len(self.message.attachments) > gateway.limits.attachments:
                self._error(
                    "email.*.attachments",
                    f"There are {len(self.message.attachments)} attachments, and {gateway.name} takes "
                    f"{gateway.limits.attachments}.",
                    "Take some out.",
                )

    def _speakers(self) -> None:
        spoken = {channel for channel, _, _ in self.speaking}
        if not self.speaking:
            self._warn(
                "routes",
                "No live route sends this message, so nobody will get it.",
                "Make a route for it, or choose it in one.",
            )
        for channel in spoken - set(self.message.channels()):
            self._error(
                channel,
                f"A live route sends this message by {CHANNEL_LABELS[channel]}, and it has no "
                f"{CHANNEL_LABELS[channel]} part.",
                "Write one, or change the route.",
            )


def listed(locale: str, store: Store) -> bool:
    """Whether a shop speaks a language, so that a text in it reaches somebody."""
    spoken = {store.locale, *store.locales}
    return locale in spoken or any(of.partition("-")[0] == locale or of == locale.partition("-")[0] for of in spoken)


def _called(rules: Rules) -> str:
    """What people call a set of rules."""
    if not isinstance(rules, RuleSet):
        return "the store’s rules"
    of = [*([CHANNEL_LABELS[rules.channel]] if rules.channel else []), *rules.routes]
    return f"the rules for {' and '.join(of) or 'everything'}"


def _no_check(*_: object) -> None:
    """A channel with nothing of its own to look at."""


_Check = Callable[..., None]


def _check(checks: Mapping[str, _Check], channel: str) -> _Check:
    return checks.get(channel, _no_check)


_EMPTY: dict[str, _Check] = {
    "email": Preflight._empty_parts,
    "sms": Preflight._empty_sms,
    "call": Preflight._empty_call,
}
"""What each channel looks at in a text as it is written."""
_COMPILED: dict[str, _Check] = {"chat": Preflight._chat}
"""What each channel looks at in a compiled text."""
_RENDERED: dict[str, _Check] = {
    "email": Preflight._email,
    "sms": Preflight._sms,
    "chat": Preflight._chat_buttons,
}
"""What each channel looks at in a text filled with a real event."""


def _readable(written: Any) -> Iterable[Compiled]:
    """The texts in it that can be read as templates."""
    if isinstance(written, str):
        with suppress(BadTemplate):
            yield compile_template(written)
    inner = written.values() if isinstance(written, dict) else written if isinstance(written, list) else ()
    for one in inner:
        yield from _readable(one)


def empty_text(message: Message, setup: Setup, channel: str, locale: str) -> list[Problem]:
    """What of a text is empty, so that nothing would be said; what is only worth a look is left out."""
    looked = Preflight(message, setup)
    _check(_EMPTY, channel)(looked, f"{channel}.{locale}", message.variants(channel)[locale])
    return [problem for problem in looked.found if problem.severity == "error"]


def unknown_variable(name: str, setup: Setup) -> Problem:
    """A name in a text that is no variable, with the closest one."""
    close = process.extractOne(name, list(setup.variables), score_cutoff=55)
    return Problem(
        "",
        f"There is no variable “{name}”.",
        f"Did you mean {close[0]}?" if close else "Choose one from the list, or make it on a source’s page.",
    )


def place_of(message: Message, channel: str, locale: str, name: str) -> str:
    """The first field of a variant whose text uses a variable, as a dotted place."""
    word = re.compile(rf"\{{[{{%][^}}]*\b{re.escape(name)}\b")
    found = _fields(f"{channel}.{locale}", message.variants(channel)[locale].model_dump(mode="json"))
    if channel == "email":
        found = [
            *found,
            *(
                (f"{channel}.{locale}.{where}", text)
                for where, text in _fields("", message.envelope.model_dump(mode="json"))
            ),
        ]
    for where, text in found:
        if word.search(text) or (where.endswith(".only_if") and text == name):
            return where.replace("..", ".")
    return f"{channel}.{locale}"


def _fields(where: str, value: Any) -> list[tuple[str, str]]:
    if isinstance(value, str):
        return [(where, value)]
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [pair for key, inner in items for pair in _fields(f"{where}.{key}" if where else str(key), inner)]


def _bare(compiled: Part, setup: Setup) -> Rendered | None:
    """A text without a real event, each variable as its sample or its name: enough to look at its links and length."""
    values: dict[str, Any] = {
        name: setup.variables[name].sample
        if name in setup.variables and setup.variables[name].sample is not None
        else name
        for name in compiled.names
    }
    if "order" in values:
        return None
    if "question" in values:
        values["question"] = SAMPLE_QUESTION
    try:
        return compiled.render(values)
    except CantRender:
        return None


def _tree(page: str) -> html.HtmlElement:
    return html.document_fromstring(page or "<p></p>")


def _links(page: str) -> list[tuple[str, str]]:
    """(address, words) of every link of a page."""
    return [
        (str(a.get("href")), " ".join(a.text_content().split()))
        for a in _tree(page).iter("a")
        if a.get("href") is not None
    ]


def _link_place(message: Message, where: str, words: str) -> str:
    """Where a rendered link was written: the button with these words, the first text with a link, the page."""
    text = message.email[where.partition(".")[2]]
    if text.html:
        return f"{where}.html"
    last = f"{where}.blocks"
    for place, block in text.pieces():
        if block.kind == "button" and (block.text.strip() == words or "{" in block.text):
            return f"{where}.{place}.url"
        if block.kind == "text" and f"[{words}](" in block.text:
            return f"{where}.{place}.text"
    return last
