"""Planning and sending in processes of their own, as `angelon worker` runs them."""

import os
import signal
import subprocess
import sys
import threading
import time

import pytest

from angelon.db.log import sends
from angelon.db.write_turn import WriteTurn
from angelon.engine.notifications import PLANNING, SENDING, Listener, Notifier
from tests import made


def start(bench, *arguments):
    return subprocess.Popen(
        [sys.executable, "-m", "angelon", "worker", *arguments],
        env={**os.environ, "ANGELON_HOME": str(bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"},
        stderr=subprocess.DEVNULL,
    )


def wait_until(true, seconds=40):
    until = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < until, "it did not happen in time"
        time.sleep(0.02)


@pytest.fixture
def children():
    started = []
    yield started
    for child in started:
        child.terminate()
    for child in started:
        child.wait(20)


def test_a_planner_makes_sends_and_a_sender_delivers_them(bench, mailbox, children, client):
    children.append(start(bench, "--role", "plan"))
    bench.deliver(made.body())
    wait_until(lambda: bench.rows("SELECT count(*) FROM send WHERE state = 'scheduled'") == [(1,)])
    wait_until(lambda: client.get("/readyz/work").json["why"] == "no worker that sends is running: sends wait")
    children.append(start(bench, "--role", "send"))
    wait_until(lambda: bench.box.count_mails() == 1)
    wait_until(lambda: client.get("/readyz/work").status_code == 200)


def test_one_command_runs_them_all_and_a_killed_one_is_followed_by_another(bench, mailbox, children):
    children.append(start(bench))
    bench.deliver(made.body())
    wait_until(lambda: bench.rows("SELECT state FROM send") == [("sent",)])
    (sender,) = bench.rows("SELECT worker FROM heartbeat WHERE role = 'send'")
    os.kill(int(sender[0].rpartition("-")[2]), signal.SIGKILL)
    bench.deliver(made.body(id=2))
    wait_until(lambda: bench.box.count_mails() == 2)
    assert len(bench.rows("SELECT worker FROM heartbeat WHERE role = 'send'")) == 2, (
        "the one that died, and its follower"
    )


def test_readiness_tells_what_nobody_is_there_for(bench):
    now = bench.clock.now()
    with bench.database.reading() as session:
        assert sends.missing_roles(session, now) == {"plan", "send"}
    with bench.database.connection() as connection:
        sends.heartbeat(connection, "p", now, "plan")
    with bench.database.reading() as session:
        assert sends.missing_roles(session, now) == {"send"}


def test_a_listener_hears_its_topic_and_what_is_for_all(tmp_path):
    planning, sending = Listener(tmp_path, PLANNING), Listener(tmp_path, SENDING)
    notifier = Notifier(tmp_path)
    notifier.notify(SENDING)
    assert (planning.wait(0.01), sending.wait(1)) == (False, True)
    notifier.notify()
    assert (planning.wait(1), sending.wait(1)) == (True, True)
    planning.close()
    sending.close()


WRITES_OFTEN = """
import pathlib, sys, time
from angelon.db.write_turn import WriteTurn
turn = WriteTurn(pathlib.Path(sys.argv[1] + "-turn"))
while True:
    with turn.take("a test"):
        time.sleep(0.02)
"""


def one_that_writes_often(file):
    return subprocess.Popen([sys.executable, "-c", WRITES_OFTEN, str(file)])


def test_a_process_that_writes_often_lets_another_write_in_between(tmp_path):
    """Waiting is for one write of the other, not for the moment in which it happens to be between two."""
    greedy = one_that_writes_often(tmp_path / "x.db")
    turn = WriteTurn(tmp_path / "x.db-turn")
    try:
        wait_until(lambda: (tmp_path / "x.db-turn").exists())
        waits = []
        for _ in range(20):
            began = time.monotonic()
            with turn.take("a test"):
                waits.append(time.monotonic() - began)
        assert sorted(waits)[10] < 0.2, waits
    finally:
        greedy.kill()
        greedy.wait(10)


def test_a_turn_is_free_again_when_its_process_is_killed(tmp_path):
    child = one_that_writes_often(tmp_path / "x.db")
    wait_until(lambda: (tmp_path / "x.db-turn").exists())
    child.kill()
    child.wait(10)
    turn, began = WriteTurn(tmp_path / "x.db-turn"), time.monotonic()
    with turn.take("a test"):
        assert time.monotonic() - began < 5


HOLDS = """
import pathlib, sys, time
from angelon.db.write_turn import WriteTurn
turn = WriteTurn(pathlib.Path(sys.argv[1]))
with turn.take("holding"):
    print("held", flush=True)
    time.sleep(600)
"""


def test_of_three_processes_the_others_go_on_when_the_one_that_holds_the_turn_is_killed(tmp_path):
    file = tmp_path / "turn"
    holder = subprocess.Popen([sys.executable, "-c", HOLDS, str(file)], stdout=subprocess.PIPE)
    holder.stdout.readline()
    waiting = [
        subprocess.Popen([sys.executable, "-c", HOLDS.replace("600", "0"), str(file)], stdout=subprocess.PIPE)
        for _ in range(2)
    ]
    holder.kill()
    for one in waiting:
        assert one.stdout.readline() == b"held\n"
        assert one.wait(20) == 0
    held = {one.purpose: one.holds for one in WriteTurn(file).held()}
    assert held["holding"] == 2, "what was killed has told nothing"


def test_a_delivery_goes_before_all_others_that_wait_but_the_one_that_is_next(tmp_path):
    """Eight writers wait when a delivery comes: it waits for the one that writes, and for one more at the most."""
    turn, order = WriteTurn(tmp_path / "turn"), []
    begun, go = threading.Event(), threading.Event()

    def first_of_all():
        with turn.take("first"):
            begun.set()
            go.wait(20)

    def write(name, first):
        with turn.take(name, first):
            order.append(name)

    threads = [threading.Thread(target=first_of_all)]
    threads[0].start()
    begun.wait(20)
    for number in range(8):
        threads.append(threading.Thread(target=write, args=(f"w{number}", False)))
        threads[-1].start()
    time.sleep(0.3)  # all of them wait by then, or the delivery is earlier still
    threads.append(threading.Thread(target=write, args=("delivery", True)))
    threads[-1].start()
    time.sleep(0.3)
    go.set()
    for thread in threads:
        thread.join(20)
    assert len(order) == 9
    assert order.index("delivery") <= 1


def test_a_copy_of_a_data_folder_waits_for_nobody(tmp_path):
    """The memory is told apart by its file: one that was copied while somebody wrote is begun anew."""
    turn = WriteTurn(tmp_path / "turn")
    with turn.take("x"):
        (tmp_path / "copy").write_bytes((tmp_path / "turn").read_bytes())
    began = time.monotonic()
    with WriteTurn(tmp_path / "copy").take("y"):
        assert time.monotonic() - began < 10


def test_a_write_inside_a_write_of_the_same_thread_is_an_error_and_not_a_wait(tmp_path):
    turn = WriteTurn(tmp_path / "x.db-turn")
    with turn.take("a"), pytest.raises(RuntimeError, match="wait for itself"), turn.take("b"):
        pass
    entered = threading.Event()

    def other():
        with turn.take("a test"):
            entered.set()

    with turn.take("a test"):
        thread = threading.Thread(target=other)
        thread.start()
        assert not entered.wait(0.05)
    assert entered.wait(5)
    thread.join()


def test_a_copy_of_a_process_throws_its_own_dice():
    from angelon.engine.clock import Dice

    dice = Dice()
    dice.getrandbits(50)
    reading, writing = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.write(writing, ",".join(str(dice.getrandbits(50)) for _ in range(20)).encode())
        os._exit(0)
    os.waitpid(pid, 0)
    theirs = set(os.read(reading, 10_000).decode().split(","))
    assert theirs.isdisjoint({str(dice.getrandbits(50)) for _ in range(20)})


def test_a_copied_process_ends_as_a_started_one_does(tmp_path):
    from angelon.cli.forked import Forked

    assert Forked(("--version",), {}).wait(20) == 0
    assert Forked(("no-such-command",), {}).wait(20) == 2
    running = Forked(("standins", "--mail-port", "0", "--provider-port", "0"), {"ANGELON_HOME": str(tmp_path / "home")})
    try:
        assert running.poll() is None
        with pytest.raises(subprocess.TimeoutExpired):
            running.wait(0.1)
        running.terminate()
        running.wait(20)
        assert running.poll() is not None
    finally:
        running.kill()
