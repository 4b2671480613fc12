"""Test sends: the draft, to somebody of the shop, through the real way out; marked, and counted for nothing."""

from __future__ import annotations

from email_validator import EmailNotValidError

from angelon.core.addresses import BadPhone, check_email, phone_text, read_phone
from angelon.core.messages.chat import CompiledChat
from angelon.core.messages.parts import compiled_part
from angelon.core.messages.preflight import unknown_variable
from angelon.core.messages.templates import CantRender
from angelon.core.planning.plan import values_for
from angelon.core.planning.sentence import CALLED
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message
from angelon.core.states import State
from angelon.core.values import pack
from angelon.db import sends
from angelon.db.tables import MessageRow
from angelon.web.hand import Hand
from angelon.web.services import live, services, session, store


def send(row: MessageRow, message: Message, channel: str, locale: str, gateway_key: str, to: str, hand: Hand) -> str:
    """Puts a test on its way; gives its id. Raises Invalid with what keeps it."""
    gateway = live().setup.gateways.get(gateway_key)
    if gateway is None or gateway.channel != channel:
        raise Invalid(
            [
                Problem(
                    "gateway",
                    f"There is no gateway for {CALLED.get(channel, channel)} yet.",
                    "Set one up under Gateways.",
                )
            ]
        )
    if gateway.paused:
        raise Invalid([Problem("gateway", f"{gateway.name} is paused.", "Let it go on, or choose another.")])
    if locale not in message.variants(channel):
        raise Invalid([Problem("locale", f"There is no {CALLED[channel]} in {locale}.", "Choose another language.")])
    address = _address(channel, to)
    compiled = compiled_part(message, channel, locale, live().setup.store)
    unknown = sorted(compiled.names - set(live().setup.variables) - {"order"})
    if unknown:
        raise Invalid([unknown_variable(unknown[0], live().setup)])
    if hand.reading is None or hand.variables is None:
        if compiled.names:
            raise Invalid(
                [
                    Problem(
                        "hand",
                        "There is no event in hand whose values the text could be filled with.",
                        "Have a source deliver one first.",
                    )
                ]
            )
        values = {}
    else:
        values, missing = values_for(compiled.names, hand.reading, hand.variables)
        if missing:
            raise Invalid([Problem(missing[0].where, missing[0].what, "Take another event in hand, or map it.")])
    try:
        compiled.render(values)
    except CantRender as error:
        raise Invalid([error.problem]) from None
    if isinstance(compiled, CompiledChat) and not live().setup.approved(gateway_key, message, locale, compiled):
        raise Invalid(
            [
                Problem(
                    "review",
                    f"{gateway.name} sends approved texts only, and this one is not approved yet.",
                    "Submit it for review first.",
                )
            ]
        )
    now = services().clock.now()
    send_id = services().clock.new_id("sd", now)
    with services().database.connection() as connection:
        sends.add(
            connection,
            [
                {
                    "id": send_id,
                    "store_id": store().id,
                    "event_id": hand.event.id if hand.event else None,
                    "order_id": None,
                    "route_id": None,
                    "message_id": row.id,
                    "gateway_id": live().gateway_ids[gateway_key],
                    "revision_id": None,
                    "channel": channel,
                    "recipient": address,
                    "recipient_name": "",
                    "locale": locale,
                    "state": State.SCHEDULED,
                    "reason": "",
                    "created_at": now,
                    "due_at": now,
                    "worker": "",
                    "tries": 0,
                    "subject": "",
                    "test": True,
                    "draft": message.plain(),
                    "values": {name: pack(value) for name, value in values.items()},
                    "trace": [
                        {"part": "test", "verdict": "yes", "saw": "sent by hand from the message’s page", "why": ""}
                    ],
                }
            ],
        )
    return send_id


def _address(channel: str, to: str) -> str:
    to = to.strip()
    if channel == "email":
        try:
            return check_email(to)
        except EmailNotValidError as error:
            raise Invalid(
                [
                    Problem(
                        "to", f"“{to[:60]}” is no email address. {error}", "Write one, or choose somebody of the team."
                    )
                ]
            ) from None
    try:
        return phone_text(read_phone(to, live().setup.store.country or None))
    except BadPhone as error:
        raise Invalid([Problem("to", str(error), "Write it like +353 20 915 1234.")]) from None


def look(send_id: str) -> sends.Whole | None:
    """A test send with its attempts; None where there is none."""
    session().rollback()
    found = sends.whole(session(), store().id or 0, send_id)
    return found if found is not None and found.listed.send.test else None
