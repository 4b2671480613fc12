"""Sends as rows of a file."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from angelon.db.log import sends
from angelon.db.log.sends import Filter, ListedSend
from angelon.engine.exports.lines import AT_ONCE, Rows, moment
from angelon.engine.exports.listed import Listed

COLUMNS = (
    *("id", "state", "created_at", "due_at", "settled_at", "order", "total", "amount", "currency", "to", "name"),
    *("channel", "message", "route", "gateway", "locale", "subject", "tries", "cost", "test", "reason"),
)


def row_of(one: ListedSend, names: Mapping[str, Mapping[str, str]]) -> dict[str, Any]:
    """A send as a file has it: `total` is the order's as people read it, `amount` and `currency` the same to reckon
    with. Times are ISO 8601, in UTC.
    """
    send = one.send
    named = {
        "message": names["messages"].get(one.message, one.message),
        "route": names["routes"].get(one.route, one.route),
        "gateway": names["gateways"].get(one.gateway, one.gateway),
    }
    return {
        **{name: getattr(send, name) for name in ("id", "state", "channel", "locale", "subject", "tries")},
        **{name: getattr(send, name) for name in ("test", "reason")},
        **{"order": one.order_number, "total": one.total, "amount": one.amount, "currency": one.currency},
        **{"to": send.recipient, "name": send.recipient_name, "cost": float(send.cost) if send.cost else None},
        **{name: moment(getattr(send, name)) for name in ("created_at", "due_at", "settled_at")},
        **named,
    }


class Sends(Listed):
    """The rows of sends that are wanted, newest first."""

    columns = COLUMNS

    def __init__(self, store_id: int, wanted: Filter, names: Mapping[str, Mapping[str, str]]) -> None:
        self.store_id, self.wanted, self.names = store_id, wanted, names

    def read(self, session: Session) -> tuple[Rows, int]:
        found = sends.listed(session, self.store_id, self.wanted, AT_ONCE, self.after)
        if found:
            self.after = (found[-1].send.created_at, found[-1].send.id)
        return [row_of(one, self.names) for one in found], len(found)
