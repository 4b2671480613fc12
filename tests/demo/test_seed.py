"""The demo: the same every time, in the past, with everything that a first look must show."""

import datetime as dt
import random

import pytest
from sqlmodel import Session, text

from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup import live_setup
from angelon.demo import load
from angelon.demo.seed import DAYS, happenings
from angelon.settings import Settings
from tests.demos import copied

TODAY = dt.datetime(2026, 11, 25, 9, 30, tzinfo=dt.UTC)


def test_it_is_the_same_every_time_and_lies_in_the_past():
    first, again = (happenings(TODAY, random.Random(20)) for _ in range(2))
    assert first == again
    assert all(at < TODAY for at, _, _ in first)
    assert TODAY - first[0][0] <= dt.timedelta(days=DAYS + 1)
    assert {source for _, source, _ in first} == {"webshop", "fairground", "workbench", "parcel-watch"}


def test_the_payload_files_numbers_are_not_among_its_own():
    bodies = b"".join(delivery.body for _, _, delivery in happenings(TODAY, random.Random(20)))
    for number in (b'"BK-2041"', b"F-77-300912", b'"WB-17"', b"90071992547"):
        assert number not in bodies


@pytest.fixture(scope="module")
def demo(tmp_path_factory, seeded, postgresql):
    """What a first start loads, before anything runs on it."""
    mine = tmp_path_factory.mktemp("looked") / "home"
    url = copied(seeded, mine, postgresql, "looked")
    settings = Settings(home=mine, secret_key="a-key-for-tests-only", database_url=url)
    database = Database(settings.url)
    yield settings, database
    database.close()


def rows(demo, sql):
    with Session(demo[1].engine) as session:
        return session.exec(text(sql)).all()


def test_a_first_look_shows_what_it_must(demo):
    states = dict(rows(demo, "SELECT state, count(*) FROM send GROUP BY state"))
    assert states["sent"] > 400
    assert {"failed", "held", "retrying", "skipped"} <= set(states)
    assert rows(demo, "SELECT count(*) FROM send WHERE state = 'sent' AND tries > 1")[0][0] >= 3, (
        "a bad afternoon, recovered"
    )
    (held,) = rows(demo, "SELECT reason FROM send WHERE state = 'held'")[0]
    assert "no usable email" in held
    assert rows(demo, "SELECT count(*) FROM event WHERE planned_at IS NULL OR problem <> ''") == [(0,)]
    assert rows(demo, 'SELECT count(*) FROM "order"')[0][0] > 150


def test_its_secrets_are_new_and_sealed_and_the_counter_knows_the_shop_s(demo):
    from angelon.standins.box import Box

    settings, database = demo
    with Session(database.engine) as session:
        live = live_setup.load(session, 1)
        (secret,) = Vault(settings.key()).get(session, "source", live.source_ids["webshop"], dt.datetime.now(dt.UTC))
    box = Box(settings.home)
    assert box.setting("shop_secret") == secret.text
    assert box.setting("shop_address") == "http://127.0.0.1:8080/in/webshop"


def test_a_second_start_changes_ports_and_nothing_else(demo):
    settings, database = demo
    before = rows(demo, "SELECT count(*) FROM event") + rows(demo, "SELECT count(*) FROM send")
    ports = load.prepare(database, settings, 8081, lambda: 2599)
    assert load.prepare(database, settings, 8081, lambda: 2600) == ports, "a port is kept while it is free"
    assert rows(demo, "SELECT count(*) FROM event") + rows(demo, "SELECT count(*) FROM send") == before


def test_a_drifted_source_and_a_gap_are_there(demo):
    from angelon.db.derived import shapes
    from angelon.web.sources.mapping import drifting

    with Session(demo[1].engine) as session:
        live = live_setup.load(session, 1)
        drifts = {
            key: drifting(source, shapes.of_source(session, live.source_ids[key]))
            for key, source in live.setup.sources.items()
        }
    assert [d.path for d in drifts["fairground"].values()] == ["$.buyer_tel"]
    assert drifts["webshop"] == {}


def test_no_page_of_a_first_look_is_empty(demo):
    assert sorted(row[0] for row in rows(demo, 'SELECT passed FROM "check"')) == [0, 1], "one passes, one does not"
    assert rows(demo, "SELECT count(*) FROM suppression")[0][0] == 4, "three by hand, one by what a mail server said"
    refused = rows(demo, "SELECT status, signing IS NOT NULL FROM refused ORDER BY status")
    assert [tuple(row) for row in refused] == [(400, 0), (401, 1)]
    kinds = {row[0] for row in rows(demo, 'SELECT kind FROM "change"')}
    assert {"check", "address", "order"} <= kinds
