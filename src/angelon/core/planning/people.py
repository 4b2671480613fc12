"""Who is behind a route's recipients, by which address, in which language. Pure."""

from __future__ import annotations

from typing import Any, NamedTuple

from angelon.core.messages.call import system_of
from angelon.core.messages.channels import CHANNELS, address_label, address_part, check_address
from angelon.core.payload.paths import MISSING, compile_path
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.inputs import Facts, Setup
from angelon.core.reading import Reading
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.recipients import Recipient
from angelon.core.timing.places import language_of
from angelon.core.values import format_locale, regional, show


class Person(NamedTuple):
    """One address of a recipient; or why there is none."""

    recipient: Recipient
    address: str
    name: str
    locale: str
    why: str = ""

    @property
    def to(self) -> str:
        return recipient_key(self.recipient)


def recipient_key(recipient: Recipient) -> str:
    """How a send names the recipient that it is for."""
    return recipient.kind if recipient.kind in ("customer", "system") else f"{recipient.kind}:{recipient.who}"


def people(context: PlanningContext, recipient: Recipient, channel: str, gateway_key: str = "") -> list[Person]:
    """Everybody behind a recipient, for a channel and a gateway of it; at least one, who may have no address."""
    gateway = context.setup.gateways.get(gateway_key)
    if recipient.kind == "system" or channel == "call":
        system = system_of(gateway) if gateway is not None and gateway.kind == "call" else ""
        why = "" if system else "The gateway of this call has no address yet."
        name = gateway.name if gateway is not None else ""
        return [Person(Recipient(kind="system"), system, name, context.setup.store.locale, why)]
    cache_key = ("people", recipient.kind, recipient.who, recipient.name, channel, address_part(channel, gateway))
    found: list[Person] | None = context.kept.get(cache_key)
    if found is None:
        found = context.kept[cache_key] = _people(context, recipient, channel, gateway)
    return found


def _people(context: PlanningContext, recipient: Recipient, channel: str, gateway: Gateway | None) -> list[Person]:
    setup, reading = context.setup, context.reading
    store = setup.store
    if recipient.kind == "customer":
        address, name, why = customer(channel, reading, gateway)
        return [Person(recipient, address, name, locale_of_reader(reading, context.facts, setup), why)]
    if recipient.kind == "role":
        members = [member for member in store.team if member.role.casefold() == recipient.who.casefold()]
        if not members:
            return [Person(recipient, "", "", store.locale, f"Nobody of the shop has the role “{recipient.who}”.")]
        what = CHANNELS[channel].address_label
        return [
            Person(
                recipient,
                member.address(channel),
                member.name,
                store.locale,
                "" if member.address(channel) else f"{member.name} has no {what}.",
            )
            for member in members
        ]
    if recipient.kind == "address":
        return [_address(recipient, recipient.who, channel, gateway, store.locale)]
    if recipient.kind == "variable":
        if recipient.who not in setup.variables:
            why = f"There is no variable “{recipient.who}” any more."
            return [Person(recipient, "", "", store.locale, why)]
        evaluation = context.variables[recipient.who]
        found: Any = evaluation.value if evaluation.present else None
        nothing = evaluation.problem.what if evaluation.problem else f"“{recipient.who}” has no value in this event."
    else:
        found = compile_path(recipient.who).find(context.event.payload)
        nothing = f"There is nothing at {recipient.who} in this event."
    values = [] if found is MISSING or found is None else found if isinstance(found, list) else [found]
    if not values:
        return [Person(recipient, "", "", store.locale, nothing)]
    return [
        _address(recipient, show(value), channel, gateway, locale_of_reader(reading, context.facts, setup))
        for value in values[:50]
    ]


def _address(recipient: Recipient, text: str, channel: str, gateway: Gateway | None, locale: str) -> Person:
    """An address that was written or found, checked."""
    try:
        address = check_address(channel, gateway, text)
    except ValueError as error:
        return Person(
            recipient,
            "",
            recipient.name,
            locale,
            f"“{text[:60]}” is no {address_label(channel, gateway)}: {error}",
        )
    return Person(recipient, address, recipient.name, locale)


def locale_of_reader(reading: Reading, facts: Facts, setup: Setup) -> str:
    """The language a customer is spoken to in, as their country has it (`en-AU`): the order's, else the one they are
    known by, else their country's where the shop speaks it, else the shop's.
    """
    label = reading.text("language") or (facts.contact.language if facts.contact else "")
    country = reading.text("country")
    if label:
        return regional(label, country)
    spoken = {tag.partition("-")[0]: tag for tag in (*setup.store.locales, setup.store.locale)}
    return spoken.get(language_of(country), setup.store.locale) if country else setup.store.locale


def written_for(text: str, reading: Reading, facts: Facts, setup: Setup) -> str:
    """How numbers and days of a text in this language are written to the customer of an event."""
    return format_locale(text, locale_of_reader(reading, facts, setup), setup.store.country)


def customer(channel: str, reading: Reading, gateway: Gateway | None = None) -> tuple[str, str, str]:
    """The customer's address and name for a channel and a gateway of it; or why there is none."""
    part = address_part(channel, gateway)
    evaluation = reading.parts.get(part)
    if evaluation is None:
        return "", "", f"The source does not read the customer's {part} yet."
    if evaluation.problem:
        return "", "", f"The order has no usable {part}. {evaluation.problem.what}"
    if part == "account":
        try:
            return check_address(channel, gateway, show(evaluation.value)), show(reading.value("name")), ""
        except ValueError as error:
            return "", "", f"The order has no usable account. {error}"
    return str(evaluation.value), show(reading.value("name")), ""
