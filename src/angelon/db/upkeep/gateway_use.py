"""How much of its rate, quota and credit each gateway has used: one row each, changed within the claim's transaction,
so that several workers share it.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal

from sqlalchemy import Connection, bindparam, func, text, update
from sqlalchemy import select as core_select
from sqlalchemy.dialects import postgresql, sqlite

from angelon.core.sending.allowance import MICRO, Grant, Used, give_back, grant
from angelon.core.specs.gateway import Gateway
from angelon.core.states import OUT
from angelon.db.derived.counts import SENDS, number_of
from angelon.db.lists import not_by_index
from angelon.db.tables import SENDING, GatewayRow, GatewayUseRow, SendRow, table_of

USE = table_of(GatewayUseRow)
GATEWAY = table_of(GatewayRow)
SEND = table_of(SendRow)
_FIRST = {
    name: dialect.insert(USE)
    .values(gateway_id=bindparam("gateway_id"), tokens=0.0, day="", waits_for="")
    .on_conflict_do_nothing()
    for name, dialect in (("sqlite", sqlite), ("postgresql", postgresql))
}
"""A gateway's first row: another may make it at the same moment."""
_IN_HAND = (
    core_select(func.count())
    .select_from(SEND)
    .where(text(SENDING), not_by_index(SEND.c.gateway_id) == bindparam("b_gateway"))
)


def take(
    connection: Connection, gateway_id: int, gateway: Gateway, wanted: int, now: dt.datetime, zone: dt.tzinfo
) -> int:
    """How many of these sends, which are claimed, the gateway may take now; what is granted is used from here on."""
    if not gateway.quota.limits and not _counted(connection, gateway_id):
        return wanted
    used = _locked(connection, gateway_id)
    today = now.astimezone(zone).date()
    if used.day != today.isoformat():  # what went out before anybody counted is used as well
        month = today.replace(day=1)
        day_used, month_used = (_went_out(connection, gateway_id, first) for first in (today, month))
        used = replace(used, day=today.isoformat(), day_used=day_used, month_used=month_used)
    price = Decimal(gateway.price)
    if used.balance is not None and price:  # what other workers have claimed and not yet paid for
        held = connection.execute(_IN_HAND, {"b_gateway": gateway_id}).scalar_one() - wanted
        used = replace(used, balance=used.balance - int(max(0, held) * price * MICRO))
    granted = grant(gateway.quota, used, wanted, price, now, zone)
    _save(connection, gateway_id, granted)
    return granted.number


def _went_out(connection: Connection, gateway_id: int, first: dt.date) -> int:
    """How many messages a gateway has taken, of those made since a day of the shop."""
    of_store = core_select(GATEWAY.c.store_id).where(GATEWAY.c.id == gateway_id).scalar_subquery()
    which = (SENDS.c.store_id == of_store, SENDS.c.day >= number_of(first), SENDS.c.gateway_id == gateway_id)
    taken = core_select(func.sum(SENDS.c.number)).where(*which, SENDS.c.state.in_([*OUT]))
    return int(connection.execute(taken).scalar() or 0)


def put_back(connection: Connection, gateway_id: int, gateway: Gateway, number: int) -> None:
    """What was granted and not begun."""
    if number and gateway.quota.limits:
        _save(connection, gateway_id, Grant(0, give_back(gateway.quota, _locked(connection, gateway_id), number)))


def spend(connection: Connection, spent: Mapping[int, Decimal]) -> None:
    """Takes what accepted sends have cost out of the balances that are counted."""
    for gateway_id, cost in spent.items():
        connection.execute(
            update(USE)
            .where(USE.c.gateway_id == gateway_id, USE.c.balance.is_not(None))
            .values(balance=USE.c.balance - int(cost * MICRO))
        )


def set_balance(connection: Connection, gateway_id: int, balance: Decimal | None) -> None:
    """Current balance of the account, as a person or the provider says; None: not counted."""
    _locked(connection, gateway_id)
    value = int(balance * MICRO) if balance is not None else None
    changed = update(USE).where(USE.c.gateway_id == gateway_id)
    connection.execute(changed.values(balance=value, next_at=None, waits_for=""))


def load(connection: Connection) -> dict[int, GatewayUseRow]:
    """Every row, by gateway."""
    rows = connection.execute(core_select(USE))
    return {row.gateway_id: GatewayUseRow(**row._mapping) for row in rows}


def waiting(connection: Connection, now: dt.datetime) -> dict[int, dt.datetime]:
    """Gateways that may take nothing until a moment."""
    rows = connection.execute(core_select(USE.c.gateway_id, USE.c.next_at).where(USE.c.next_at > now))
    return {gateway_id: at for gateway_id, at in rows}


def _counted(connection: Connection, gateway_id: int) -> bool:
    """Whether somebody counts the gateway's credit."""
    counted = core_select(USE.c.gateway_id).where(USE.c.gateway_id == gateway_id, USE.c.balance.is_not(None))
    return connection.execute(counted).first() is not None


def _locked(connection: Connection, gateway_id: int) -> Used:
    statement = core_select(USE).where(USE.c.gateway_id == gateway_id)
    row = connection.execute(statement.with_for_update()).first()
    if row is None:
        connection.execute(_FIRST[connection.dialect.name], {"gateway_id": gateway_id})
        row = connection.execute(statement.with_for_update()).first()
    if row is None:
        return Used()
    return Used(row.tokens, row.filled_at, row.day, row.day_used, row.month_used, row.balance)


def _save(connection: Connection, gateway_id: int, granted: Grant) -> None:
    used = granted.used
    connection.execute(
        update(USE)
        .where(USE.c.gateway_id == gateway_id)
        .values(
            tokens=used.tokens,
            filled_at=used.filled_at,
            day=used.day,
            day_used=used.day_used,
            month_used=used.month_used,
            next_at=granted.next_at,
            waits_for=granted.waits_for,
        )
    )
