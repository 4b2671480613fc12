"""A message as the reader of the sample event would get it, from the text as it stands."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from decimal import Decimal
from typing import Any

import structlog

from angelon.core.calls import CantCall, shown_request
from angelon.core.messages.channel import Part
from angelon.core.messages.channels import CHANNELS, part_for_reader
from angelon.core.messages.chat import CompiledChat
from angelon.core.messages.known_fields import GIVEN, SAMPLE_END
from angelon.core.planning.people import customer, written_for
from angelon.core.planning.plan import clock_of, values_for
from angelon.core.planning.preflight import Sample, place_of, unknown_variable
from angelon.core.problems import Invalid, Problem
from angelon.core.reading import Reading
from angelon.core.recipes.context import Context
from angelon.core.sending.outgoing import ProviderMessage
from angelon.core.specs import Gateway, Message
from angelon.core.templates import CantRender
from angelon.core.values import Value
from angelon.db.setup.live_setup import LiveSetup
from angelon.web.formats import pictured
from angelon.web.sample_event import SampleEvent
from angelon.web.services import public_address

log = structlog.get_logger()


@dataclass
class Preview:
    """What the preview shows. `made` is false where it can't be made; `problems` say why."""

    channel: str = "email"
    locale: str = ""
    made: bool = False
    to: str = ""
    subject: str = ""
    html: str = ""
    text: str = ""
    bytes: int = 0
    files: list[str] = field(default_factory=list)
    more: dict[str, Any] = field(default_factory=dict)
    """What a channel has besides: an SMS's segments and cost, a chat message's header, buttons and placeholders."""
    problems: list[Problem] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "problems": [p.as_dict() for p in self.problems]}


def preview(
    message: Message,
    channel: str,
    locale: str,
    live: LiveSetup,
    sample: SampleEvent,
    samples: list[Sample] | None = None,
) -> Preview:
    """Renders one variant, as `_preview`; a page with a draft that can't be shown opens all the same, and says so."""
    try:
        return _preview(message, channel, locale, live, sample, samples)
    except Exception as error:
        log.exception("a draft could not be shown", message=message.key)
        return Preview(
            channel,
            locale,
            problems=[
                Problem(
                    f"{channel}.{locale}",
                    f"The preview could not be made: {type(error).__name__}.",
                    "Take back what you changed last. The log says more.",
                )
            ],
        )


def _preview(
    message: Message,
    channel: str,
    locale: str,
    live: LiveSetup,
    sample: SampleEvent,
    samples: list[Sample] | None = None,
) -> Preview:
    """Renders one variant. A variable without a value is shown by its name in ⟨ ⟩, and is among the problems."""
    seen = Preview(channel, locale)
    if locale not in message.variants(channel):
        return seen
    try:
        facts = sample.facts()
        written = written_for(locale, facts.reading, facts.facts, live.setup) if facts is not None else ""
        compiled = part_for_reader(message, channel, locale, written, live.setup.store)
    except Invalid as error:
        seen.problems = error.problems
        return seen
    values = _values(message, channel, locale, compiled, live, sample, seen)
    if isinstance(compiled, CompiledChat):  # shown even where the message can't be made
        seen.more["placeholders"] = _placeholders(compiled, values)
    try:
        made = compiled.render(values)
    except CantRender as error:
        try:
            made = compiled.render(values, "mark")
        except CantRender:
            seen.problems.append(error.problem.at(f"{channel}.{locale}"))
            return seen
        seen.problems.append(
            Problem(
                f"{channel}.{locale}",
                error.problem.what,
                f"With this event the send would be held. {error.problem.hint}",
                "warning",
            )
        )
    seen.made = True
    seen.text, seen.html, seen.bytes = made.text, pictured(made.page), len(made.page.encode())
    _MORE[channel](seen, made, compiled, live, samples or [])
    way = _gateway_of(message, channel, live)
    if way is not None and channel in ("sms", "chat"):
        approved = live.setup.approval(way.key, message, locale, compiled) or ""
        to = seen.to.rpartition("<")[2].rstrip(">") or "+353209150000"
        try:
            seen.more["request"] = shown_request(way, ProviderMessage.of(made, to, way, locale, approved).values)
        except CantCall as error:
            seen.more["request"] = str(error.problem)
        seen.more["through"] = way.name
    return seen


def _values(
    message: Message, channel: str, locale: str, compiled: Part, live: LiveSetup, sample: SampleEvent, seen: Preview
) -> dict[str, Value]:
    """What the text is filled with: the sample event's values, else samples, else the names themselves."""
    unknown = sorted(compiled.names - set(live.setup.variables) - GIVEN)
    seen.problems += [
        unknown_variable(name, live.setup).at(place_of(message, channel, locale, name)) for name in unknown
    ]
    values: dict[str, Any] = {}
    if sample.reading is not None and sample.variables is not None:
        clock = clock_of(live.setup.store, "customer", sample.reading)
        values, missing = values_for(compiled.names - set(unknown), sample.reading, sample.variables, clock)
        for problem in missing:
            name = problem.where.rpartition(".")[2]
            seen.problems.append(
                Problem(
                    place_of(message, channel, locale, name),
                    problem.what,
                    f"With this event the send would be held. {problem.hint}",
                    "warning",
                )
            )
            values[name] = f"⟨{name}⟩"
        address, name, _ = customer(channel, sample.reading, _gateway_of(message, channel, live))
        seen.to = f"{name} <{address}>" if name and "@" in address else address
    else:
        values = {name: _sample(name, live) for name in compiled.names - GIVEN}
        values["order"] = Reading({}, Context()).order() | {"number": "⟨number⟩"}
    if "question" in compiled.names and "question" not in live.setup.variables:
        values["question"] = question_sample()
    for name in compiled.names:
        if values.get(name) is None and (name in unknown or sample.reading is None):
            values[name] = f"⟨{name}⟩"
    return values


def question_sample() -> dict[str, str]:
    """What a preview says of the question that a message asks."""
    return {"link": f"{public_address()}/a/{SAMPLE_END}", "token": SAMPLE_END}


def _gateway_of(message: Message, channel: str, live: LiveSetup) -> Gateway | None:
    """The gateway that a live route sends a message through, else the first of its channel."""
    routes = [active.route for active in live.setup.routes if active.route.send == message.key]
    keys = [route.gateway for route in routes if route.channel == channel]
    keys += [gateway.key for gateway in live.setup.gateways.values() if gateway.channel == channel]
    return live.setup.gateways.get(keys[0]) if keys else None


def _sample(name: str, live: LiveSetup) -> Any:
    variable = live.setup.variables.get(name)
    return variable.sample if variable and variable.sample is not None else f"⟨{name}⟩"


def _file_label(wanted: Any) -> str:
    if wanted.kind == "library":
        return f"files of the folder “{wanted.shelf}” for this order"
    if wanted.kind == "document":
        return {"invoice": "the invoice", "proforma": "a proforma invoice", "delivery": "a delivery note"}[wanted.of]
    return f"calendar entry on {wanted.on:%-d %B}" if wanted.kind == "calendar" else wanted.name or wanted.url


def _placeholders(compiled: CompiledChat, values: dict[str, Value]) -> list[dict[str, Any]]:
    """Each numbered placeholder with what it is now and the sample that a reviewer would see."""
    found = []
    for number, (expression, template) in enumerate(
        zip(compiled.numbered.placeholders, compiled.placeholders, strict=True), 1
    ):
        try:
            now = template.render(values, compiled.locale, 500)
        except CantRender:
            now = ""
        found.append({"number": number, "of": expression, "now": now, "sample": compiled.samples.get(expression, "")})
    return found


def _email(seen: Preview, made: Any, compiled: Part, live: LiveSetup, samples: list[Sample]) -> None:
    seen.subject = made.subject
    seen.files = [_file_label(wanted) for wanted in made.wanted]
    lists = (("cc", made.cc), ("bcc", made.bcc), ("reply_to", made.reply_to))
    seen.more |= {name: value for name, value in lists if value}


def _chat(seen: Preview, made: Any, compiled: Part, live: LiveSetup, samples: list[Sample]) -> None:
    gateway = next((one for one in live.setup.gateways.values() if one.channel == "chat"), None)
    seen.more |= {"header": made.header, "footer": made.footer, "buttons": list(made.buttons)}
    if gateway and gateway.price:
        seen.more["cost"] = f"{gateway.price:.3f} {live.setup.store.currency}"


def _sms(seen: Preview, made: Any, compiled: Part, live: LiveSetup, samples: list[Sample]) -> None:
    """Segments and cost of this text, and of the shortest, typical and longest that the samples make of it."""
    gateway = next((one for one in live.setup.gateways.values() if one.channel == "sms"), None)
    price = Decimal(gateway.price) if gateway else Decimal(0)
    currency = live.setup.store.currency
    lengths = []
    for sample in samples:
        values, missing = values_for(compiled.names, sample.reading, sample.variables)
        if missing:
            continue
        try:
            other = compiled.render(values)
        except CantRender:
            continue
        count = getattr(other, "count", made.count)
        lengths.append((count.segments, count.units, sample.label, count.encoding))
    lengths.sort()
    told = (
        [("shortest", lengths[0]), ("typical", lengths[len(lengths) // 2]), ("longest", lengths[-1])] if lengths else []
    )
    count = made.count
    room = {"GSM-7": (160, 153), "UCS-2": (70, 67)}[count.encoding][count.segments > 1]
    seen.more |= {
        "encoding": count.encoding,
        "segments": count.segments,
        "units": count.units,
        "left": count.left,
        "room": room,
        "forced": [{"sign": c, "instead": i} for c, i in count.forced_by],
        "cost": f"{price * count.segments:.3f} {currency}" if price else "",
        "cap": gateway.max_segments if gateway else 0,
        "spread": [
            {
                "label": which,
                "segments": s,
                "units": u,
                "with": label,
                "encoding": e,
                "cost": f"{price * s:.3f} {currency}" if price else "",
            }
            for which, (s, u, label, e) in told
        ],
    }


def _call(seen: Preview, made: Any, compiled: Part, live: LiveSetup, samples: list[Sample]) -> None:
    """The gateway that the message's live routes call, else the first that can."""
    through = {active.route.gateway for active in live.setup.routes if active.route.channel == "call"}
    systems = [one for one in live.setup.gateways.values() if one.kind == "call"]
    chosen = next((one for one in systems if one.key in through), systems[0] if systems else None)
    seen.to = f"to {chosen.call.url}" if chosen is not None else "no gateway for it yet"


_MORE: dict[str, Callable[[Preview, Any, Part, LiveSetup, list[Sample]], None]] = {
    "email": _email,
    "sms": _sms,
    "chat": _chat,
    "call": _call,
}
"""What a preview shows besides the text, by channel."""


def edit_location(where: str, message: Message) -> tuple[str, str]:
    """Where a problem is mended: the address of the page, and the field on it."""
    first, _, rest = where.partition(".")
    if first in CHANNELS:
        locale, _, place = rest.partition(".")
        if locale == "*":
            locale = ""
        return f"/messages/{message.key}?channel={first}" + (f"&locale={locale}" if locale else ""), place
    if first == "question":
        return f"/messages/{message.key}/question", rest
    if first == "sources":
        key, _, name = rest.partition(".")
        return f"/sources/{key}/read?open=recipes.{name}", ""
    if first in ("letterhead", "rules"):
        return "/letterhead", rest
    if first == "gateways":
        return f"/gateways/{rest}", ""
    return f"/{first}" if first == "routes" else "", ""
