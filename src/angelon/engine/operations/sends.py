"""Sends: sent again, cancelled, released; a message sent to somebody of the shop to see it."""

from __future__ import annotations

from collections.abc import Sequence

from angelon.core.messages.channels import CHANNEL_LABELS, CHANNELS, compiled_part
from angelon.core.planning.plan import values_for
from angelon.core.planning.preflight import unknown_variable
from angelon.core.problems import Invalid, Problem
from angelon.core.sending.due import EventFacts
from angelon.core.specs import Message
from angelon.core.states import State
from angelon.core.templates import CantRender
from angelon.core.values import Value
from angelon.db.records import NewSend
from angelon.engine.unit import Work


def send_again(work: Work, ids: Sequence[str]) -> list[str]:
    """Schedules sends at once: held, failed, skipped or cancelled ones, and those that wait for their next try.

    Their values are worked out from the event anew, as mapping and message stand now. Gives which were scheduled.
    """
    return work.sends.move(ids, State.SCHEDULED)


def cancel(work: Work, ids: Sequence[str]) -> list[str]:
    """Takes back sends that are not out; gives which were."""
    return work.sends.move(ids, State.CANCELLED, "Taken back by hand.")


def send_test(
    work: Work,
    message_id: int,
    message: Message,
    channel: str,
    locale: str,
    gateway_key: str,
    to: str,
    sample: EventFacts | None,
) -> str:
    """Sends a message as it stands to somebody of the shop, filled with a sample event, through the real gateway; gives
    the send's id. Raises Invalid with what keeps it.
    """
    setup = work.live.setup
    gateway = setup.gateways.get(gateway_key)
    if gateway is None or gateway.channel != channel:
        what = f"There is no gateway for {CHANNEL_LABELS.get(channel, channel)} yet."
        raise Invalid([Problem("gateway", what, "Set one up under Gateways.")])
    if gateway.paused:
        raise Invalid([Problem("gateway", f"{gateway.name} is paused.", "Resume it, or choose another.")])
    if locale not in message.variants(channel):
        what = f"There is no {CHANNEL_LABELS[channel]} in {locale}."
        raise Invalid([Problem("locale", what, "Choose another language.")])
    address = _address(channel, to, setup.store.country)
    part = compiled_part(message, channel, locale, setup.store)
    unknown = sorted(part.names - set(setup.variables) - {"order"})
    if unknown:
        raise Invalid([unknown_variable(unknown[0], setup)])
    values: dict[str, Value] = {}
    if sample is not None:
        values, missing = values_for(part.names, sample.reading, sample.variables)
        if missing:
            raise Invalid([Problem(missing[0].where, missing[0].what, "Choose another sample event, or map it.")])
    elif part.names:
        what = "There is no sample event whose values the text could be filled with."
        raise Invalid([Problem("sample", what, "Have a source deliver one first.")])
    try:
        part.render(values)
    except CantRender as error:
        raise Invalid([error.problem]) from None
    if setup.approval(gateway_key, message, locale, part) is None:
        what = f"{gateway.name} sends approved texts only, and this one is not approved yet."
        raise Invalid([Problem("review", what, "Submit it for review first.")])
    event_id = sample.event.id if sample is not None else None
    id_ = work.clock.new_id("sd", work.now)
    new = NewSend.for_test(
        work.live, id_, message_id, message, gateway_key, channel, locale, address, values, event_id, work.now
    )
    work.sends.add([new])
    work.record("test sent", "message", message.key, None, {"to": address, "channel": channel, "locale": locale})
    return id_


def _address(channel: str, to: str, country: str) -> str:
    text = to.strip()
    one = CHANNELS[channel]
    try:
        return one.check_address(text, country or None)
    except ValueError as error:
        what = f"“{text[:60]}” is no {one.address_label}. {error}"
        raise Invalid([Problem("to", what, "Write one, or choose somebody of the team.")]) from None
