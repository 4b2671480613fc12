"""What a gateway tells later about a send: delivered, read, failed; and what the customer answered."""

from __future__ import annotations

import datetime as dt
import hashlib
import hmac
import json
from typing import Any

from sqlmodel import Session, select

from angelon.core.payload.paths import MISSING, BadPath, compile_path
from angelon.core.specs.gateway import Gateway
from angelon.core.states import State
from angelon.core.values import show
from angelon.db import sends
from angelon.db.events import derive
from angelon.db.records import NewEvent
from angelon.db.setup import LiveSetup
from angelon.db.tables import EventRow, SendRow
from angelon.engine.clock import Clock
from angelon.engine.planner import needs_followup
from angelon.engine.preparing import route_of


def token_of(secret_key: str, gateway_key: str) -> str:
    """What an address for receipts ends with, so that nobody else can tell of a gateway's sends (HMAC-SHA256, RFC 2104)."""
    return hmac.new(secret_key.encode(), f"receipts:{gateway_key}".encode(), hashlib.sha256).hexdigest()[:32]


def take(session: Session, live: LiveSetup, gateway: Gateway, told: Any, clock: Clock) -> str:
    """Takes one receipt, in the caller's transaction; says what came of it."""
    form = gateway.receipts
    if form is None:
        return "The gateway takes no receipts."
    reference, word = _at(form.id_at, told), _at(form.state_at, told).casefold()
    if not reference:
        return f"No id stands at {form.id_at}."
    row = session.exec(select(SendRow).where(SendRow.gateway_id == live.gateway_ids[gateway.key], SendRow.reference == reference)).first()
    if row is None:
        return "No send has this id."
    now = clock.now()
    for words, state in ((form.delivered, State.DELIVERED), (form.read, State.READ), (form.failed, State.FAILED)):
        if word in {one.casefold() for one in words}:
            reason = f"The gateway says: {_at(form.text_at, told) or word}" if state is State.FAILED else ""
            follow = now if state is State.FAILED and needs_followup(live, route_of(row, live)) else None
            moved = sends.received(session, row.id, state, reason, follow)
            return f"{state.value}." if moved else f"It is {row.state} already."
    if word in {one.casefold() for one in form.answered}:
        return _answered(session, row, _at(form.text_at, told), told, now, clock)
    return f"“{word[:60]}” means nothing here."


def _answered(session: Session, row: SendRow, text: str, told: Any, now: dt.datetime, clock: Clock) -> str:
    """The customer's answer as an event about the order that the send was about. The very same receipt again makes no second one."""
    event = session.get(EventRow, row.event_id) if row.event_id else None
    if event is None:
        return "The send belongs to no event, so its answer does not either."
    key = f"{row.id}>answer.received>{hashlib.sha256(json.dumps(told, sort_keys=True, default=str).encode()).hexdigest()[:24]}"
    if session.exec(select(EventRow.id).where(EventRow.source_id == event.source_id, EventRow.delivery_key == key)).first():
        return "answered already."
    derive(session.connection(), [NewEvent.derived(event, clock.new_id("ev", now), key, text or "answer", "answer.received", now, row.order_id)])
    return "answered."


def _at(path: str, told: Any) -> str:
    try:
        found = compile_path(path).find(told) if path else MISSING
    except BadPath:
        return ""
    return "" if found is MISSING or found is None or isinstance(found, dict | list) else show(found)
