"""What other systems answer to calls, kept with the event that the call was about, and the event that follows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from angelon.core.event_types import ANSWERED_CALL
from angelon.db.log import events, inquiries
from angelon.db.records import NewEvent
from angelon.db.rows import SendRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.gateways.interface import Outcome

MOST_TEXT = 20_000
"""Characters of an answer that is not JSON."""


@dataclass(frozen=True, slots=True)
class CallAnswer:
    """One answer. `event_id` is what the call was about, `new_id` the id of the event that follows; empty where none
    does.
    """

    send_id: str
    event_id: str
    name: str
    value: Any
    at: dt.datetime
    new_id: str

    @classmethod
    def of(cls, row: SendRecord, live: LiveSetup, outcome: Outcome, at: dt.datetime, new_id: str) -> CallAnswer | None:
        """What a call (a row of the send table) was answered; None where its message keeps no answer."""
        key = live.message_key(row.message_id)
        message = live.setup.messages.get(key)
        if message is None or not message.keeps_answer or not row.event_id or row.test:
            return None
        heard = any(ANSWERED_CALL in active.route.when for active in live.setup.routes)
        value = {"status": int(outcome.code) if outcome.code.isdigit() else 0, "body": _read(outcome.body)}
        return cls(row.id, row.event_id, key.replace("-", "_"), value, at, new_id if heard else "")

    def keep(self, connection: Connection) -> None:
        """Stores it with the event that its delivery came as. No event follows from a call that such an event made."""
        event = events.by_ids(connection, [self.event_id]).get(self.event_id)
        if event is None:
            return
        root = event.parent_id or event.id
        inquiries.keep_answer(connection, root, self.name, event.source_id, inquiries.CALL, self.value, self.at)
        if self.new_id and event.type != ANSWERED_CALL:
            key = f"{root}>{ANSWERED_CALL}>{self.send_id}"
            made = NewEvent.derived(event, self.new_id, key, self.name, ANSWERED_CALL, self.at, event.order_id)
            events.derive(connection, [made])


def _read(body: bytes) -> Any:
    try:
        return orjson.loads(body)
    except orjson.JSONDecodeError:
        return body.decode("utf-8", "replace").replace("\x00", "")[:MOST_TEXT]


MOST_KNOWN = 20_000
"""Bytes of an answer that every message about its order knows; a larger one is known to its own event alone."""


def known(connection: Connection, live: LiveSetup, order_ids: Collection[int]) -> dict[int, dict[str, Any]]:
    """What other systems have answered about orders, as texts know it: `order.calls.make_label.body`."""
    if not live.keeps_answers or not order_ids:
        return {}
    found = inquiries.answers_to_calls(connection, order_ids)
    return {id_: {name: _small(value) for name, value in of_it.items()} for id_, of_it in found.items()}


def _small(value: Any) -> Any:
    return value if len(orjson.dumps(value)) <= MOST_KNOWN else {"status": value.get("status"), "body": None}
