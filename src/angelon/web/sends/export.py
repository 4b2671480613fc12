"""Sends as a file: CSV (RFC 4180) or JSON Lines, streamed, however many there are."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from angelon.core.masking import masked
from angelon.core.tables_out import inert
from angelon.db import sends
from angelon.db.database import Database
from angelon.db.sends import Filter, ListedSend

AT_ONCE = 1000
COLUMNS = (
    *("id", "state", "created_at", "due_at", "settled_at", "order", "amount", "to", "name", "channel", "message"),
    *("route", "gateway", "locale", "subject", "tries", "cost", "test", "reason"),
)


def row_of(one: ListedSend, names: Mapping[str, Mapping[str, str]]) -> dict[str, Any]:
    """A send as a file has it. Times are ISO 8601, in UTC."""
    send = one.send
    named = {
        "message": names["messages"].get(one.message, one.message),
        "route": names["routes"].get(one.route, one.route),
        "gateway": names["gateways"].get(one.gateway, one.gateway),
    }
    times = {name: getattr(send, name) for name in ("created_at", "due_at", "settled_at")}
    plain = {name: at.isoformat() if at is not None else "" for name, at in times.items()}
    found = {
        **{name: getattr(send, name) for name in ("id", "state", "channel", "locale", "subject", "tries", "cost")},
        **{name: getattr(send, name) for name in ("test", "reason")},
        **{"order": one.order_number, "amount": one.total, "to": send.recipient, "name": send.recipient_name},
        **plain,
        **named,
    }
    return {name: found[name] for name in COLUMNS}


def lines(
    database: Database,
    store_id: int,
    wanted: Filter,
    names: Mapping[str, Mapping[str, str]],
    kind: str,
    hide: bool,
) -> Iterator[str]:
    """The file, a part at a time, newest first; with addresses and numbers hidden where `hide` says so."""
    write: Callable[[Mapping[str, Any]], str] = _csv_line if kind == "csv" else _json_line
    if kind == "csv":
        yield _csv_line({name: name for name in COLUMNS})
    after = None
    while True:
        with database.reading() as session:
            found = sends.listed(session, store_id, wanted, AT_ONCE, after)
            part = "".join(write(row_of(one, names)) for one in found)
        yield masked(part) if hide else part
        if len(found) < AT_ONCE:
            return
        after = (found[-1].send.created_at, found[-1].send.id)


def _csv_line(row: Mapping[str, Any]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerow([inert(str(value)) for value in row.values()])
    return out.getvalue()


def _json_line(row: Mapping[str, Any]) -> str:
    return json.dumps(row, ensure_ascii=False) + "\n"
