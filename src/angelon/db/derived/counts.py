"""How many sends, orders and events there are, read from what is counted as it happens (`db/derived/counting.py`).

Days are days of the shop. A first day of None stands for all time.
"""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, and_, func
from sqlalchemy import select as core_select

from angelon.core.states import State
from angelon.db.tables import DecisionCountRow, EventCountRow, OrderCountRow, SendCountRow, table_of

SENDS = table_of(SendCountRow)
ORDERS = table_of(OrderCountRow)
EVENTS = table_of(EventCountRow)
DECISIONS = table_of(DecisionCountRow)
_EPOCH = dt.date(1970, 1, 1)


def number_of(day: dt.date) -> int:
    """Days since 1970."""
    return (day - _EPOCH).days


def day_of(number: int) -> dt.date:
    return _EPOCH + dt.timedelta(days=number)


def all_sends(store_id: int) -> Any:
    """A query for how many sends a store has."""
    counted = core_select(func.coalesce(func.sum(SENDS.c.number), 0)).where(SENDS.c.store_id == store_id)
    return counted.scalar_subquery()


def all_orders(store_id: int) -> Any:
    """A query for how many orders a store has."""
    counted = core_select(func.coalesce(func.sum(ORDERS.c.number), 0)).where(ORDERS.c.store_id == store_id)
    return counted.scalar_subquery()


@dataclass(frozen=True, slots=True)
class Tally:
    """So many sends that are alike in these. An id of 0 stands for none."""

    state: str
    channel: str
    message_id: int
    route_id: int
    gateway_id: int
    number: int

    def part(self, facet: str) -> Any:
        return getattr(self, _PARTS[facet])


_PARTS = {
    "states": "state",
    "channels": "channel",
    "messages": "message_id",
    "routes": "route_id",
    "gateways": "gateway_id",
}
FACETS = tuple(_PARTS)
"""By what sends are told apart in their list."""


def tallies(connection: Connection, store_id: int, first: dt.date | None) -> list[Tally]:
    """How many sends there are for each of the facets' combinations, since a day."""
    columns = [SENDS.c[name] for name in _PARTS.values()]
    since = [SENDS.c.day >= number_of(first)] if first is not None else []
    counted = core_select(*columns, func.sum(SENDS.c.number)).where(SENDS.c.store_id == store_id, *since)
    rows: Any = connection.execute(counted.group_by(*columns))
    return [
        Tally(state, channel, message, route, gateway, int(number))
        for state, channel, message, route, gateway, number in rows
        if number
    ]


def days_with(
    connection: Connection, store_id: int, chosen: Mapping[str, Any], enough: int, until: dt.date | None = None
) -> list[dt.date]:
    """The newest days that together have enough sends of what is chosen of the facets (ids, or a query for them), the
    newest first; all days that have any where that is less. Where they are only looked for `until` a day, it and the
    two before it do not count, but are among them: of those the list may have had some.
    """
    mine: list[Any] = [SENDS.c[_PARTS[facet]].in_(values) for facet, values in chosen.items()]
    if until is not None:
        mine.append(SENDS.c.day <= number_of(until))
    number = func.sum(SENDS.c.number)
    counted = core_select(SENDS.c.day, number).where(SENDS.c.store_id == store_id, *mine).group_by(SENDS.c.day)
    days: list[dt.date] = []
    for day, there in connection.execute(counted.having(number > 0).order_by(SENDS.c.day.desc())):
        days.append(day_of(day))
        enough -= int(there) if until is None or (until - days[-1]).days > 2 else 0
        if enough <= 0:
            break
    return days


def by_facet(found: Iterable[Tally], chosen: dict[str, Collection[Any]]) -> dict[str, dict[Any, int]]:
    """How many there are of each value of each facet; what is chosen of the other facets narrows it, of its own not."""
    counted: dict[str, Counter[Any]] = {facet: Counter() for facet in FACETS}
    wanted = {facet: set(values) for facet, values in chosen.items() if values}
    for one in found:
        off = [facet for facet, values in wanted.items() if one.part(facet) not in values]
        if not off:
            for facet in FACETS:
                counted[facet][one.part(facet)] += one.number
        elif len(off) == 1:
            counted[off[0]][one.part(off[0])] += one.number
    return {facet: dict(values) for facet, values in counted.items()}


@dataclass
class Day:
    """One day of the shop. What it cost is in the store's currency."""

    day: dt.date
    orders: int = 0
    sends: int = 0
    """Those that were not skipped."""
    retried: int = 0
    """Those that needed more than one try."""
    cost: float = 0.0
    outcomes: Counter[tuple[str, str]] = field(default_factory=Counter)
    """By channel and state."""


def days(
    connection: Connection, store_id: int, first: dt.date, last: dt.date, route_id: int | None = None
) -> list[Day]:
    """Every day from the first to the last, of all sends or of one route's; tests are left out."""
    found = {number: Day(day_of(number)) for number in range(number_of(first), number_of(last) + 1)}
    span = and_(SENDS.c.day >= number_of(first), SENDS.c.day <= number_of(last))
    sums = (func.sum(SENDS.c.number), func.sum(SENDS.c.retried), func.sum(SENDS.c.cost))
    where = [SENDS.c.store_id == store_id, span, SENDS.c.test.is_(False)]
    if route_id is not None:
        where.append(SENDS.c.route_id == route_id)
    rows = connection.execute(
        core_select(SENDS.c.day, SENDS.c.channel, SENDS.c.state, *sums)
        .where(*where)
        .group_by(SENDS.c.day, SENDS.c.channel, SENDS.c.state)
    )
    for day, channel, state, number, retried, cost in rows:
        one = found[day]
        one.outcomes[channel, state] += int(number)
        one.retried += int(retried)
        one.cost += int(cost) / 1_000_000
        one.sends += int(number) if state != State.SKIPPED else 0
    span = and_(ORDERS.c.day >= number_of(first), ORDERS.c.day <= number_of(last))
    for day, number in connection.execute(
        core_select(ORDERS.c.day, ORDERS.c.number).where(ORDERS.c.store_id == store_id, span)
    ):
        found[day].orders += number
    return list(found.values())


def meaning_nothing(connection: Connection, source_ids: Sequence[int], first: dt.date) -> dict[int, int]:
    """How many events of each source have come since a day whose name means nothing; of those that have any."""
    rows = connection.execute(
        core_select(EVENTS.c.source_id, func.sum(EVENTS.c.events))
        .where(EVENTS.c.source_id.in_(source_ids), EVENTS.c.day >= number_of(first), EVENTS.c.type == "")
        .group_by(EVENTS.c.source_id)
    )
    return {source_id: int(number) for source_id, number in rows if number}


def orders_by_type(connection: Connection, source_ids: Sequence[int], first: dt.date) -> dict[str, int]:
    """How many orders had their first event of each type since a day."""
    rows = connection.execute(
        core_select(EVENTS.c.type, func.sum(EVENTS.c.orders))
        .where(EVENTS.c.source_id.in_(source_ids), EVENTS.c.day >= number_of(first), EVENTS.c.type != "")
        .group_by(EVENTS.c.type)
    )
    return {type_: int(number) for type_, number in rows if number}


def states_by(connection: Connection, store_id: int, part: str, first: dt.date) -> dict[int, dict[str, int]]:
    """For each route or gateway (`part` is the column) how many sends stand in each state, of those made since a day;
    tests are left out.
    """
    column = SENDS.c[part]
    rows = connection.execute(
        core_select(column, SENDS.c.state, func.sum(SENDS.c.number))
        .where(SENDS.c.store_id == store_id, SENDS.c.day >= number_of(first), SENDS.c.test.is_(False), column != 0)
        .group_by(column, SENDS.c.state)
    )
    found: dict[int, dict[str, int]] = {}
    for id_, state, number in rows:
        if number:
            found.setdefault(id_, {})[state] = int(number)
    return found


def of_route(connection: Connection, store_id: int, route_id: int) -> dict[str, int]:
    """How many sends of a route stand in each state."""
    rows = connection.execute(
        core_select(SENDS.c.state, func.sum(SENDS.c.number))
        .where(SENDS.c.store_id == store_id, SENDS.c.route_id == route_id)
        .group_by(SENDS.c.state)
    )
    return {state: int(number) for state, number in rows if number}


def decided_not(
    connection: Connection, store_id: int, route: str, first: dt.date
) -> dict[tuple[str, str], dict[dt.date, int]]:
    """For how many events a route has not sent, by the outcome and the part that settled it, for each day."""
    rows = connection.execute(
        core_select(DECISIONS.c.outcome, DECISIONS.c.part, DECISIONS.c.day, DECISIONS.c.number).where(
            DECISIONS.c.store_id == store_id, DECISIONS.c.route == route, DECISIONS.c.day >= number_of(first)
        )
    )
    found: dict[tuple[str, str], dict[dt.date, int]] = {}
    for outcome, part, day, number in rows:
        if number:
            by_day = found.setdefault((outcome, part), {})
            by_day[day_of(day)] = by_day.get(day_of(day), 0) + number
    return dict(sorted(found.items(), key=lambda pair: -sum(pair[1].values())))


def spent(connection: Connection, store_id: int, gateway_ids: Collection[int], first: dt.date) -> dict[int, float]:
    """What each of these gateways of a store has cost since a day, in the store's currency."""
    rows = connection.execute(
        core_select(SENDS.c.gateway_id, func.sum(SENDS.c.cost))
        .where(
            SENDS.c.store_id == store_id,
            SENDS.c.day >= number_of(first),
            SENDS.c.gateway_id.in_(list(gateway_ids)),
        )
        .group_by(SENDS.c.gateway_id)
    )
    return {id_: int(cost) / 1_000_000 for id_, cost in rows if cost}
