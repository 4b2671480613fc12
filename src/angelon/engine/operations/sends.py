"""Sends: sent again, cancelled, released; a message sent to somebody of the shop to see it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from angelon.core.messages.call import system_of
from angelon.core.messages.channels import CHANNEL_LABELS, address_label, check_address, compiled_part
from angelon.core.messages.known_fields import GIVEN
from angelon.core.planning.inputs import Setup
from angelon.core.planning.people import written_for
from angelon.core.planning.plan import clock_of, values_for
from angelon.core.planning.preflight import empty_text, unknown_variable
from angelon.core.problems import Invalid, Problem
from angelon.core.sending.due import EventFacts
from angelon.core.specs import Gateway, Message
from angelon.core.states import OUT, State, sources_by_hand
from angelon.core.templates import CantRender
from angelon.core.values import Value
from angelon.db.log import downloads, sends
from angelon.db.log.sends import Filter
from angelon.db.records import NewSend
from angelon.db.tables import SendRow
from angelon.engine.unit import Work, found


def send_again(work: Work, ids: Sequence[str]) -> list[str]:
    """Schedules sends at once: held, failed, skipped or cancelled ones, and those that wait for their next try.

    Their values are worked out from the event anew, as mapping and message stand now. Gives which were scheduled.
    """
    return work.sends.move(ids, State.SCHEDULED)


def cancel(work: Work, ids: Sequence[str]) -> list[str]:
    """Takes back sends that are not out; gives which were."""
    return work.sends.move(ids, State.CANCELLED, "Cancelled manually.")


_NEW_ID = re.compile(r"sd-[0-9a-z]{19}")
CHUNK = 200
"""Sends that are moved in one transaction where many are."""
ACTS: dict[str, tuple[State, str]] = {
    "retry": (State.SCHEDULED, ""),
    "hold": (State.HELD, "Held manually."),
    "cancel": (State.CANCELLED, "Cancelled manually."),
}
"""What may be done with many sends at once, by name: the state that they move to, and why."""


@dataclass(frozen=True, slots=True)
class Chunk:
    """A part of a bulk action: how many were looked at and how many were moved; where the next part begins, empty where
    there is none.
    """

    seen: int
    moved: int
    next: str


def in_bulk(work: Work, act: str, wanted: Filter, after: str = "", limit: int = CHUNK) -> Chunk:
    """Does one thing with the sends that fit a filter, a part at a time, in the order of their ids from `after` on: so
    that no other writer waits for all of them. Those that are in a worker's hands, or moved on meanwhile, are passed
    over; what a guard or a person stopped is sent only where the filter names that state. Raises Invalid for an act
    that is none.
    """
    if act not in ACTS:
        raise Invalid([Problem("act", "That is nothing that can be done with sends.")])
    to, reason = ACTS[act]
    states = [s for s in sources_by_hand(to) if s not in (State.SKIPPED, State.CANCELLED) or s in wanted.states]
    ids = sends.matching(work.session, work.store_id, wanted, states, after, limit)
    moved = work.sends.move(ids, to, reason) if ids else []
    return Chunk(len(ids), len(moved), ids[-1] if len(ids) == limit else "")


def ticked(work: Work, act: str, ids: Sequence[str]) -> Chunk:
    """The same with chosen sends. Raises Invalid for an act that is none."""
    if act not in ACTS:
        raise Invalid([Problem("act", "That is nothing that can be done with sends.")])
    to, reason = ACTS[act]
    return Chunk(len(ids), len(work.sends.move(ids, to, reason)), "")


def correct_address(work: Work, send_id: str, to: str, everywhere: bool) -> int:
    """Another address for a send that is not out, and with `everywhere` for every other one that goes to the old one;
    those that were held or had failed go out at once. Says how many have it. Raises NotFound and Invalid.
    """
    send = _found(work, send_id)
    address = _address(send.channel, to, work.live.setup.store.country, _gateway(work, send))
    if State(send.state) not in sends.CORRECTABLE:
        raise Invalid([Problem("to", "It is out already.", "Send it again to the other address.")])
    ids = [send_id]
    if everywhere and send.recipient:
        old = Filter(channels=(send.channel,), recipient=send.recipient)
        open_ = (State.HELD, State.FAILED, State.SCHEDULED, State.RETRYING)
        ids = list(dict.fromkeys([*ids, *sends.matching(work.session, work.store_id, old, open_, "", 1000)]))
    changed = sends.correct(work.session, work.store_id, ids, address)
    stuck = sends.matching(
        work.session,
        work.store_id,
        Filter(channels=(send.channel,), recipient=address),
        (State.HELD, State.FAILED),
        "",
        1000,
    )
    work.sends.move([id_ for id_ in stuck if id_ in set(ids)], State.SCHEDULED)
    work.record("address corrected", "send", send_id, {"to": send.recipient}, {"to": address, "sends": changed})
    return changed


def repeat(work: Work, send_id: str, to: str = "", as_id: str = "") -> str:
    """Sends once more what is out, as a send of its own: to the same address or another. Gives the new send's id;
    `as_id` is the one that it shall have, so that a form that is sent twice sends once. What keeps any send back
    (suppression, consent, a paused gateway) keeps this one, too. Raises NotFound and Invalid.
    """
    send = _found(work, send_id)
    id_ = as_id if _NEW_ID.fullmatch(as_id) else work.clock.new_id("sd", work.now)
    if work.sends.get(id_) is not None:
        return id_
    if State(send.state) not in OUT:
        raise Invalid([Problem("", "It is not out yet.", "Try it again, or release it.")])
    address = (
        _address(send.channel, to, work.live.setup.store.country, _gateway(work, send))
        if to.strip()
        else send.recipient
    )
    work.sends.add([NewSend.again(send, id_, address, work.now, work.live)])
    work.record("sent once more", "send", send_id, None, {"as": id_, "to": address})
    return id_


def allow_downloads(work: Work, send_id: str, on: bool) -> None:
    """Ends the downloads of a send's files at once, or allows those that are left again. Raises NotFound."""
    _found(work, send_id)
    changed = downloads.revoke(work.connection, send_id, None if on else work.now)
    found(True if changed else None, "This message has no files to download.")
    work.record("downloads allowed" if on else "downloads ended", "send", send_id, None, None)


def _found(work: Work, send_id: str) -> SendRow:
    row: SendRow = found(work.sends.get(send_id), f"There is no send “{send_id}”.")
    return row


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
    written = ""
    with work.look() as looked:
        setup = looked.live.setup
        address, values = _filled(setup, message, channel, locale, gateway_key, to, sample)
        if sample is not None:  # as its own reader would get it
            written = written_for(locale, sample.reading, sample.facts, setup)
    event_id = sample.event.id if sample is not None else None
    id_ = work.clock.new_id("sd", work.now)
    new = NewSend.for_test(
        work.live, id_, message_id, message, gateway_key, channel, locale, address, values, event_id, work.now, written
    )
    work.sends.add([new])
    work.record("test sent", "message", message.key, None, {"to": address, "channel": channel, "locale": locale})
    return id_


def _filled(
    setup: Setup, message: Message, channel: str, locale: str, gateway_key: str, to: str, sample: EventFacts | None
) -> tuple[str, dict[str, Value]]:
    """To whom a test goes, and the values that its text is filled with. Raises Invalid with what keeps it."""
    gateway = setup.gateways.get(gateway_key)
    if gateway is None or gateway.channel != channel:
        what = f"There is no gateway for {CHANNEL_LABELS.get(channel, channel)} yet."
        raise Invalid([Problem("gateway", what, "Set one up under Gateways.")])
    if gateway.paused:  # one that was not tried yet is tried by this
        raise Invalid([Problem("gateway", f"{gateway.name} is paused.", "Resume it, or choose another.")])
    if locale not in message.variants(channel):
        what = f"There is no {CHANNEL_LABELS[channel]} in {locale}."
        raise Invalid([Problem("locale", what, "Choose another language.")])
    if empty := empty_text(message, setup, channel, locale):
        raise Invalid(empty)
    address = _address(channel, to, setup.store.country, setup.gateways.get(gateway_key))
    part = compiled_part(message, channel, locale, setup.store)
    unknown = sorted(part.names - set(setup.variables) - GIVEN)
    if unknown:
        raise Invalid([unknown_variable(unknown[0], setup)])
    values: dict[str, Value] = {}
    if sample is not None:
        clock = clock_of(setup.store, "customer", sample.reading)
        values, missing = values_for(part.names, sample.reading, sample.variables, clock)
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
    return address, values


def _gateway(work: Work, send: SendRow) -> Gateway | None:
    return work.live.setup.gateways.get(work.live.gateway_key(send.gateway_id))


def _address(channel: str, to: str, country: str, gateway: Gateway | None) -> str:
    text = to.strip()
    if channel == "call" and gateway is not None:
        text = system_of(gateway)
    try:
        return check_address(channel, gateway, text, country or None)
    except ValueError as error:
        what = f"“{text[:60]}” is no {address_label(channel, gateway)}. {error}"
        raise Invalid([Problem("to", what, "Write one, or choose somebody of the team.")]) from None
