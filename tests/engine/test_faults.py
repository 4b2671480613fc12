"""A fault at every commit, a gateway that raises, hangs or is away, receipts that come early, a clock that jumps: each
harms only itself.
"""

import contextlib
import datetime as dt
import sqlite3
import threading
import time
from collections import Counter

import pytest
from sqlalchemy.exc import OperationalError

from angelon.core.breaker import FAILURES, FIRST_WAIT, HEALTHY, LONGEST_WAIT, Health, after_try
from angelon.core.specs import Gateway
from angelon.db.database import Database
from angelon.db.log import early_receipts, inquiries
from angelon.db.log import sends as queries
from angelon.db.tables import GatewayRow
from angelon.db.upkeep import clock_jumps, gateway_health
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.feedback.receipts import match_early, take_all
from angelon.engine.followers.clock_jumps import ClockWatch
from angelon.engine.planner import Planner
from angelon.engine.sending import dispatcher as dispatching
from angelon.engine.sending import results
from angelon.engine.sending.breakers import IN_DOUBT, REFUSES_ALL, Breakers
from angelon.engine.sending.dispatcher import Dispatcher, recover
from angelon.engine.sending.fallbacks import Fallbacks
from angelon.engine.sending.gateway_pools import GatewayPools
from angelon.gateways.interface import Outcome
from tests import made
from tests.engine.test_fallbacks import PHONE, WAYS, Shop

ACCEPTED = Outcome("accepted", "250", "taken")


class Transport:
    """A gateway that counts what it was handed, and answers as it is told to."""

    def __init__(self, answer=ACCEPTED):
        self.handed = Counter()
        self.answer = answer

    def deliver(self, mail, key):
        self.handed[mail.to_address] += 1
        return self.answer(mail) if callable(self.answer) else self.answer

    def close(self): ...


class Failing:
    """Lets the database fail at chosen commits: what was written in them is gone, as on a disk that is full."""

    def __init__(self, monkeypatch):
        self.commits = 0
        self.at = set()
        for name in ("connection", "writing"):
            real = getattr(Database, name)

            @contextlib.contextmanager
            def around(database, *lock, real=real, **how):
                with real(database, *lock, **how) as inner:
                    yield inner
                    self.commits += 1
                    if self.commits in self.at:
                        full = sqlite3.OperationalError("database or disk is full")
                        full.sqlite_errorcode = 13
                        raise OperationalError("COMMIT", {}, full)

            monkeypatch.setattr(Database, name, around)


def dispatcher(bench, way, **more):
    return Dispatcher(
        "t-0",
        bench.database,
        bench.services.setups,
        bench.vault,
        bench.clock,
        lambda gateway, secret: way if not isinstance(way, dict) else way[gateway.channel],
        **more,
    )


def as_a_worker_does(*work):
    """Does each as often as it takes, as the worker's loops do."""
    for one in work:
        for _ in range(6):
            try:
                while one():
                    pass
                break
            except OperationalError:
                continue


def test_a_fault_at_any_commit_loses_nothing_and_hands_nothing_over_twice(bench, monkeypatch):
    """Planner, dispatcher, fallbacks and receipts, with the database failing at each of their commits in turn."""
    shop = Shop(bench)
    shop.route(fallback=WAYS)
    live = lambda: bench.services.setups.get(bench.store_id)  # noqa: E731
    gone = {"gone1@example.org", "gone2@example.org"}
    commits = 40
    at = 0
    while at < commits:
        at += 1
        mail = Transport(
            lambda m: (
                Outcome("permanent", "550", "nobody")
                if m.to_address in gone
                else Outcome("accepted", "250", "taken", reference=f"m-{m.to_address}")
            )
        )
        text = Transport()
        for number in range(4):
            address = f"gone{number + 1}@example.org" if number < 2 else f"p{at}-{number}@example.org"
            shop.deliver(
                f"d{at}-{number}",
                id=at * 10 + number,
                buyer=PHONE | {"email": address, "phone": f"+4930231250{at:02d}{number}"},
            )
        failing = Failing(monkeypatch)
        failing.at = {at, at + 3}
        planner = Planner(bench.database, bench.services.setups, bench.clock)
        working = dispatcher(bench, {"email": mail, "sms": text})
        following = Fallbacks(bench.database, bench.services.setups, bench.clock)
        as_a_worker_does(
            lambda p=planner: p.run_batch(2)[0],
            lambda w=working: w.run_batch(3),
            following.run_due,
            lambda w=working: w.run_batch(3),
        )
        gateway = live().setup.gateways["mailroom"]
        as_a_worker_does(lambda g=gateway: take_all(bench.database, live(), g, [{"id": "x"}], bench.clock) and None)
        commits = max(failing.commits if at == 1 else commits, 12)
        monkeypatch.undo()
        shop.bench.clock.now = lambda: shop.now
        assert all(times == 1 for times in (mail.handed + text.handed).values()), (
            f"commit {at}: {mail.handed} {text.handed}"
        )
        assert len(mail.handed) == 4
        assert len(text.handed) == 2, f"commit {at}: the fallback is due once for each that was refused"
        assert bench.rows("SELECT state, count(*) FROM send WHERE state NOT IN ('sent', 'failed') GROUP BY state") == []
        assert bench.rows("SELECT count(*) FROM event WHERE planned_at IS NULL OR problem != ''") == [(0,)]
        assert bench.rows("SELECT count(*) FROM attempt WHERE outcome = 'unknown'") == [(0,)]


def test_outcomes_that_could_not_be_stored_are_kept_and_sent_no_second_time(bench, monkeypatch):
    for number in range(40):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    way = Transport()
    failing = Failing(monkeypatch)
    failing.at = {2, 3, 4, 7}  # the first commit claims, then storing fails three times on end
    assert dispatcher(bench, way).run(8, lambda: None, lambda: False) == 40
    assert set(way.handed.values()) == {1}
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state") == [("sent", 40)]
    assert bench.rows("SELECT count(*) FROM attempt") == [(40,)]


def test_what_the_database_refuses_of_one_send_keeps_no_other_from_being_stored(bench, monkeypatch):
    for number in range(5):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    way = Transport()
    real = results.sends.keep_content

    def picky(connection, contents, rows):
        if any(content.send_id == bad for content in contents):
            raise ValueError("this text can't be stored")
        real(connection, contents, rows)

    ((bad,),) = bench.rows("SELECT id FROM send WHERE recipient = 'p2@example.org'")
    monkeypatch.setattr(results.sends, "keep_content", picky)
    dispatcher(bench, way).run_batch(5)
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state") == [("sent", 5)]
    assert bench.rows("SELECT count(*) FROM content") == [(4,)]
    assert "could not be stored in full" in bench.rows("SELECT reason FROM send WHERE id = ?", bad)[0][0]


def test_a_gateway_that_raises_is_unknown_for_that_send_alone(bench):
    for number in range(8):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()

    def answer(mail):
        if mail.to_address == "p4@example.org":
            raise RuntimeError("a bug in a gateway")
        return ACCEPTED

    way = Transport(answer)
    assert dispatcher(bench, way).run_batch(8) == 8
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state ORDER BY state") == [
        ("retrying", 1),
        ("sent", 7),
    ]
    assert bench.rows(
        "SELECT s.recipient, a.outcome FROM attempt a JOIN send s ON s.id = a.send_id WHERE a.outcome != 'accepted'"
    ) == [("p4@example.org", "unknown")]


def test_a_batch_behind_a_slow_try_is_given_back_as_it_was(bench, monkeypatch):
    monkeypatch.setattr(dispatching, "SLOW", 0.05)
    for number in range(5):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    with bench.database.connection() as connection:  # one of them was tried before
        connection.exec_driver_sql(
            "UPDATE send SET state = 'retrying', tries = 3, first_try_at = 7 WHERE recipient = 'p4@example.org'"
        )

    def slow(mail):
        time.sleep(0.1)
        return ACCEPTED

    assert dispatcher(bench, Transport(slow)).run_batch(5) == 1
    assert bench.rows("SELECT state, tries, first_try_at IS NULL, worker FROM send ORDER BY recipient") == [
        ("sent", 1, 0, ""),
        *[("scheduled", 0, 1, "")] * 3,
        ("retrying", 3, 0, ""),
    ]


def test_outcomes_stored_one_by_one_survive_a_database_that_fails_in_the_middle(bench, monkeypatch):
    for number in range(5):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    way = Transport()
    real = results.sends.keep_content
    monkeypatch.setattr(
        dispatching.queries,
        "keep_content",
        lambda connection, contents, rows: 1 // 0 if len(contents) > 1 else real(connection, contents, rows),
    )
    failing = Failing(monkeypatch)
    failing.at = {3, 4}  # after the claim and the first of them
    working = dispatcher(bench, way)
    working.run_batch(5)
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state") == [("sent", 5)]
    assert set(way.handed.values()) == {1}
    assert working._in_hand == set()


def test_what_was_claimed_and_could_not_be_given_back_is_taken_up_when_its_lease_is_over(bench, monkeypatch):
    monkeypatch.setattr(dispatching, "SLOW", -1)
    for number in range(3):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    monkeypatch.setattr(dispatching.queries, "release", lambda *_: 1 // 0)
    working = dispatcher(bench, Transport())
    working.run_batch(3)
    assert working._in_hand == set()
    at = bench.clock.now() + dispatching.LEASE * 2
    bench.clock.now = lambda: at
    assert recover(bench.database, bench.clock, [], working._in_hand) == 2


# ---- the breaker


def test_a_breaker_opens_after_failures_in_a_row_waits_longer_each_time_and_closes_by_itself():
    now = made.NOON
    health = HEALTHY
    for number in range(1, FAILURES):
        health = after_try(health, False, "away", now)
        assert (health.failures, health.admits(now)) == (number, "all")
    assert after_try(health, True, "", now) == HEALTHY, "one that works starts the count anew"
    health = after_try(health, False, "away", now)
    assert (health.opened_at, health.admits(now), health.reason) == (now, "none", "away")
    waits = []
    for _ in range(8):
        assert health.admits(health.probe_at - dt.timedelta(seconds=1)) == "none"
        assert health.admits(health.probe_at) == "one"
        at = health.probe_at
        health = after_try(health, False, "away", at)
        assert health.opened_at == now
        waits.append((health.probe_at - at).total_seconds())
    assert waits == [FIRST_WAIT * 2, FIRST_WAIT * 4, FIRST_WAIT * 8, FIRST_WAIT * 16, *[LONGEST_WAIT] * 4]
    assert after_try(health, True, "", now) == HEALTHY


def test_an_unreachable_gateway_is_left_alone_shown_probed_and_takes_up_again(bench, client):
    for number in range(20):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    away = True
    way = Transport(
        lambda mail: Outcome("temporary", "", "mailroom:25 can't be reached", unreachable=True) if away else ACCEPTED
    )
    gateway_id = bench.services.setups.get(bench.store_id).gateway_ids["mailroom"]
    working = dispatcher(bench, way, breakers=Breakers())
    working.run(8, lambda: None, lambda: False, gateway_id)
    assert sum(way.handed.values()) == FAILURES, "then it is left alone"
    assert bench.rows("SELECT count(*) FROM send WHERE state = 'scheduled' AND tries = 0") == [(20 - FAILURES,)]
    with bench.database.reading() as session:
        health = gateway_health.load(session.connection())[gateway_id]
    assert (health.failures, health.reason) == (FAILURES, "mailroom:25 can't be reached")
    for page in ("/", "/gateways", "/gateways/mailroom"):
        assert "unreachable" in client.get(page).get_data(as_text=True).lower(), page
    assert working.run(8, lambda: None, lambda: False, gateway_id) == 0
    client.post("/gateways/mailroom/probe")
    with bench.database.reading() as session:
        working._breakers.refresh(session.connection())
    assert working.run(8, lambda: None, lambda: False, gateway_id) == 1, "one send is tried to see"
    away = False
    client.post("/gateways/mailroom/probe")
    with bench.database.reading() as session:
        working._breakers.refresh(session.connection())
    assert working.run(8, lambda: None, lambda: False, gateway_id) >= 14
    assert bench.rows("SELECT count(*) FROM gateway_health") == [(0,)]
    assert "unreachable" not in client.get("/gateways").get_data(as_text=True)


def test_a_gateway_that_refuses_everybody_suppresses_nobody_and_its_sends_wait(bench):
    """A mail server that answers 550 to all for a minute: those who were counted as gone are not."""
    people = [{"name": "Jo", "email": f"p{number}@example.org"} for number in range(12)]
    for number, buyer in enumerate(people):
        bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"d-{number}")
    bench.plan()
    server = Transport(Outcome("permanent", "550", "5.1.1 no such mailbox"))
    dispatcher(bench, server).run_batch(12)
    states = dict(bench.rows("SELECT state, count(*) FROM send GROUP BY state"))
    assert states.pop("failed") == IN_DOUBT - 1
    assert states.keys() <= {"retrying", "scheduled"}, "the others wait: the gateway is left alone"
    assert bench.rows("SELECT count(*) FROM suppression") == [(0,)]
    reasons = " ".join(reason for (reason,) in bench.rows("SELECT reason FROM send WHERE state = 'retrying'"))
    assert "It refuses nearly everybody: 550" in reasons
    assert "It has refused several in a row: 550" in reasons


def test_a_gateway_that_refuses_a_few_for_a_moment_suppresses_none_of_them(bench):
    """Fewer than open its breaker: none of them is taken to be gone, and the later ones are tried again."""
    people = [{"name": "Jo", "email": f"p{number}@example.org"} for number in range(REFUSES_ALL - 1)]
    for number, buyer in enumerate(people):
        bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer), store_delivery=f"d-{number}")
    bench.plan()
    server = Transport(Outcome("permanent", "550", "5.1.1 no such mailbox"))
    working = dispatcher(bench, server)
    working.run_batch(REFUSES_ALL - 1)
    assert bench.rows("SELECT count(*) FROM suppression") == [(0,)]
    server.answer = Outcome("accepted", "250", "taken")
    later = bench.clock.now() + dt.timedelta(hours=1)
    bench.clock.now = lambda: later
    working.run_batch(REFUSES_ALL - 1)
    states = dict(bench.rows("SELECT state, count(*) FROM send GROUP BY state"))
    assert states == {"failed": IN_DOUBT - 1, "sent": REFUSES_ALL - IN_DOUBT}


def test_one_who_is_gone_is_suppressed_where_the_gateway_takes_others(bench):
    breakers, gone, taken = Breakers(), Outcome("permanent", "550", "5.1.1"), Outcome("accepted", "250", "")
    for number in range(20):
        assert breakers.judged(1, gone, 1, f"email:p{number}@example.org") == (gone, [])
        breakers.judged(1, taken, 1, "email:other@example.org")


def test_a_refusal_of_one_message_says_nothing_of_the_gateway():
    breakers = Breakers()
    for _ in range(20):
        breakers.note(1, True, "550", made.NOON)
    assert breakers.of(1) == HEALTHY
    assert Health(9, made.NOON, made.NOON).admits(made.NOON) == "one"


def test_a_gateway_that_hangs_holds_up_no_other(bench):
    """Two gateways, one of which never answers: the other's mails all go out meanwhile."""
    bench.change(Gateway.model_validate(made.provider("sms", 9)), GatewayRow)
    for number in range(30):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    bench.plan()
    live = bench.services.setups.get(bench.store_id)
    release = threading.Event()
    with bench.database.connection() as connection:
        connection.exec_driver_sql(
            "UPDATE send SET gateway_id = ?, due_at = 0 WHERE rowid % 2 = 0", (live.gateway_ids["sms"],)
        )
    quick = Transport()
    hanging = Transport(lambda mail: release.wait(60) and ACCEPTED)

    def made_of(name: str) -> Dispatcher:
        return Dispatcher(
            name,
            bench.database,
            bench.services.setups,
            bench.vault,
            bench.clock,
            lambda gateway, secret: hanging if gateway.key == "sms" else quick,
        )

    with bench.database.writing() as session:
        bench.vault.put(session, "gateway", live.gateway_ids["sms"], "token", bench.clock.now())
    pools = GatewayPools(bench.database, bench.clock, Breakers(), "test", made_of, lambda: None, each=2)
    running = threading.Thread(target=pools.run)
    running.start()
    try:
        until = time.monotonic() + 30
        while sum(quick.handed.values()) < 15 and time.monotonic() < until:
            time.sleep(0.02)
        assert sum(quick.handed.values()) == 15
        assert sum(hanging.handed.values()) <= 2, "no more than its own threads"
    finally:
        release.set()
        pools.stop()
        running.join(10)
        pools.join(10)


# ---- receipts


def test_a_receipt_that_comes_before_its_send_is_stored_waits_for_it(bench):
    shop = Shop(bench)
    receipts = {"id_at": "$.id", "state_at": "$.state", "text_at": "$.text"}
    bench.change(Gateway.model_validate(made.provider("sms", 9) | {"receipts": receipts}), GatewayRow)
    shop.route(channel="sms", gateway="sms")
    shop.order()
    live = bench.services.setups.get(bench.store_id)
    told = []

    def answer(mail):
        told.extend(
            take_all(
                bench.database, live, live.setup.gateways["sms"], [{"id": "m-1", "state": "delivered"}], bench.clock
            )
        )  # before the outcome is stored
        return Outcome("accepted", "202", "", reference="m-1")

    dispatcher(bench, Transport(answer)).run_batch()
    assert told == ["No send has this id yet; kept until one has."]
    assert bench.rows("SELECT state FROM send WHERE channel = 'sms'") == [("delivered",)]
    assert bench.rows("SELECT count(*) FROM early_receipt") == [(0,)]


def test_receipts_that_nobody_ever_sent_for_are_bounded_and_dropped(bench, monkeypatch):
    monkeypatch.setattr(early_receipts, "MOST", 3)
    with bench.database.connection() as connection:
        assert [early_receipts.keep(connection, 1, f"x{n}", {}, bench.clock.now()) for n in range(5)] == [True] * 3 + [
            False
        ] * 2
    assert match_early(bench.database, bench.services.setups, bench.clock) == 0
    at = bench.clock.now() + dt.timedelta(hours=2)
    bench.clock.now = lambda: at
    match_early(bench.database, bench.services.setups, bench.clock)
    assert bench.rows("SELECT count(*) FROM early_receipt") == [(0,)]


def test_one_receipt_that_can_t_be_taken_keeps_no_other_from_it(bench, monkeypatch):
    import angelon.engine.feedback.receipts as taking

    live = bench.services.setups.get(bench.store_id)
    real = taking.take
    monkeypatch.setattr(
        taking,
        "take",
        lambda session, live, gateway, told, clock, keep=True: (
            1 // 0 if told == "bad" else real(session, live, gateway, told, clock, keep)
        ),
    )
    assert take_all(bench.database, live, live.setup.gateways["mailroom"], ["bad", {}], bench.clock) == [
        "It could not be taken: ZeroDivisionError.",
        "The gateway takes no receipts.",
    ]


def test_receipts_that_can_t_be_matched_keep_no_claimed_send_from_going_out(bench, monkeypatch):
    """Matching comes after the claim by the same commit: a fault in it must not strand what was claimed."""
    shop = Shop(bench)
    shop.route()
    monkeypatch.setattr(dispatching, "match_early", lambda *a: 1 // 0)
    working = dispatcher(bench, way := Transport(Outcome("accepted", "250", "taken", reference="m-1")))
    for _ in range(2):
        shop.order()
        working.run_batch(limit=1)
    while working.run_batch(limit=1):
        pass
    assert set(bench.rows("SELECT state FROM send WHERE channel = 'email'")) <= {("sent",), ("delivered",)}
    assert sum(way.handed.values()) == bench.rows("SELECT count(*) FROM send")[0][0] > 0


# ---- following, asking


def test_a_fallback_that_raises_harms_no_other(bench, monkeypatch):
    shop = Shop(bench)
    shop.route(fallback=WAYS)
    shop.ways["email"].outcome = Outcome("permanent", "550", "nobody")
    for number in range(3):
        shop.order(number)
    shop.dispatch()
    ((bad,),) = bench.rows("SELECT id FROM send ORDER BY id LIMIT 1 OFFSET 1")
    real = Fallbacks._fallback
    monkeypatch.setattr(
        Fallbacks,
        "_fallback",
        lambda self, connection, live, route, row, why, now: (
            1 // 0 if row.id == bad else real(self, connection, live, route, row, why, now)
        ),
    )
    assert shop.follow() == 2
    assert bench.rows("SELECT count(*) FROM send WHERE channel = 'sms'") == [(2,)]
    assert (
        "What follows could not be evaluated: ZeroDivisionError"
        in bench.rows("SELECT reason FROM send WHERE id = ?", bad)[0][0]
    )


def test_what_a_dead_worker_was_asking_about_is_taken_up_at_once(bench):
    from angelon.engine.worker import Worker

    event_id = bench.deliver(made.body()).body["event"]
    now = bench.clock.now()
    far = now + dt.timedelta(minutes=3)
    target = "https://shop.example"
    with bench.database.connection() as connection:
        asked = inquiries.new(event_id, inquiries.LOOK_UP, "more", 1, target, now, far)
        inquiries.add(connection, [asked])
        inquiries.claim(connection, target, now, 5, far, "elsewhere-1-ask")
    worker = Worker(bench.database, bench.home, bench.vault, bench.clock)
    worker._recover_dead()
    assert bench.rows("SELECT asker FROM inquiry") == [("elsewhere-1-ask",)], "another machine's worker may be alive"
    with bench.database.connection() as connection:
        gone = f"{worker.name.rpartition('-')[0]}-4194999-ask"
        inquiries.claim(connection, target, far, 5, far, gone)
    worker._recover_dead()
    with bench.database.connection() as connection:
        soon = bench.clock.now() + dt.timedelta(seconds=1)
        assert [row.event_id for row in inquiries.claim(connection, target, soon, 5, far, "w")] == [event_id]


def test_an_event_that_can_t_be_asked_about_is_planned_without(bench, monkeypatch):
    from angelon.db.tables import SourceRow

    bench.change(made.source(enrichments=[{"name": "extra", "url": "https://shop.example/x"}]), SourceRow)
    ids = [bench.deliver(made.body(id=number)).body["event"] for number in range(3)]
    asked, real = [], Inquirer._look_up

    def look_up(self, session, live, call):
        asked.append(call.row.event_id)
        if call.row.event_id == ids[1]:
            raise OverflowError("a bug of ours")
        return real(self, session, live, call)

    monkeypatch.setattr(Inquirer, "_look_up", look_up)
    answer = ("https://shop.example/x", {"a": 1}, "", False)
    monkeypatch.setattr("angelon.engine.asking.inquirer.ask", lambda *_: answer)
    bench.plan()
    assert Inquirer(bench.database, bench.services.setups, bench.clock, "w").run_due() == 3
    assert set(asked) == set(ids)
    bench.plan()
    assert bench.rows("SELECT count(*) FROM event WHERE planned_at IS NOT NULL AND problem = ''") == [(3,)]
    assert "OverflowError" in bench.rows("SELECT problem FROM inquiry WHERE event_id = ?", ids[1])[0][0]


# ---- the clock


def test_a_clock_that_is_put_back_makes_nothing_wait_longer_than_it_should(bench):
    start = bench.clock.now()
    ahead = start + dt.timedelta(hours=1)
    bench.clock.now = lambda: ahead
    for number in range(3):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    watch = ClockWatch(bench.database, bench.clock)
    watch.look()
    bench.plan()
    with bench.database.connection() as connection:
        queries.heartbeat(connection, "w", ahead)
        connection.exec_driver_sql(
            "UPDATE send SET state = 'retrying', due_at = due_at + 60000000 WHERE recipient = 'p1@example.org'"
        )
        connection.exec_driver_sql("UPDATE send SET due_at = due_at + 3600000000 WHERE recipient = 'p2@example.org'")
    bench.clock.now = lambda: start
    assert watch.look(), "the clock was put back by an hour"
    due = dict(bench.rows("SELECT recipient, due_at FROM send"))
    from angelon.db.tables import Instant

    seconds = {to: round((Instant.moment(at) - start).total_seconds()) for to, at in due.items()}
    wanted = {"p0@example.org": 0, "p1@example.org": 60, "p2@example.org": 3600}
    assert seconds.keys() == wanted.keys()
    assert all(abs(seconds[to] - wanted[to]) <= 3 for to in wanted), seconds  # a busy machine takes a while over it
    assert not watch.look(), "once"
    bench.deliver(made.body(id=9, buyer={"name": "Jo", "email": "new@example.org"}))
    bench.plan()
    assert bench.rows(
        "SELECT count(*) FROM send WHERE recipient = 'new@example.org' AND due_at <= ?",
        int(start.timestamp() * 1e6) + 1,
    ) == [(1,)]


def test_events_received_before_the_clock_was_put_back_and_planned_after_go_at_once(bench):
    start = bench.clock.now()
    bench.clock.now = lambda: start + dt.timedelta(hours=1)
    bench.deliver(made.body())
    bench.clock.now = lambda: start
    bench.plan()
    assert bench.dispatcher().run_batch() == 1


def test_a_sign_of_life_from_the_future_is_none(bench, client):
    with bench.database.connection() as connection:
        queries.heartbeat(connection, "w", bench.clock.now() + dt.timedelta(hours=1))
    answer = client.get("/readyz/work")
    assert (answer.status_code, answer.json["why"]) == (503, "no worker is running")
    watch = ClockWatch(bench.database, bench.clock)
    assert watch.look(), "put back while nobody ran"
    with bench.database.reading() as session:
        assert clock_jumps.latest_beat(session.connection()) is None


def test_a_clock_that_is_put_on_takes_no_send_out_of_living_hands(bench, monkeypatch):
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:
        (claimed,) = queries.claim(connection, "other-machine-1-0", bench.clock.now(), dispatching.LEASE, 5)
    later = bench.clock.now() + dt.timedelta(hours=5)
    bench.clock.now = lambda: later
    seen = {}
    assert recover(bench.database, bench.clock, [], (), seen) == 0, "its lease seems over, and may not be"
    running = time.monotonic()
    monkeypatch.setattr(dispatching.time, "monotonic", lambda: running + dispatching.LONGEST_TRY + 1)
    assert recover(bench.database, bench.clock, [], {claimed.id}, dict(seen)) == 0, "its own sends are never taken"
    assert recover(bench.database, bench.clock, [], (), seen) == 1


def test_readiness_is_red_while_an_event_waits_for_long(bench, client):
    with bench.database.connection() as connection:
        queries.heartbeat(connection, "w", bench.clock.now())
    assert client.get("/readyz/work").status_code == 200
    bench.deliver(made.body())
    at = bench.clock.now() + dt.timedelta(minutes=3)
    bench.clock.now = lambda: at
    with bench.database.connection() as connection:
        queries.heartbeat(connection, "w", at)
    answer = client.get("/readyz/work")
    assert answer.status_code == 503
    assert "has waited 180 s to be planned" in answer.json["why"]
    assert client.get("/readyz").status_code == 200, "deliveries are taken all the same"


@pytest.mark.parametrize("state", ["sending"])
def test_nobody_takes_a_send_out_of_a_worker_s_hands(bench, client, state):
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:
        ((row),) = queries.claim(connection, "w-0", bench.clock.now(), dispatching.LEASE, 5)
    for act in ("retry", "release", "cancel"):
        client.post(f"/sends/{row.id}", data={"act": act})
    assert bench.rows("SELECT state, worker FROM send") == [(state, "w-0")]


def test_a_retry_that_is_no_longer_possible_forgets_nothing(bench, client):
    bench.deliver(made.body())
    bench.plan()
    dispatcher(bench, Transport()).run_batch()
    before = bench.rows("SELECT id, state, revision_id FROM send")
    client.post(f"/sends/{before[0][0]}", data={"act": "retry"})
    assert bench.rows("SELECT id, state, revision_id FROM send") == before
    assert before[0][2] is not None


def test_a_claim_that_was_lost_with_the_answer_to_its_commit_comes_back_within_seconds(bench, monkeypatch):
    """The database has it, the worker has not: nobody tries it, and its lease is minutes long."""
    shop = Shop(bench)
    shop.route()
    shop.order()
    seen = {}
    with bench.database.connection() as connection:
        (row,) = queries.claim(connection, "here-7-0", shop.now, dispatching.LEASE, 8)
    running = [100.0]
    monkeypatch.setattr(dispatching.time, "monotonic", lambda: running[0])
    look = lambda in_hand, own: recover(bench.database, bench.clock, [], in_hand, seen, own)  # noqa: E731
    assert look({row.id}, "here-7-") == 0
    assert look((), "here-8-") == 0, "another's lease runs"
    assert look((), "here-7-") == 0, "perhaps it is being taken up"
    running[0] += dispatching.LOST - 0.1
    assert look((), "here-7-") == 0
    running[0] += 0.2
    assert look((), "here-7-") == 1
    assert bench.rows("SELECT state, worker FROM send") == [("retrying", "")]
    assert bench.rows("SELECT outcome FROM attempt") == [("unknown",)]


def test_a_set_up_that_can_t_be_read_for_a_moment_holds_no_send(bench, monkeypatch):
    shop = Shop(bench)
    shop.route()
    shop.order()
    working = dispatcher(bench, Transport())
    real = bench.services.setups.get

    def away(store_id):
        raise OperationalError("SELECT 1", {}, sqlite3.OperationalError("disk I/O error"))

    monkeypatch.setattr(bench.services.setups, "get", away)
    working.run_batch(8)
    working.store()
    assert bench.rows("SELECT state, tries FROM send") == [("retrying", 0)]
    monkeypatch.setattr(bench.services.setups, "get", real)
    shop.later(seconds=20)
    working.run_batch(8)
    working.store()
    assert bench.rows("SELECT state, tries FROM send") == [("sent", 1)]
