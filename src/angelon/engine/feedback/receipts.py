"""What a gateway tells later about a send: delivered, read, failed; and what the customer answered."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Collection, Sequence
from typing import Any

import structlog
from sqlmodel import Session, select

from angelon.core.deliveries import storable_text
from angelon.core.messages.channels import address_key, check_address
from angelon.core.payload.paths import MISSING, BadPath, compile_path
from angelon.core.planning.follow_up import has_follow_up
from angelon.core.replies import command
from angelon.core.specs.gateway import Gateway
from angelon.core.states import State
from angelon.core.values import show
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import early_receipts, questions, sends
from angelon.db.log.events import derive
from angelon.db.records import NewEvent
from angelon.db.setup.live_setup import LiveSetup
from angelon.db.tables import EventRow, SendRow
from angelon.engine.clock import Clock
from angelon.engine.feedback.answers import Answers, Given, Reply
from angelon.engine.feedback.suppressing import obey, suppress
from angelon.engine.setups import Setups

log = structlog.get_logger()


KEPT_FOR = dt.timedelta(hours=1)
"""How long a receipt waits for its send: longer than any try takes, and its storing."""


def take_all(database: Database, live: LiveSetup, gateway: Gateway, body: Sequence[Any], clock: Clock) -> list[str]:
    """Takes receipts, each on its own; says of each what came of it. One that can't be taken keeps no other from it."""
    found = []
    with database.writing(locks.of_receipts(live.gateway_ids.get(gateway.key, 0))) as session:
        for one in body:
            try:
                with session.begin_nested():
                    found.append(take(session, live, gateway, one, clock))
            except Exception as error:
                if is_database_failure(error):
                    raise
                log.exception("a receipt could not be taken", gateway=gateway.key)
                found.append(f"It could not be taken: {type(error).__name__}.")
    return found


def match_early(
    database: Database, setups: Setups, clock: Clock, references: Collection[tuple[int, str]] | None = None
) -> int:
    """Takes receipts that came before their send was stored: about these (gateway id, reference), or whichever wait.
    Says how many.

    Never raises but where the database fails: what can't be taken now is looked at again by housekeeping, and dropped
    in the end.
    """
    with database.reading() as session:
        connection = session.connection()
        rows = (
            early_receipts.matched(connection) if references is None else early_receipts.any_for(connection, references)
        )
        late = references is None and early_receipts.any_before(connection, clock.now() - KEPT_FOR)
    if late:
        with database.connection() as writing:
            early_receipts.drop_before(writing, clock.now() - KEPT_FOR)
    taken = 0
    for row in rows:
        try:
            with database.writing(locks.of_receipts(row.gateway_id)) as session:
                taken += _match(session, setups, row, clock)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("an early receipt could not be taken", gateway=row.gateway_id)
    return taken


def _match(session: Session, setups: Setups, row: Any, clock: Clock) -> bool:
    send = session.exec(
        select(SendRow.store_id).where(SendRow.gateway_id == row.gateway_id, SendRow.reference == row.reference)
    ).first()
    if send is None:
        return False
    live = setups.get(send)
    gateway = live.setup.gateways.get(live.gateway_key(row.gateway_id))
    early_receipts.drop(session.connection(), row.id)
    if gateway is not None:
        take(session, live, gateway, row.body, clock, keep=False)
    return True


def take(session: Session, live: LiveSetup, gateway: Gateway, body: Any, clock: Clock, keep: bool = True) -> str:
    """Takes one receipt, in the caller's transaction; says what came of it.

    One whose send is not stored yet is kept for it, where `keep` says so.
    """
    form = gateway.receipts
    if form is None:
        return "The gateway takes no receipts."
    reference, word = _at(form.id_at, body), _at(form.state_at, body).casefold()
    told = _from_sender(session, live, gateway, body, word, clock, not reference) if form.from_at else ""
    if not reference:
        return told or f"There is no id at {form.id_at}."
    gateway_id = live.gateway_ids[gateway.key]
    row = session.exec(select(SendRow).where(SendRow.gateway_id == gateway_id, SendRow.reference == reference)).first()
    if row is None:
        if not keep:
            return "No send has this id."
        kept = early_receipts.keep(session.connection(), gateway_id, reference, body, clock.now())
        return "No send has this id yet; kept until one has." if kept else "No send has this id."
    now = clock.now()
    for words, state in ((form.delivered, State.DELIVERED), (form.read, State.READ), (form.failed, State.FAILED)):
        if word in {one.casefold() for one in words}:
            reason = f"The gateway says: {_at(form.text_at, body) or word}" if state is State.FAILED else ""
            follow = (
                now
                if state is State.FAILED
                and has_follow_up(live.routes.get(live.route_key(row.route_id)), live.setup.routes)
                else None
            )
            moved = sends.received(session, row.id, state, reason, follow)
            if moved and row.question_id and state is not State.FAILED:
                questions.delivered(session.connection(), row.question_id, now)
            return f"{state.value}." if moved else f"It is {row.state} already."
    if word in {one.casefold() for one in form.complained}:
        suppress(session, live, address_key(row.channel, row.recipient), "complaint", "complained.", now)
        return "complained."
    if word in {one.casefold() for one in form.answered}:
        text, key = _at(form.text_at, body), address_key(row.channel, row.recipient)
        asked = questions.by_id(session.connection(), row.question_id) if row.question_id else None
        if asked is not None and command(text, "chat") != "stop":
            taking = Answers(session.connection(), live, clock)
            if taking.reply(asked, Reply(text, row.channel, row.recipient)) is not Given.OTHER:
                return "answered."
        obey(session, live, row.channel, key, text, now)
        return _answered(session, row, text, body, now, clock)
    return f"“{word[:60]}” is unknown here."


def _from_sender(
    session: Session, live: LiveSetup, gateway: Gateway, body: Any, word: str, clock: Clock, alone: bool
) -> str:
    """What an answer does that names who it is from, whether or not it belongs to a send; one that is `alone` belongs
    to none, and may answer a question that its sender was asked.
    """
    form = gateway.receipts
    if form is None or word not in {one.casefold() for one in form.answered}:
        return ""
    try:
        sender = check_address(gateway.channel, gateway, _at(form.from_at, body), live.setup.store.country or None)
    except ValueError:
        return ""
    key, text = address_key(gateway.channel, sender), _at(form.text_at, body)
    if alone:
        taking = Answers(session.connection(), live, clock)
        if taking.by_address(key, Reply(text, gateway.channel, sender)) is not None:
            return "answered."
    return obey(session, live, gateway.channel, key, text, clock.now())


def _answered(session: Session, row: SendRow, text: str, body: Any, now: dt.datetime, clock: Clock) -> str:
    """The customer's answer as an event about the order that the send was about. The very same receipt again makes no
    second one.
    """
    event = session.get(EventRow, row.event_id) if row.event_id else None
    if event is None:
        return "The send belongs to no event, so its answer does not either."
    digest = hashlib.sha256(json.dumps(body, sort_keys=True, default=str).encode()).hexdigest()
    key = f"{row.id}>answer.received>{digest[:24]}"
    if session.exec(
        select(EventRow.id).where(EventRow.source_id == event.source_id, EventRow.delivery_key == key)
    ).first():
        return "answered already."
    derive(
        session.connection(),
        [NewEvent.derived(event, clock.new_id("ev", now), key, text or "answer", "answer.received", now, row.order_id)],
    )
    return "answered."


def _at(path: str, body: Any) -> str:
    try:
        found = compile_path(path).find(body) if path else MISSING
    except BadPath:
        return ""
    return (
        "" if found is MISSING or found is None or isinstance(found, dict | list) else storable_text(show(found)[:500])
    )
