"""Decides what becomes of a due send: ready with its text and files, held, skipped, or tried later. Pure."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace
from typing import Any, Literal

from angelon.core.messages.attachments import AttachmentRequest, LibraryFile, files_for_order
from angelon.core.messages.blocks import pictures_in
from angelon.core.messages.channel import Part, Rendered
from angelon.core.messages.channels import CHANNELS
from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.known_fields import SAMPLE_FOLLOW, SAMPLE_GIVEN
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.guards import WHEN_DUE, GuardInput
from angelon.core.planning.people import customer
from angelon.core.planning.permission import nobody_at, of_order, refusal
from angelon.core.planning.plan import clock_of, reached, values_for
from angelon.core.planning.senders import sender_of, sender_problem
from angelon.core.planning.subjects import only_again, worked_condition
from angelon.core.sending.due import DueSend, EventFacts, SendContext, guards_again, has_its_values, part_of
from angelon.core.sending.trial import on_trial
from angelon.core.specs.gateway import Gateway, Sender
from angelon.core.specs.message import Message
from angelon.core.templates import CantRender
from angelon.core.values import Value, show


@dataclass(frozen=True, slots=True)
class Held:
    """A person must act before it can go out."""

    reason: str


@dataclass(frozen=True, slots=True)
class Skipped:
    """What it was made for no longer holds. `nobody_there` says that its address has been found not to exist, which is
    a failure where the route has another way.
    """

    reason: str
    nobody_there: bool = False


@dataclass(frozen=True, slots=True)
class Later:
    """Something outside is not to be had at the moment: tried again as a failed try is."""

    reason: str


@dataclass(frozen=True, slots=True)
class Ready:
    """A send with its text and everything that its gateway is to be handed, but for the bytes of its files."""

    gateway: Gateway
    rendered: Rendered
    recipient: str
    recipient_name: str
    locale: str
    """The message's variant."""
    revision_id: int | None
    values: dict[str, Value] | None
    """Its values, where they were worked out anew."""
    template: str = ""
    """The provider's own id for the approved text."""
    pictures: tuple[LibraryFile, ...] = ()
    """The library's pictures that the text shows."""
    attachments: tuple[tuple[AttachmentRequest, tuple[LibraryFile, ...]], ...] = ()
    """What is attached, with the library's files chosen for this order."""
    cc: tuple[str, ...] = ()
    bcc: tuple[str, ...] = ()
    reply_to: tuple[str, ...] = ()
    sender: Sender | None = None
    """Who a mail is from."""
    kept: str = ""
    """Why it is not handed over, though all of it is ready: the store is on trial."""
    trial: str = ""
    """Who gets it in place of its recipient, as a sentence, while the store is on trial."""
    gives: str = ""
    """The table of which its text gives out a row; empty where it gives none."""

    @property
    def cost(self) -> str:
        """What it costs at the gateway's prices, in the store's currency; empty where it costs nothing."""
        files = sum(len(chosen) if wanted.kind == "library" else 1 for wanted, chosen in self.attachments)
        return str(self.gateway.cost(self.rendered.pieces, files) or "")


Prepared = Ready | Held | Skipped | Later


def prepare(send: DueSend, around: SendContext, now: dt.datetime) -> Prepared:
    """What becomes of a send at a moment (aware), by what is known around it."""
    made = _prepared(send, around, now)
    if isinstance(made, Ready) and around.trial and not send.test and not send.whom.startswith("role:"):
        return on_trial(made, around.trial, around.setup.store, send.channel)
    return made


def _prepared(send: DueSend, around: SendContext, now: dt.datetime) -> Prepared:
    if send.expires_at is not None and now > send.expires_at:
        return Skipped("It is too old: it could not be sent within the hours that its message allows.")
    gateway = around.setup.gateways.get(send.gateway)
    if gateway is None:
        return Held("The route has no gateway.")
    if gateway.paused or (gateway.untried and not send.test):  # a test is a way to try it
        return Held(f"{gateway.name} {gateway.off}.")
    route = around.routes.get(send.route)
    why = sender_problem(route, _message_of(send, around), gateway, around.setup.store) if not send.test else ""
    if why:
        return Held(why)
    stopped = _suppressed(send, send.recipient, around) or _guarded(send, around, now)
    if stopped is not None:
        return stopped
    if send.question in around.closed:
        return Skipped(around.closed[send.question])
    found = part_of(send, around)
    if isinstance(found, str):
        return Held(found)
    message, locale, part = found
    filled = _filled(send, part, around)
    if not isinstance(filled, _Filled):
        return filled
    stopped = _suppressed(send, filled.recipient, around) if filled.recipient != send.recipient else None
    if stopped is not None:
        return stopped
    if isinstance(filled.values.get("question"), dict):
        if not send.question_values:
            return Held("The message links to its question, and the shop has no public address. Set it in Settings.")
        filled.values["question"] = dict(send.question_values)
    if "download" in part.names and message.download is not None and not send.test:
        if not send.download:
            return Held("The message links to its files, and the shop has no public address. Set it in Settings.")
        filled.values["download"] = {"link": send.download}
    if "given" in part.names and message.gives:
        filled.values["given"] = dict(send.given) if send.given is not None else SAMPLE_GIVEN
    _link_parcels(filled.values, send)
    try:
        rendered = part.render(filled.values)
    except CantRender as error:
        return Held(error.problem.what)
    template = around.setup.approval(gateway.key, message, locale, part)
    if template is None:
        return Held(f"The chat text in {locale} is not approved by the provider yet.")
    refused = rendered.problem_for(gateway)
    if refused:
        return Held(refused)
    revision = None if send.draft is not None else around.revisions.get(send.message)
    values = filled.values if filled.anew else None
    whom = filled.recipient, filled.recipient_name
    gives = message.gives if "given" in part.names else ""
    if not isinstance(rendered, RenderedEmail):
        return Ready(gateway, rendered, *whom, locale, revision, values, template, gives=gives)
    sender = sender_of(route, message, gateway, around.setup.store) or gateway.sender
    ready = Ready(gateway, rendered, *whom, locale, revision, values, template, sender=sender, gives=gives)
    return _with_files(ready, rendered, send, filled.values, around)


def _message_of(send: DueSend, around: SendContext) -> Message | None:
    return send.draft if send.draft is not None else around.setup.messages.get(send.message)


def _suppressed(send: DueSend, address: str, around: SendContext) -> Skipped | None:
    if send.test or not address:
        return None
    order = of_order(send.order_id) if send.whom == "customer" else ""
    key = CHANNELS[send.channel].address_key(address)
    why = refusal(around.suppressed, key, _message_of(send, around), order)
    if why is None:
        return None
    nobody_there = not (order and order in around.suppressed) and bool(nobody_at(around.suppressed, key))
    return Skipped(f"{address} must not be written to: {why}", nobody_there)


def _guarded(send: DueSend, around: SendContext, now: dt.datetime) -> Held | Skipped | None:
    """Asks guards and marked conditions again, with the order as it is now."""
    known, route = around.events.get(send.id), around.routes.get(send.route)
    if known is None or route is None or not guards_again(send, around):
        return None
    context = PlanningContext(known.event, known.reading, known.variables, around.setup, known.facts, now)
    verdict = worked_condition(only_again(route.only_if), context)
    if verdict.problem:
        return Held(verdict.problem)
    if not verdict.yes:
        return Skipped(f"When it was due, its condition no longer held: {verdict.why_not()}")
    given = GuardInput(
        route, send.channel, send.recipient, send.whom == "customer", context, known.facts, now, send.message
    )
    for guard in WHEN_DUE:
        result = guard(given)
        if result is not None and result.why:
            return Skipped(result.why)
    return None


def _link_parcels(values: dict[str, Value], send: DueSend) -> None:
    """Gives parcels the link to the order's own page; none where there is no such page any more."""
    order = values.get("order")
    listed = order.get("parcels") if isinstance(order, dict) else None
    for one in [values.get("parcel"), *(listed if isinstance(listed, list) else [])]:
        if isinstance(one, dict) and one.get("link") == SAMPLE_FOLLOW and not send.test:
            one["link"] = send.follow or None


@dataclass(frozen=True, slots=True)
class _Filled:
    """Whom a send goes to, and the values of its text; `anew` where they were worked out just now."""

    recipient: str
    recipient_name: str
    values: dict[str, Value]
    anew: bool = False


def _filled(send: DueSend, part: Part, around: SendContext) -> _Filled | Held | Skipped:
    if has_its_values(send, part, around):
        return _Filled(send.recipient, send.recipient_name, send.values())
    if send.draft is not None:
        return Held("The test has no values for all of the text. Send it again from the message’s page.")
    known = around.events.get(send.id)
    if known is None:
        return Held(around.unreadable.get(send.id) or "The event is no longer kept, or its source is gone.")
    clock = clock_of(around.setup.store, send.whom, known.reading)
    values, missing = values_for(part.names, known.reading, known.variables, clock)
    if missing:
        return Held(missing[0].what)
    address, name, why = recipient_now(send, known, around)
    if why:
        route = around.routes.get(send.route)
        skips = route is not None and route.fallback.no_address == "skip"
        return Skipped(f"{why} The route skips those.") if skips else Held(why)
    return _Filled(address, name, values, anew=True)


def recipient_now(send: DueSend, known: EventFacts, around: SendContext) -> tuple[str, str, str]:
    """Address and name of whom a send is for, as they are read now; or why there is none."""
    if send.whom != "customer" and send.recipient:
        return send.recipient, send.recipient_name, ""
    route = around.routes.get(send.route)
    if route is None:
        address, name, why = customer(send.channel, known.reading, around.setup.gateways.get(send.gateway))
    else:
        address, name, why = reached(
            known.event,
            known.reading,
            known.variables,
            route,
            around.setup,
            send.whom,
            send.channel,
            send.gateway,
        )
    return address, show(name), why


def _with_files(
    ready: Ready, mail: RenderedEmail, send: DueSend, values: dict[str, Value], around: SendContext
) -> Ready | Held:
    """A mail with its addresses read and its files chosen."""
    if ready.sender is None:
        return Held(f"{ready.gateway.name} has no sender.")
    lists: dict[str, tuple[str, ...]] = {}
    for part, text in (("cc", mail.cc), ("bcc", mail.bcc), ("reply-to", mail.reply_to)):
        found = _addresses(part, text)
        if isinstance(found, Held):
            return found
        lists[part] = found
    if send.test:  # a test is for its tester
        lists |= {"cc": (), "bcc": ()}
    pictures: list[LibraryFile] = []
    for path in pictures_in(mail.html):
        file = next((f for f in around.files if f"{f.shelf}/{f.name}" == path and f.by == ""), None)
        if file is None:
            return Held(f"The library has no file “{path}”, which the mail shows.")
        pictures.append(file)
    attachments: list[tuple[AttachmentRequest, tuple[LibraryFile, ...]]] = []
    for wanted in mail.wanted:
        chosen = _chosen(wanted, send, values, around) if wanted.kind == "library" else ()
        if wanted.kind == "library" and wanted.required and not chosen:
            return Held(f"The folder “{wanted.shelf}” has no file for this order.")
        attachments.append((wanted, chosen))
    return replace(
        ready,
        pictures=tuple(pictures),
        attachments=tuple(attachments),
        cc=lists["cc"],
        bcc=lists["bcc"],
        reply_to=lists["reply-to"],
    )


def _chosen(
    wanted: AttachmentRequest, send: DueSend, values: dict[str, Value], around: SendContext
) -> tuple[LibraryFile, ...]:
    """The library's files for one order."""
    order: Any = values.get("order")
    if not isinstance(order, dict):
        known = around.events.get(send.id)
        order = known.reading.order() if known is not None else {}
    skus = {show(line.get("sku")) for line in order.get("lines") or [] if isinstance(line, dict)}
    references = {show(order.get(part)) for part in ("reference", "number") if order.get(part)}
    return tuple(files_for_order(around.files, wanted.shelf, skus, references, send.locale))


def _addresses(part: Literal["cc", "bcc", "reply-to"] | str, text: str) -> tuple[str, ...] | Held:
    """Email addresses parted by commas."""
    found = []
    for address in (piece.strip() for piece in text.split(",")):
        if not address:
            continue
        try:
            found.append(CHANNELS["email"].check_address(address))
        except ValueError:
            return Held(f"“{address[:60]}” in {part} is no email address.")
    return tuple(dict.fromkeys(found))
