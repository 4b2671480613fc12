"""Lists of sends, page by page: whatever is chosen, they have what fits and nothing else, the newest first."""

import datetime as dt
import random

import pytest

from angelon.core.states import State
from angelon.db.derived import counts
from angelon.db.log import sends
from angelon.db.log.sends import Filter

UTC = dt.UTC
NOON = dt.datetime(2026, 11, 5, 12, tzinfo=UTC)
ZONES = ("Europe/Dublin", "Pacific/Kiritimati", "Pacific/Pago_Pago")
"""At most 14 hours before, and 11 behind, what the database reckons with."""


def fill(bench, seed):
    """300 sends of 90 days, many on some of them, none on most; some states, channels and routes are rare."""
    dice = random.Random(seed)
    days = [dice.randrange(90) for _ in range(12)]
    rows = []
    for number in range(300):
        at = NOON - dt.timedelta(days=dice.choice(days), minutes=dice.randrange(1440), microseconds=number)
        state = dice.choice(["sent"] * 12 + ["delivered", "skipped", "scheduled", "held"])
        channel = dice.choice(["email"] * 30 + ["sms"])
        route = dice.choice([1] * 20 + [None])
        rows.append((f"sd-{number:03d}", at, state, channel, route))
    with bench.database.connection() as connection:
        for id_, at, state, channel, route in rows:
            connection.exec_driver_sql(
                "INSERT INTO send (id, store_id, channel, state, created_at, due_at, route_id, recipient, "
                "recipient_name, locale, reason, worker, tries, subject) VALUES (?, ?, ?, ?, ?, ?, ?, '', '', '', '', "
                "'', 0, '')",
                (id_, bench.store_id, channel, state, int(at.timestamp() * 1e6), int(at.timestamp() * 1e6), route),
            )
    return rows


CHOSEN = (
    {},
    {"states": ("skipped",)},
    {"states": ("delivered", "scheduled")},
    {"states": ("sent",), "channels": ("sms",)},
    {"states": ("sending",)},
    {"states": ("held", "failed")},
    {"routes": ("received",)},
    {"routes": ("received",), "states": ("skipped",), "since": NOON - dt.timedelta(days=40)},
    {"routes": ("no-such-route",)},
    {"channels": ("sms",), "since": NOON - dt.timedelta(days=20, hours=3)},
)


@pytest.mark.parametrize("zone", ZONES)
def test_page_by_page_a_list_has_what_fits(bench, zone):
    from tests.engine.test_fallbacks import Shop

    Shop(bench).store(timezone=zone)
    rows = fill(bench, len(zone))
    for chosen in CHOSEN:
        wanted = Filter(store_id=bench.store_id, **chosen)
        fitting = [
            (at, id_)
            for id_, at, state, channel, route in rows
            if (not wanted.states or state in wanted.states)
            and (not wanted.channels or channel in wanted.channels)
            and (not wanted.routes or (route == 1 and wanted.routes == ("received",)))
            and (wanted.since is None or at >= wanted.since)
        ]
        listed, before = [], None
        with bench.database.reading() as session:
            while page := sends.listed(session, bench.store_id, wanted, 7, before):
                listed += [one.send.id for one in page]
                before = (page[-1].send.created_at, page[-1].send.id)
        assert listed == [id_ for _, id_ in sorted(fitting, reverse=True)], chosen


def test_what_is_rare_is_looked_for_on_its_days_alone(bench):
    rows = fill(bench, 3)
    rare = [at.date() for _, at, state, _, _ in rows if state == "skipped"]
    with bench.database.reading() as session:
        days = counts.days_with(session.connection(), bench.store_id, {"states": ("skipped",)}, 1000)
        assert days == sorted(set(rare), reverse=True)
        newest = counts.days_with(session.connection(), bench.store_id, {"states": ("skipped",)}, 1)
        assert newest == days[:1]
        assert counts.days_with(session.connection(), bench.store_id, {"states": ("cancelled",)}, 9) == []


@pytest.mark.parametrize("states", [("held", "scheduled", "skipped"), ("scheduled",), ("held",), ("skipped",)])
def test_what_is_done_with_many_goes_through_them_in_the_order_of_their_ids(bench, states):
    rows = fill(bench, 5)
    wanted = Filter(store_id=bench.store_id, states=states)
    expected = sorted(id_ for id_, _, state, _, _ in rows if state in states)
    found, after = [], ""
    with bench.database.reading() as session:
        while part := sends.matching(session, bench.store_id, wanted, list(State), after, 5):
            found, after = found + part, part[-1]
    assert found == expected
