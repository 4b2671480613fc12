"""What holds the only writer: what takes long is refused inside, bulk work goes in parts, each hold says whose it was.
No clock is looked at: rows, parts and refusals are.
"""

import threading

import httpx
import pytest

from angelon.core import outside
from angelon.core.calls import Request
from angelon.core.messages.channels import compiled_part
from angelon.core.planning import checking
from angelon.core.specs.gateway import HttpCall
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.handlers.pool import Pool
from angelon.engine.operations import accounts, checks, suppressions
from angelon.engine.operations import store as store_operations
from angelon.engine.operations.guessing import Browser
from angelon.engine.unit import MACHINE, unit
from angelon.gateways.fetching import fetch
from angelon.gateways.http import ask
from angelon.gateways.smtp import SmtpTransport
from tests import made

BROWSER = Browser("192.0.2.1", "test")
OWNER = ("o@example.org", "three green lanterns")


def ask_a_provider():
    request = Request("POST", "http://127.0.0.1:1/", {}, b"{}")
    return ask(httpx.Client(), request, HttpCall(url="http://127.0.0.1:1/"))


LONG = {
    "hashing": lambda: accounts.hashed("three green lanterns", "x@example.org"),
    "comparing": lambda: accounts._is_password(accounts._nobody_s(), "x"),
    "fetching": lambda: fetch("https://shop.example/x"),
    "a provider": ask_a_provider,
    "a mail server": lambda: SmtpTransport(made.gateway(), "").deliver(None, "k"),
    "a handler": lambda: Pool.call(None, "f", {}, 1),
    "a check": lambda: checking.run(None, {}, None),
}


@pytest.mark.parametrize("what", LONG)
def test_what_takes_long_is_refused_inside_a_unit_of_work(bench, what):
    with unit(bench.services.installation, bench.store_id) as work:
        assert work.session is not None  # it has begun
        with pytest.raises(outside.InsideWrite, match=r"inside a write \(engine.test_writer_budget|inside a write"):
            LONG[what]()


def test_a_text_that_is_compiled_inside_a_unit_of_work_is_told(bench):
    with unit(bench.services.installation, bench.store_id) as work:
        assert work.session is not None
        with pytest.raises(outside.CompiledInside):
            compiled_part(made.message(), "email", "en", made.store())
    with bench.database.connection():  # what decides about sends may, where it has to
        compiled_part(made.message(), "email", "en", made.store())


def held(bench):
    return {one.purpose: one.holds for one in bench.database.held()}


def test_a_wrong_password_of_nobody_writes_nothing_and_one_of_somebody_is_compared_outside(bench):
    kept = accounts.hashed(OWNER[1], OWNER[0])
    with bench.database.writing() as session:
        accounts.create(session, OWNER[0], "O", kept, "owner", bench.clock.now())
    before = sum(held(bench).values())
    assert accounts.try_to_sign_in(bench.services.installation, "nobody@example.org", "x", BROWSER) == accounts.Tried()
    assert sum(held(bench).values()) == before
    assert accounts.try_to_sign_in(bench.services.installation, OWNER[0], "wrong", BROWSER) == accounts.Tried()
    assert accounts.try_to_sign_in(bench.services.installation, *OWNER, BROWSER).secret


def test_a_password_that_was_changed_while_it_was_compared_lets_nobody_in(bench, monkeypatch):
    kept = accounts.hashed(OWNER[1], OWNER[0])
    with bench.database.writing() as session:
        accounts.create(session, OWNER[0], "O", kept, "owner", bench.clock.now())
    real = accounts.compare

    def meanwhile(*given):
        found = real(*given)
        with bench.database.connection() as connection:
            connection.exec_driver_sql("UPDATE account SET password = 'another'")
        return found

    monkeypatch.setattr(accounts, "compare", meanwhile)
    assert accounts.try_to_sign_in(bench.services.installation, *OWNER, BROWSER) == accounts.Tried()


def test_checks_that_take_long_keep_no_delivery_waiting(bench, monkeypatch):
    """“Run all” is in the middle of a check: a delivery is stored meanwhile, or this would not end."""
    bench.deliver(made.body())
    bench.plan()
    ((event,),) = bench.rows("SELECT id FROM event WHERE parent_id IS NULL")
    with unit(bench.services.installation, bench.store_id) as work:
        checks.keep(work, "received", event)
    real, answers = checking.run, []

    def slow(*given):
        answers.append(bench.deliver(made.body(id=2, reference="BK-2"), store_delivery="d-2").status)
        return real(*given)

    monkeypatch.setattr(checking, "run", slow)
    with unit(bench.services.installation, bench.store_id) as work:
        ((_, outcome),) = checks.run_all(work)
    assert outcome.passed
    assert answers == [202]
    assert bench.rows('SELECT passed FROM "check"') == [(1,)]


def test_a_long_list_of_suppressions_goes_in_parts_and_deliveries_come_in_between(bench, monkeypatch):
    rows = [(f"b{number}@bulk.example", "bulk", "") for number in range(2_300)]
    parts, real = [], suppressions.add_keys

    def add(work, wanted, origin):
        parts.append(len(wanted))
        return real(work, wanted, origin)

    monkeypatch.setattr(suppressions, "add_keys", add)
    new, unknown = suppressions.add_list(
        bench.services.installation, bench.store_id, MACHINE, [*rows, ("no address", "x", "")], "import"
    )
    assert (new, unknown) == (2_300, ["no address"])
    assert (sum(parts), max(parts)) == (2300, 200)
    assert bench.rows("SELECT count(*) FROM suppression") == [(2_300,)]
    assert bench.rows("SELECT count(*) FROM change WHERE action = 'suppressed'") == [(2_300,)]
    assert suppressions.add_list(bench.services.installation, bench.store_id, MACHINE, rows[:3], "import")[0] == 0


@pytest.mark.sqlite  # elsewhere there is no one writer, and next month gets its partition
def test_a_sweep_with_nothing_to_take_writes_nothing(bench):
    for number in range(5):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"), store_delivery=f"d-{number}")
    bench.plan()
    with unit(bench.services.installation, bench.store_id) as work:
        days = {f"{kind}_days": 5 for kind in ("bodies", "contents", "attempts", "traces", "orders")}
        store_operations.change(work, {"keep": days})
    housekeeper = Housekeeper(bench.database, bench.services.setups, bench.clock)
    before = held(bench)
    housekeeper.look()
    after = held(bench)
    swept = {name: after[name] - before.get(name, 0) for name in after if "housekeeping" in name}
    assert not any(swept.values()), swept


def test_each_hold_is_added_up_by_who_it_was(bench, client):
    bench.deliver(made.body())
    bench.plan()
    names = held(bench)
    assert {"intake", "planning"} <= names.keys()
    told = client.get("/metrics").get_data(as_text=True)
    assert 'angelon_write_longest_seconds{purpose="intake"}' in told
    assert 'angelon_writes_total{purpose="planning"}' in told


def test_a_unit_that_only_looks_begins_no_write(bench):
    before = held(bench)
    with unit(bench.services.installation, bench.store_id) as work, work.look() as looked:
        assert looked.live.setup.store.key == "kites"
    assert held(bench) == before


def test_two_who_publish_at_once_do_not_publish_what_the_other_changed(bench):
    """The set-up is changed between the look and the write."""
    from angelon.core.problems import Invalid
    from angelon.engine.operations import routes

    with unit(bench.services.installation, bench.store_id) as work:
        routes.change_draft(work, "received", {"name": "Other"})
    started, real = threading.Event(), checks.failing_with_route

    def meanwhile(*given):
        if not started.is_set():
            started.set()
            with unit(bench.services.installation, bench.store_id) as other:
                store_operations.change(other, {"name": "Another"})
        return real(*given)

    checks.failing_with_route = meanwhile
    try:
        with (
            pytest.raises(Invalid, match="changed by somebody else"),
            unit(bench.services.installation, bench.store_id) as work,
        ):
            routes.publish_and_switch_on(work, "received")
    finally:
        checks.failing_with_route = real
