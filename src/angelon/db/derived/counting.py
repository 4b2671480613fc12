"""Counts that pages show, kept by triggers in the transaction that changes what they count.

A day is a day of the shop: `shop_offset` holds from when on its clocks are how far from UTC. `rebuild` counts anew, and
`differences` says where the counts and the rows are not the same, which is nowhere.
"""

from __future__ import annotations

import datetime as dt
from functools import cache
from zoneinfo import ZoneInfo

import orjson
from sqlalchemy import BigInteger, Connection, Integer, column, select
from sqlalchemy import table as a_table

from angelon.db import locks, triggers
from angelon.db.derived import counting_postgresql

OFFSET = a_table("shop_offset", column("store_id", Integer), column("since", BigInteger), column("seconds", Integer))
DAY = 86_400_000_000
"""Microseconds of a day."""
YEARS = (2000, 2060)
"""Between which a zone's changes are known; before and after, the nearest offset holds."""

_SEND_KEYS = (
    ("store_id", "{0}.store_id"),
    ("day", "{day}"),
    ("route_id", "coalesce({0}.route_id, 0)"),
    ("message_id", "coalesce({0}.message_id, 0)"),
    ("gateway_id", "coalesce({0}.gateway_id, 0)"),
    ("channel", "{0}.channel"),
    ("state", "{0}.state"),
    ("test", "{0}.test"),
)
_SEND_SUMS = (
    ("number", "1"),
    ("retried", "CASE WHEN {0}.tries > 1 THEN 1 ELSE 0 END"),
    ("cost", "CAST(round(CAST(coalesce(nullif({0}.cost, ''), '0') AS DOUBLE PRECISION) * 1000000) AS BIGINT)"),
)
_SEND_COLUMNS = ("store_id", "route_id", "message_id", "gateway_id", "channel", "state", "test", "tries", "cost")


def _day_sql(store: str, at: str) -> str:
    """The day of the shop that a moment falls on, in days since 1970."""
    offset = (
        f"SELECT o.seconds FROM shop_offset o WHERE o.store_id = {store} AND o.since <= {at} "  # noqa: S608 - our names
        "ORDER BY o.since DESC LIMIT 1"
    )
    return f"(({at} + coalesce(({offset}), 0) * CAST(1000000 AS BIGINT)) / {DAY})"


def _send_day(row: str) -> str:
    return _day_sql(f"{row}.store_id", f"{row}.created_at")


def _send_change(row: str, sign: str) -> str:
    keys = [sql.format(row, day=_send_day(row)) for _, sql in _SEND_KEYS]
    sums = [f"{sign} {sql.format(row)}" for _, sql in _SEND_SUMS]
    names = ", ".join(name for name, _ in (*_SEND_KEYS, *_SEND_SUMS))
    more = ", ".join(f"{name} = {name} + excluded.{name}" for name, _ in _SEND_SUMS)
    key_names = ", ".join(name for name, _ in _SEND_KEYS)
    return (
        f"INSERT INTO send_count ({names}) VALUES ({', '.join([*keys, *sums])}) "  # noqa: S608 - our own names
        f"ON CONFLICT ({key_names}) DO UPDATE SET {more};"
    )


def _order_change(row: str, sign: str) -> str:
    day = _day_sql(f"{row}.store_id", f"{row}.placed_at")
    return (
        f"INSERT INTO order_count (store_id, day, number) VALUES ({row}.store_id, {day}, {sign}1) "  # noqa: S608
        "ON CONFLICT (store_id, day) DO UPDATE SET number = number + excluded.number;"
    )


_STORE_OF_SOURCE = "(SELECT s.store_id FROM source s WHERE s.id = {0}.source_id)"


def _event_upsert(row: str, at: str, events: str, orders: str, where: str = "true") -> str:
    store = _STORE_OF_SOURCE.format(row)
    return (
        f"INSERT INTO event_count (source_id, day, type, events, orders) "
        f"SELECT {row}.source_id, {_day_sql(store, at)}, {row}.type, {events}, {orders} WHERE {where} "
        "ON CONFLICT (source_id, day, type) DO UPDATE SET events = events + excluded.events, "
        "orders = orders + excluded.orders;"
    )


def _others(row: str) -> str:
    """When the first of an order's other events of this type came; found by the order, never by the type."""
    return (
        f"(SELECT min(e.received_at) FROM event e WHERE e.order_id = {row}.order_id "  # noqa: S608 - our own names
        f"AND e.type || '' = {row}.type AND e.id != {row}.id)"
    )


def _event_change(row: str, sign: str) -> str:
    """An event more or less; and an order that has had such an event, on the day when the first of them came."""
    known = f"{row}.order_id IS NOT NULL AND {row}.type != ''"
    first = f"({_others(row)} IS NULL OR {row}.received_at < {_others(row)})"
    back = "+" if sign == "-" else "-"
    later = f"{known} AND {row}.received_at < {_others(row)}"
    return (
        _event_upsert(row, f"{row}.received_at", f"{sign}1", "0")
        + _event_upsert(row, f"{row}.received_at", "0", f"{sign}1", f"{known} AND {first}")
        + _event_upsert(row, _others(row), "0", f"{back}1", later)
    )


def _changed(columns: tuple[str, ...]) -> str:
    return " OR ".join(f"OLD.{name} IS NOT NEW.{name}" for name in columns)


def _decision_change(row: str, sign: str) -> str:
    """What routes that did not send have made of an event: the outcome, and the part of the route that settled it."""
    store = _STORE_OF_SOURCE.format(row)
    settled = (
        "coalesce((SELECT json_extract(t.value, '$.part') FROM json_each(d.value, '$.trace') t "
        "WHERE json_extract(t.value, '$.verdict') = 'no' LIMIT 1), '')"
    )
    outcome = "json_extract(d.value, '$.outcome')"
    day = _day_sql(store, f"{row}.received_at")
    keys = f"{store}, {day}, json_extract(d.value, '$.route'), {outcome}, {settled}, {sign}1"
    rows = f"SELECT {keys} FROM json_each({row}.decisions) d WHERE {outcome} != 'send'"  # noqa: S608 - our own names
    into = "INSERT INTO decision_count (store_id, day, route, outcome, part, number)"
    more = "ON CONFLICT (store_id, day, route, outcome, part) DO UPDATE SET number = number + excluded.number;"
    return f"{into} {rows} {more}"


def _decisions_on_postgresql(row: str, sign: str) -> str:
    """The same in PostgreSQL's words."""
    store = _STORE_OF_SOURCE.format(row)
    of_no = "FROM json_array_elements(d -> 'trace') t WHERE t ->> 'verdict' = 'no' LIMIT 1"
    settled = f"coalesce((SELECT t ->> 'part' {of_no}), '')"
    keys = f"{store}, {_day_sql(store, f'{row}.received_at')}, d ->> 'route', d ->> 'outcome', {settled}, {sign}1"
    rows = f"SELECT {keys} FROM json_array_elements({row}.decisions::json) d WHERE d ->> 'outcome' != 'send'"  # noqa: S608
    return f"INSERT INTO decision_count (store_id, day, route, outcome, part, number) {rows};"


def _own_of_postgresql() -> dict[str, str]:
    """What PostgreSQL's triggers do otherwise: they have variables and conditions, and work out only what is needed."""
    events = {row: _event_upsert(row, f"{row}.received_at", "{}1", "0") for row in ("OLD", "NEW")}

    def orders(row: str, sign: str) -> str:
        back = "+" if sign == "-" else "-"
        return (
            f"IF {row}.order_id IS NOT NULL AND {row}.type != '' THEN "
            f"others := {_others(row)}; IF others IS NULL OR {row}.received_at < others THEN "
            f"{_event_upsert(row, f'{row}.received_at', '0', f'{sign}1')}"
            f"IF others IS NOT NULL THEN {_event_upsert(row, 'others', '0', f'{back}1')} END IF; END IF; END IF;"
        )

    def block(statements: str) -> str:
        return f"DECLARE others bigint; BEGIN {statements} END"

    another = " OR ".join(f"OLD.{name} IS DISTINCT FROM NEW.{name}" for name in ("source_id", "type", "received_at"))
    moved = f"IF {another} THEN {events['OLD'].format('-')} {events['NEW'].format('+')} END IF;"
    return {
        "count_event_new": block(events["NEW"].format("+") + orders("NEW", "+")),
        "count_event_changed": block(moved + orders("OLD", "-") + orders("NEW", "+")),
        "count_event_gone": block(events["OLD"].format("-") + orders("OLD", "-")),
        "count_decision_new": _decisions_on_postgresql("NEW", "+"),
        "count_decision_first": _decisions_on_postgresql("NEW", "+"),
        "count_decision_changed": _decisions_on_postgresql("OLD", "-") + _decisions_on_postgresql("NEW", "+"),
    }


_EVENT_COLUMNS = ("source_id", "type", "received_at", "order_id")
TRIGGERS = {
    "count_send_new": ("AFTER INSERT ON send", _send_change("NEW", "+")),
    "count_send_changed": (
        f"AFTER UPDATE OF {', '.join((*_SEND_COLUMNS, 'created_at'))} ON send "
        f"WHEN {_changed((*_SEND_COLUMNS[:-2], 'cost', 'created_at'))} OR (OLD.tries > 1) != (NEW.tries > 1)",
        _send_change("OLD", "-") + _send_change("NEW", "+"),
    ),
    "count_send_gone": ("AFTER DELETE ON send", _send_change("OLD", "-")),
    "count_order_new": ('AFTER INSERT ON "order"', _order_change("NEW", "+")),
    "count_order_changed": (
        'AFTER UPDATE OF store_id, placed_at ON "order" WHEN ' + _changed(("store_id", "placed_at")),
        _order_change("OLD", "-") + _order_change("NEW", "+"),
    ),
    "count_order_gone": ('AFTER DELETE ON "order"', _order_change("OLD", "-")),
    "count_event_new": ("AFTER INSERT ON event", _event_change("NEW", "+")),
    "count_event_changed": (
        f"AFTER UPDATE OF {', '.join(_EVENT_COLUMNS)} ON event WHEN {_changed(_EVENT_COLUMNS)}",
        _event_change("OLD", "-") + _event_change("NEW", "+"),
    ),
    "count_decision_new": (
        "AFTER INSERT ON event WHEN NEW.decisions IS NOT NULL",
        _decision_change("NEW", "+"),
    ),
    "count_decision_first": (
        "AFTER UPDATE OF decisions ON event WHEN OLD.decisions IS NULL AND NEW.decisions IS NOT NULL",
        _decision_change("NEW", "+"),
    ),
    "count_decision_changed": (  # figures stay where decisions are taken away
        "AFTER UPDATE OF decisions ON event WHEN OLD.decisions IS NOT NULL AND NEW.decisions IS NOT NULL "
        "AND OLD.decisions IS NOT NEW.decisions",
        _decision_change("OLD", "-") + _decision_change("NEW", "+"),
    ),
    "count_event_gone": ("AFTER DELETE ON event", _event_change("OLD", "-")),
}


def watch(connection: Connection) -> None:
    """Has the database count from here on. A migration that makes `send`, `order` or `event` anew calls it again."""
    triggers.put(connection, TRIGGERS, counting_postgresql.appending(TRIGGERS, _own_of_postgresql()))


def unwatch(connection: Connection) -> None:
    triggers.take(connection, TRIGGERS)


def _all_sends() -> str:
    keys = [f"{sql.format('x', day=_send_day('x'))} AS {name}" for name, sql in _SEND_KEYS]
    sums = [f"sum({sql.format('x')}) AS {name}" for name, sql in _SEND_SUMS]
    by = ", ".join(str(number) for number in range(1, len(keys) + 1))
    return f"SELECT {', '.join([*keys, *sums])} FROM send x GROUP BY {by}"  # noqa: S608 - our own names


def _all_events() -> str:
    store = _STORE_OF_SOURCE.format("x")
    events = (
        f"SELECT x.source_id, {_day_sql(store, 'x.received_at')} AS day, x.type, 1 AS events, 0 AS orders FROM event x"  # noqa: S608
    )
    firsts = (
        "SELECT source_id, order_id, type, min(received_at) AS received_at FROM event "
        "WHERE order_id IS NOT NULL AND type != '' GROUP BY source_id, order_id, type"
    )
    orders = f"SELECT x.source_id, {_day_sql(store, 'x.received_at')}, x.type, 0, 1 FROM ({firsts}) x"  # noqa: S608
    return (
        f"SELECT source_id, day, type, sum(events) AS events, sum(orders) AS orders "  # noqa: S608
        f"FROM ({events} UNION ALL {orders}) AS c "
        "GROUP BY source_id, day, type"
    )


_COUNTED = {
    "send_count": _all_sends(),
    "order_count": (
        f"SELECT x.store_id, {_day_sql('x.store_id', 'x.placed_at')} AS day, count(*) AS number "  # noqa: S608
        'FROM "order" x GROUP BY 1, 2'
    ),
    "event_count": _all_events(),
}
"""Each table of counts, by a query that counts all rows."""
SUMS = {
    **{"send_count": ("number", "retried", "cost"), "order_count": ("number",), "event_count": ("events", "orders")},
    "decision_count": ("number",),
}
KEYS = {
    **{"send_count": tuple(name for name, _ in _SEND_KEYS), "order_count": ("store_id", "day")},
    **{"event_count": ("source_id", "day", "type"), "decision_count": ("store_id", "day", "route", "outcome", "part")},
}
"""By what each table tells its counts apart."""


def rebuild(connection: Connection) -> None:
    """Counts everything anew; meanwhile nobody writes, and nobody adds up what was counted before."""
    locks.hold(connection, locks.FOLDING)
    if connection.dialect.name == "postgresql":
        connection.exec_driver_sql('LOCK TABLE send, "order", event IN SHARE MODE')
    for table, counted in _COUNTED.items():
        connection.exec_driver_sql(f"DELETE FROM {table}")  # noqa: S608 - our own names
        names = ", ".join((*KEYS[table], *SUMS[table]))
        connection.exec_driver_sql(f"INSERT INTO {table} ({names}) SELECT {names} FROM ({counted}) AS c")  # noqa: S608


def differences(connection: Connection) -> dict[str, int]:
    """How many counts of each table are not what the rows say."""
    found = {}
    for table, counted in _COUNTED.items():
        keys, sums = ", ".join(KEYS[table]), ", ".join(f"sum({name}) AS {name}" for name in SUMS[table])
        any_ = " OR ".join(f"sum({name}) != 0" for name in SUMS[table])
        kept = f"SELECT {keys}, {sums} FROM {table} GROUP BY {keys} HAVING {any_}"  # noqa: S608 - our own names
        right = f"SELECT {keys}, {sums} FROM ({counted}) AS c GROUP BY {keys} HAVING {any_}"  # noqa: S608
        either = (
            f"SELECT * FROM (SELECT * FROM ({kept}) AS k EXCEPT SELECT * FROM ({right}) AS r) AS a UNION ALL "  # noqa: S608
            f"SELECT * FROM (SELECT * FROM ({right}) AS r EXCEPT SELECT * FROM ({kept}) AS k) AS b"
        )
        found[table] = int(connection.exec_driver_sql(f"SELECT count(*) FROM ({either}) AS e").scalar_one())  # noqa: S608
    return found


def begin(connection: Connection) -> None:
    """Counts from here on what changes; and all that is there, where nothing was counted yet."""
    if connection.dialect.name == "postgresql":
        counting_postgresql.prepare(connection, KEYS)
    watch(connection)
    for store_id, spec in connection.exec_driver_sql("SELECT id, spec FROM store").fetchall():
        set_zone(connection, store_id, ZoneInfo(orjson.loads(spec).get("timezone") or "UTC"))
    if connection.exec_driver_sql("SELECT 1 FROM event_count LIMIT 1").first() is None:
        rebuild(connection)
    if connection.exec_driver_sql("SELECT 1 FROM decision_count LIMIT 1").first() is None:
        count_decisions(connection)


def count_decisions(connection: Connection) -> None:
    """Counts anew what routes have made of the events whose decisions are still kept."""
    connection.exec_driver_sql("DELETE FROM decision_count")
    if connection.dialect.name == "postgresql":
        told = _decisions_on_postgresql("x", "+").replace("FROM json_array", "FROM event x, json_array").rstrip(";")
        connection.exec_driver_sql(f"{told} AND x.decisions IS NOT NULL")
        return
    connection.exec_driver_sql(
        _decision_change("x", "+")
        .replace("FROM json_each(x.decisions) d WHERE", "FROM event x, json_each(x.decisions) d WHERE")
        .rstrip(";")
    )


def fold(connection: Connection) -> int:
    """On PostgreSQL, where changes are appended to the counts: adds up what belongs together; says how many rows that
    took away. On SQLite there is nothing to do.
    """
    if connection.dialect.name != "postgresql":
        return 0
    return sum(counting_postgresql.fold(connection, table, KEYS[table], SUMS[table]) for table in KEYS)


@cache
def offsets(zone: ZoneInfo) -> list[tuple[dt.datetime, int]]:
    """From when on a zone's clocks are how many seconds from UTC; the first one holds for what was before, too."""

    def at(moment: dt.datetime) -> int:
        return int((moment.astimezone(zone).utcoffset() or dt.timedelta()).total_seconds())

    day, last = dt.datetime(YEARS[0], 1, 1, tzinfo=dt.UTC), dt.datetime(YEARS[1], 1, 1, tzinfo=dt.UTC)
    found = [(dt.datetime(1970, 1, 1, tzinfo=dt.UTC), at(day))]
    while day < last:
        following = day + dt.timedelta(days=7)
        if at(following) != at(day):
            low, high = day, following
            while high - low > dt.timedelta(seconds=1):
                middle = low + (high - low) / 2
                low, high = (middle, high) if at(middle) == at(day) else (low, middle)
            change = high.replace(microsecond=0)
            found.append((change, at(following)))
        day = following
    return found


def set_zone(connection: Connection, store_id: int, zone: ZoneInfo, now: dt.datetime | None = None) -> bool:
    """Has a store's days be those of a zone, from `now` on (aware) where they were others until then: what was counted
    stays as it was counted, so that nothing has to be counted anew. Says whether they were others.
    """
    wanted = [(_micros(since), seconds) for since, seconds in offsets(zone)]
    here = OFFSET.c.store_id == store_id
    rows = connection.execute(select(OFFSET).where(here).order_by(OFFSET.c.since))
    known = [(row.since, row.seconds) for row in rows]
    moment = _micros(now or dt.datetime.now(dt.UTC))
    if known and _from(known, moment) == _from(wanted, moment):
        return False
    if known:
        connection.execute(OFFSET.delete().where(here, OFFSET.c.since >= moment))
        wanted = _from(wanted, moment)
    new = [{"store_id": store_id, "since": since, "seconds": seconds} for since, seconds in wanted]
    connection.execute(OFFSET.insert(), new)
    return True


def _micros(moment: dt.datetime) -> int:
    return int((moment - dt.datetime(1970, 1, 1, tzinfo=dt.UTC)).total_seconds()) * 1_000_000


def _from(offsets_: list[tuple[int, int]], moment: int) -> list[tuple[int, int]]:
    """The offsets that hold from a moment on, the first of them from that moment."""
    before = [seconds for since, seconds in offsets_ if since <= moment]
    return [(moment, before[-1] if before else 0), *(one for one in offsets_ if one[0] > moment)]
