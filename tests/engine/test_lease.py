"""Leases and wake-ups: a slow gateway keeps its claim, a ring is heard, a dead socket is swept away."""

import datetime as dt
import threading
import time

import pytest

from angelon.db.log import sends as queries
from angelon.db.people import suppressions
from angelon.engine.notifications import Listener, Notifier
from angelon.engine.sending import dispatcher as dispatching
from angelon.gateways.interface import Outcome
from tests import made


class Slow:
    """A gateway whose every delivery takes four minutes of the clock."""

    def __init__(self, clock, seen):
        self._clock, self._seen = clock, seen

    def deliver(self, mail, key):
        at = self._clock.now() + dt.timedelta(minutes=4)
        self._clock.now = lambda: at
        self._seen.append(key)
        return Outcome("accepted", "250")

    def close(self): ...


def test_a_slow_gateway_keeps_its_claim_until_the_batch_is_done(bench):
    for number in range(5):
        bench.deliver(made.body(id=number))
    bench.plan()
    seen = []
    slow = dispatching.Dispatcher(
        "slow-0",
        bench.database,
        bench.services.setups,
        bench.vault,
        bench.clock,
        lambda gateway, password: Slow(bench.clock, seen),
    )
    other = bench.dispatcher("other-0")
    checked = []
    original = dispatching.Dispatcher._one

    def between(self, row):
        assert dispatching.recover(bench.database, bench.clock, []) == 0, "nobody may take what is still in hand"
        with bench.database.connection() as connection:
            checked.append(queries.claim(connection, other.name, bench.clock.now(), dispatching.LEASE, 10))
        return original(self, row)

    dispatching.Dispatcher._one = between
    try:
        assert slow.run_batch(5) == 5
    finally:
        dispatching.Dispatcher._one = original
    assert len(seen) == len(set(seen)) == 5
    assert all(found == [] for found in checked)
    assert bench.rows("SELECT count(*) FROM attempt WHERE outcome = 'accepted'") == [(5,)]


def test_outcomes_of_one_batch_are_stored_with_the_next_claim_and_none_is_lost(bench, mailbox, monkeypatch):
    monkeypatch.setattr(dispatching, "MOST", 4)  # whatever the gateway's speed
    for number in range(10):
        bench.deliver(made.body(id=number))
    bench.plan()
    more = []
    assert bench.dispatcher().run(4, lambda: more.append(1), lambda: False) == 10
    assert bench.rows("SELECT state, count(*) FROM send GROUP BY state") == [("sent", 10)]
    assert len(more) == 2, "another thread is woken for each full batch"


def test_stopping_stores_what_was_done_and_claims_nothing_more(bench, mailbox):
    for number in range(10):
        bench.deliver(made.body(id=number))
    bench.plan()
    stops = iter([False, True])
    assert bench.dispatcher().run(4, lambda: None, lambda: next(stops)) == 4
    assert dict(bench.rows("SELECT state, count(*) FROM send GROUP BY state")) == {"sent": 4, "scheduled": 6}


def test_a_ring_is_heard_at_once_and_many_count_as_one(tmp_path):
    ear, notifier = Listener(tmp_path), Notifier(tmp_path)
    heard = []
    thread = threading.Thread(target=lambda: heard.append((ear.wait(5), time.monotonic())))
    began = time.monotonic()
    thread.start()
    time.sleep(0.05)
    for _ in range(50):
        notifier.notify()
    thread.join()
    assert heard[0][0]
    assert heard[0][1] - began < 1
    ear.wait(0.01)  # it may have woken before the last of them was told
    assert not ear.wait(0.01), "and then all have been heard"
    ear.close()
    notifier.notify()


def test_nobody_listening_is_no_error(tmp_path):
    Notifier(tmp_path / "none").notify()


@pytest.mark.parametrize(
    ("number", "took", "then"), [(8, 0.02, 32), (8, 0.25, 8), (8, 0.5, 4), (8, 40.0, 1), (1, 0.0, 32), (32, 0.5, 16)]
)
def test_a_thread_takes_as_many_sends_at_once_as_go_out_in_a_moment(number, took, then):
    assert dispatching.fitting(number, took) == then


def test_an_address_that_is_suppressed_while_a_slow_batch_goes_out_is_not_written_to(bench):
    for number in range(3):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"jo{number}@example.org", "country": "DE"}))
    bench.plan()
    seen = []

    class Suppressing(Slow):
        def deliver(self, mail, key):
            rest = {f"jo{number}@example.org" for number in range(3)} - {mail.to_address, *(other for other in seen)}
            with bench.database.writing() as session:
                suppressions.add(session, 1, f"email:{max(rest)}", "asked for it.", bench.clock.now())
            outcome = super().deliver(mail, key)
            seen[-1] = mail.to_address
            return outcome

    way = Suppressing(bench.clock, seen)
    dispatching.Dispatcher(
        "slow-0", bench.database, bench.services.setups, bench.vault, bench.clock, lambda gateway, password: way
    ).run_batch(3)
    assert len(seen) == 2
    ((skipped, reason),) = bench.rows("SELECT recipient, reason FROM send WHERE state = 'skipped'")
    assert skipped not in seen
    assert reason == f"{skipped} must not be written to: asked for it."
