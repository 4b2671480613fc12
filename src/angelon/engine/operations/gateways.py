"""Gateways: created, saved, paused and resumed, tried, their sender verified."""

from __future__ import annotations

import datetime as dt
import secrets
from typing import Any

from angelon.core.messages.email import RenderedEmail
from angelon.core.messages.mime import Envelope, build
from angelon.core.problems import Invalid, Problem
from angelon.core.sending.outgoing import Mail
from angelon.core.specs import Gateway
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.db import gateway_health, sends
from angelon.engine.installation import Installation
from angelon.engine.unit import MACHINE, Actor, Work, unit
from angelon.gateways.transports import transport_for

KINDS = {"smtp": "a mail server (SMTP)", "sms": "an SMS provider (HTTP)", "chat": "a chat provider (HTTP)"}
_SMS_BODY = '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ text | json }}}'
_CHAT_BODY = (
    '{"to": {{ to | json }}, "from": {{ sender | json }}, "text": {{ template | json }}, "values": {{ values | json }}}'
)
_FIRST_CALLS: dict[str, dict[str, Any]] = {
    kind: {"body": body, "headers": {"Idempotency-Key": "{{ key }}"}, "id_at": "$.id"}
    for kind, body in (("sms", _SMS_BODY), ("chat", _CHAT_BODY))
}
"""What a new provider's request starts from."""
CODE_FOR = dt.timedelta(hours=1)
"""How long a code for a sender's address is valid."""


def create(work: Work, name: str, kind: str) -> str:
    """A new gateway with what its kind starts from; gives its key. Raises Invalid."""
    key = key_of(name)
    if not key or kind not in KINDS:
        raise Invalid([Problem("name", "Give the gateway a name with at least one letter or digit.")])
    if work.specs.row("gateway", key) is not None:
        raise Invalid([Problem("name", f"There is a gateway called “{key}” already.", "Choose another name.")])
    spec: dict[str, Any] = {"key": key, "name": name, "kind": kind}
    if kind == "smtp":
        spec["sender"] = {"address": work.live.setup.store.support_email or "shop@example.com"}
    else:
        spec |= {"auth": {"scheme": "bearer"}, "call": _FIRST_CALLS[kind]}
    work.specs.save(read_spec(Gateway, spec))
    return key


def save(work: Work, gateway: Gateway, password: str = "", expected: int | None = None) -> None:
    """A gateway's settings, and its password or token where there is a new one. Raises Conflict."""
    row = work.specs.save(gateway, expected)
    if password:
        work.vault.put(work.session, "gateway", row.id, password, work.now)
        work.record("secret replaced", "gateway", gateway.key)
    gateway_health.forget(work.connection, row.id)


def pause(work: Work, gateway: Gateway) -> None:
    """Holds what is due for it until it is resumed."""
    work.specs.save(gateway.model_copy(update={"paused": True}), action="paused")


def resume(work: Work, gateway: Gateway) -> int:
    """Sends through it again, and releases what was held for it; says how many sends that is."""
    row = work.specs.save(gateway.model_copy(update={"paused": False}), action="resumed")
    work.wake()
    return sends.release_held(work.connection, row.id, f"{gateway.name} is paused.", work.now)


def probe(work: Work, gateway: Gateway) -> bool:
    """Has one send tried at once where the gateway is taken to be unreachable; says whether it is."""
    unreachable = gateway_health.probe_now(work.connection, work.live.gateway_ids[gateway.key], work.now)
    work.wake()
    return unreachable


def send_code(installation: Installation, store_id: int, gateway: Gateway, actor: Actor = MACHINE) -> None:
    """Sends a code to the sender's own address through this gateway, outside any transaction: a slow server holds up
    nobody. Raises Invalid where the gateway refuses it.
    """
    assert gateway.sender is not None
    live, now = installation.setups.get(store_id), installation.clock.now()
    gateway_id = live.gateway_ids[gateway.key]
    address, code = gateway.sender.address, f"{secrets.randbelow(1_000_000):06d}"
    text = f"The code is {code}. Type it in on the page of {gateway.name} within an hour.\n"
    mail = RenderedEmail(f"{code} is the code for {address}", f"<p>{text}</p>", text)
    message_id = f"{secrets.token_hex(8)}@{address.rpartition('@')[2]}"
    data = build(mail, Envelope(address, live.setup.store.name, address, "", message_id, now))
    with installation.database.reading() as session:
        kept = installation.vault.get(session, "gateway", gateway_id, now)
    transport = transport_for(gateway, kept[0].text if kept else "")
    outcome = transport.deliver(Mail(address, address, data), code)
    transport.close()
    if outcome.kind != "accepted":
        raise Invalid([Problem("sender", f"The code could not be sent: {outcome.code} {outcome.answer}")])
    with unit(installation, store_id, actor) as work:
        work.vault.put(work.session, "sender-code", gateway_id, f"{address} {code}", now)
        work.vault.expire(work.session, "sender-code", gateway_id, now + CODE_FOR)


def verify_sender(work: Work, gateway: Gateway, typed: str) -> None:
    """Takes the code that was read at the sender's address. Raises Invalid where it is another, or too old."""
    assert gateway.sender is not None
    gateway_id = work.live.gateway_ids[gateway.key]
    kept = work.vault.get(work.session, "sender-code", gateway_id, work.now)
    right = f"{gateway.sender.address} {''.join(typed.split())}".encode()
    if not kept or not secrets.compare_digest(kept[0].text.encode(), right):
        what = "That is not the code, or it is older than an hour."
        raise Invalid([Problem("code", what, "Have a new one sent.")])
    verified = gateway.model_copy(update={"sender": gateway.sender.model_copy(update={"verified": True})})
    work.specs.save(verified, action="sender verified")
    work.vault.expire(work.session, "sender-code", gateway_id, work.now)
