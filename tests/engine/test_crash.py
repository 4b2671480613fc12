"""A worker killed in the middle of a hundred sends: every one arrives, and a double only where the log says unknown."""

import datetime as dt
import os
import signal
import subprocess
import sys
import time
from collections import Counter

from tests import made


def start_worker(bench):
    return subprocess.Popen(
        [sys.executable, "-m", "angelon", "worker", "--role", "all"],
        env={**os.environ, "ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"},
        stderr=subprocess.DEVNULL,
    )


def wait_until(true, seconds=40):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if true():
            return
        time.sleep(0.02)
    raise AssertionError("it did not happen in time")


def test_a_killed_worker_loses_nothing(bench, mailbox):
    for number in range(100):
        bench.deliver(made.body(id=number, buyer={"name": "Jo", "email": f"p{number}@example.org"}))
    worker = start_worker(bench)
    wait_until(lambda: bench.box.count_mails() >= 12)
    worker.send_signal(signal.SIGKILL)
    worker.wait()
    assert bench.box.count_mails() < 100, "it was killed in the middle"
    worker = start_worker(bench)
    try:
        wait_until(lambda: bench.rows("SELECT count(*) FROM send WHERE state = 'sent'") == [(100,)])
    finally:
        worker.terminate()
        worker.wait(20)
    arrived = Counter(mail.rcpt_to for mail in bench.box.mails(300))
    assert set(arrived) == {f"p{n}@example.org" for n in range(100)}
    unknown = {
        row[0]
        for row in bench.rows(
            "SELECT s.recipient FROM attempt a JOIN send s ON s.id = a.send_id WHERE a.outcome = 'unknown'"
        )
    }
    assert {to for to, times in arrived.items() if times > 1} <= unknown


def test_a_mail_server_away_for_a_while_gets_it_afterwards_once(bench, mailbox):
    bench.box.set("mail_fault", "later")
    worker = start_worker(bench)
    try:
        bench.deliver(made.body())
        wait_until(lambda: bench.rows("SELECT count(*) FROM attempt WHERE outcome = 'temporary'")[0][0] >= 2)
        assert bench.box.count_mails() == 0
        bench.box.set("mail_fault", "none")
        wait_until(lambda: bench.rows("SELECT state FROM send") == [("sent",)])
    finally:
        worker.terminate()
        assert worker.wait(20) == 0
    assert bench.box.count_mails() == 1


def test_an_idle_worker_is_woken_at_once(bench, mailbox):
    worker = start_worker(bench)
    try:
        wait_until(lambda: bench.rows("SELECT count(*) FROM heartbeat") == [(1,)])
        time.sleep(0.5)
        bench.deliver(made.body())
        wait_until(lambda: bench.rows("SELECT state FROM send") == [("sent",)])
        ((began, received),) = bench.rows(
            "SELECT a.began_at, e.received_at FROM attempt a JOIN send s ON s.id = a.send_id JOIN event e ON e.id = "
            "s.event_id"
        )
        assert dt.timedelta(microseconds=began - received) < dt.timedelta(seconds=1.5), "well before the next poll"
    finally:
        worker.terminate()
        worker.wait(20)
