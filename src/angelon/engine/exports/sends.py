"""Sends as rows of a file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from angelon.db.database import Database
from angelon.db.log import sends
from angelon.db.log.sends import Filter, ListedSend
from angelon.engine.exports.lines import AT_ONCE, moment

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


def parts(
    database: Database, store_id: int, wanted: Filter, names: Mapping[str, Mapping[str, str]]
) -> Iterator[list[dict[str, Any]]]:
    """The rows, newest first."""
    after = None
    while True:
        with database.reading() as session:
            found = sends.listed(session, store_id, wanted, AT_ONCE, after)
            rows = [row_of(one, names) for one in found]
        yield rows
        if len(found) < AT_ONCE:
            return
        after = (found[-1].send.created_at, found[-1].send.id)
