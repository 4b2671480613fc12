"""Handlers: functions of the shop's own, from the file to the send; and every way in which one can misbehave."""

import dataclasses
import datetime as dt
import json
import os
import re
import textwrap
import time
from pathlib import Path

import pytest

from angelon.core.specs.asked import Asked
from angelon.db.setup import handlers as stored
from angelon.db.tables import RouteRow
from angelon.engine.arrivals.event_reader import Readings
from angelon.engine.asking import functions
from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.handlers import pool as pool_module
from angelon.engine.handlers.pool import Pool
from angelon.engine.handlers.runner import HandlerRunner
from angelon.engine.operations import events as event_operations
from angelon.engine.operations import people
from angelon.engine.operations import routes as route_operations
from angelon.engine.operations import store as store_operations
from angelon.engine.planner import Planner, batch
from angelon.engine.unit import unit
from tests import made

GOOD = """
    from angelon.handlers import Event, Outbox, days, on

    @on("order.created")
    def thanks(event: Event, outbox: Outbox) -> None:
        "Thanks who orders much."
        print("seen", event.order.number, event.order.total.amount)
        if event.order.total.amount < 100:
            return outbox.skip("less than 100")
        outbox.send("received", values={"gift_note": f"order {event.person.orders}"}, after=days(1))
        outbox.derive("order.large")
"""


@pytest.fixture
def folder(tmp_path):
    made_ = tmp_path / "handlers"
    made_.mkdir()
    return made_


def write(folder, text, name="shop.py"):
    (folder / name).write_text(textwrap.dedent(text))


@pytest.fixture
def running(bench, folder):
    """The runner, with the handlers loaded and switched on."""
    made_ = []

    def start(text=GOOD):
        write(folder, text)
        runner = HandlerRunner(bench.database, bench.clock, folder)
        made_.append(runner)
        assert runner.look()
        switch_on(bench)
        return runner

    yield start
    for runner in made_:
        runner.handlers.end()


def switch_on(bench):
    with bench.database.writing() as session:
        for row in session.query(RouteRow).filter(RouteRow.key.like("handler-%")):
            row.on, row.since = True, bench.clock.now().replace(year=2020)
            session.get(type(row), row.id)
        from angelon.db.setup import specs

        specs.touch(session, bench.store_id)
    bench.services.setups.forget()


def travelling(**parts):
    """An event as it travels to a process."""
    event = {"id": "e", "type": "x.y", "name": "", "source": "s", "was": "", "now": "", "payload": {}, "values": {}}
    return event | {"received_at": "2026-11-26T10:00:00+00:00", "parts": parts, "person": {}}


def ask(bench, runner):
    """Plans what came, which makes the inquiries, and asks them."""
    bench.plan()
    return Inquirer(bench.database, bench.services.setups, bench.clock, "t", runner).run_due()


def off(bench):
    """The set-up's own route is off, so that what is sent is the handler's."""
    with unit(bench.services.installation, bench.store_id) as work:
        route_operations.switch_off(work, "received")


def test_from_the_file_to_the_mail(bench, running, mailbox):
    off(bench)
    runner = running()
    bench.deliver(made.body())
    assert bench.plan() == 0  # it waits for the handler
    assert ask(bench, runner) == 1
    assert bench.plan() == 1
    ((state, values, trace, due, created),) = bench.rows('SELECT state, "values", trace, due_at, created_at FROM send')
    assert state == "scheduled"
    assert due - created >= 23 * 3600 * 1_000_000
    assert "gift_note" not in values  # the text does not use it
    lines = json.loads(trace)
    assert [line["saw"] for line in lines if line["part"] == "handler"] == ["shop.py:10"]
    assert bench.rows("SELECT output FROM inquiry") == [("seen BK-7 135.50\n",)]
    assert bench.rows("SELECT type FROM event WHERE parent_id IS NOT NULL") == [("order.large",)]


def test_what_it_skips_says_why_and_sends_nothing(bench, running):
    off(bench)
    runner = running()
    bench.deliver(made.body(total="12.00"))
    ask(bench, runner)
    assert bench.plan() == 0
    (decisions,) = bench.rows("SELECT decisions FROM event")[0]
    assert "The handler skips it: less than 100." in decisions


def test_routes_speak_first_where_they_come_first_and_a_handler_is_guarded_like_one(bench, running):
    runner = running()  # the set-up's own route tells the same, at rank 0, and is older
    bench.deliver(made.body())
    ask(bench, runner)
    bench.plan()
    rows = bench.rows("SELECT state, reason FROM send ORDER BY id")
    assert rows[0] == ("scheduled", "")
    assert [state for state, _ in rows].count("scheduled") <= 2


MISBEHAVING = {
    "raises": ("raise KeyError('nothing')", "KeyError: 'nothing'"),
    "hangs": ("import time; time.sleep(60)", "took longer than"),
    "spins": ("while True: pass", "took longer than"),
    "allocates": ("x = bytearray(2_000_000_000)", "MemoryError"),
    "exits": ("raise SystemExit(3)", "SystemExit: 3"),
    "exits at once": ("import os; os._exit(3)", "exit code 3"),
    "is killed": ("import os, signal; os.kill(os.getpid(), signal.SIGKILL)", "SIGKILL"),
    "recurses": ("def f(): f()\n        f()", "RecursionError"),
    "gives what can't be said": ("outbox.send('received', values={'gift_note': object()})", "object can't stand"),
    "names no type": ("outbox.derive('nonsense')", "is no event type"),
    "asks too much": ("[outbox.send('received') for _ in range(50)]", "more than 20 entries"),
    "answers by itself": ("import os; os.write(5, b'{}')", ""),
}


@pytest.mark.parametrize("kind", MISBEHAVING)
def test_a_handler_that_misbehaves_harms_nobody_else_and_says_how(bench, running, kind):
    body, said = MISBEHAVING[kind]
    runner = running(
        f"""
    from angelon.handlers import on

    @on("order.created", timeout=0.5)
    def bad(event, outbox):
        {body}
    """
    )
    bench.deliver(made.body())
    began = time.monotonic()
    assert bench.plan() == 1  # what the handler has nothing to do with goes at once
    ask(bench, runner)
    assert time.monotonic() - began < 8
    rows = bench.rows("SELECT name, problem FROM inquiry")
    if said:
        assert said in rows[0][1]
    # it is asked again, and failed in the end; then the event needs attention
    for _ in range(6):
        at = bench.clock.now() + dt.timedelta(minutes=2)
        bench.clock.now = lambda at=at: at
        ask(bench, runner)
    assert bench.plan() == 0
    (problem,) = bench.rows("SELECT problem FROM event")[0]
    if said:
        assert "The handler failed" in problem
    assert bench.rows("SELECT count(*) FROM send") == [(1,)]


def test_an_event_that_can_t_be_given_to_a_handler_keeps_no_other_from_it(bench, running, monkeypatch):
    off(bench)
    runner, real = running(), functions.work_out
    for number in range(4):
        bench.deliver(made.body(id=number, reference=f"BK-{number}"))

    def work_out(source, setup, payload):
        if payload["reference"] == "BK-2":
            raise OverflowError("a bug of ours")
        return real(source, setup, payload)

    monkeypatch.setattr(functions, "work_out", work_out)
    bench.plan()
    Inquirer(bench.database, bench.services.setups, bench.clock, "t", runner).run_due()
    problems = [problem for (problem,) in bench.rows("SELECT problem FROM inquiry ORDER BY event_id")]
    assert [bool(problem) for problem in problems] == [False, False, True, False]
    assert "OverflowError" in problems[2]
    bench.plan()
    assert bench.rows("SELECT count(*) FROM send") == [(3,)]


def test_each_event_is_given_its_own_customer_s_facts_however_many_go_together(bench, running):
    off(bench)
    runner = running()
    buyers = ("jo@example.org", "ann@example.org", "jo@example.org", "")
    for number, email in enumerate(buyers):
        buyer = {"name": "Jo", "email": email, "country": "DE"}
        bench.deliver(made.body(id=number, reference=f"BK-{number}", buyer=buyer))
    ask(bench, runner)
    values = [value for (value,) in bench.rows("SELECT value FROM inquiry ORDER BY event_id")]
    notes = [re.search(r"order \d", value)[0] for value in values]
    # all four are planned before the first is asked: Jo has two orders by then
    assert notes == ["order 2", "order 1", "order 2", "order 1"]


def test_what_is_printed_is_kept_up_to_a_bound_and_processes_that_are_left_are_ended(bench, running):
    runner = running(
        """
    import logging, os, subprocess
    from angelon.handlers import on

    @on("order.created", timeout=5)
    def loud(event, outbox):
        logging.getLogger("shop").info("looked at %s", event.id)
        print("x" * 100_000_000)
        os.system("echo not seen")
        subprocess.Popen(["sleep", "600"])
        if os.fork() == 0:
            outbox.send("received")
    """
    )
    bench.deliver(made.body())
    ask(bench, runner)
    ((output, problem, asked),) = bench.rows("SELECT output, problem, value FROM inquiry")
    assert problem == ""
    assert output.startswith("INFO looked at ev-")
    assert "characters more" in output
    assert "processes that it left were ended" in output
    assert len(output) < 21_000
    assert json.loads(asked).get("sends", []) == []


def test_what_leaves_its_group_is_ended_too_whether_the_call_returns_or_hangs(bench, running, folder):
    runner = running(
        """
    import subprocess, time
    from angelon.handlers import on

    @on("order.created", timeout=2)
    def leaves(event, outbox):
        subprocess.run(["sh", "-c", "setsid sleep 7771 &"])
        if event.order.number == "BK-8":
            time.sleep(60)
    """
    )
    bench.deliver(made.body())
    ask(bench, runner)
    ((output, problem),) = bench.rows("SELECT output, problem FROM inquiry")
    assert (problem, "processes that it left were ended" in output) == ("", True)
    assert sleeping("7771") == 0
    bench.deliver(made.body(id=8, reference="BK-8"), store_delivery="d-8")
    ask(bench, runner)
    assert any("took longer" in row.problem for row in bench.rows("SELECT problem FROM inquiry"))
    assert sleeping("7771") == 0


def sleeping(seconds):
    """How many processes sleep for so many seconds."""
    found = (Path(f"/proc/{name}/cmdline") for name in os.listdir("/proc") if name.isdigit())
    return sum(seconds in read(file) for file in found)


def read(file):
    try:
        return file.read_text()
    except OSError:
        return ""


def test_it_sees_what_every_program_needs_and_what_is_named(folder, monkeypatch):
    monkeypatch.setenv("SHOP_DB_PASSWORD", "s3cret")
    monkeypatch.setenv("WAREHOUSE_TOKEN", "w")
    monkeypatch.setenv("ANGELON_SECRET_KEY", "k")
    monkeypatch.setenv("ANGELON_HANDLER_VARIABLES", "WAREHOUSE_TOKEN, OTHER")
    write(
        folder,
        """
    import os, tempfile
    from angelon.handlers import on

    @on("order.created")
    def sees(event, outbox):
        print(sorted(os.environ), tempfile.gettempdir())
    """,
    )
    pool = Pool(folder, 1)
    seen = pool.call("sees", travelling(), 5).output
    pool.end()
    assert "WAREHOUSE_TOKEN" in seen
    assert "PATH" in seen
    assert "SHOP_DB_PASSWORD" not in seen
    assert "ANGELON_SECRET_KEY" not in seen
    assert not Path(seen.split()[-1]).exists(), "its folder for temporary files goes with it"


def test_who_leaves_too_much_is_ended_and_the_next_call_goes_on(folder, monkeypatch):
    monkeypatch.setattr(pool_module, "MOST_KEPT", 1_000_000)
    write(
        folder,
        """
    import os, tempfile
    from angelon.handlers import on

    @on("order.created")
    def fills(event, outbox):
        for number in range(3):
            with open(f"{tempfile.gettempdir()}/{number}", "wb") as file:
                file.write(b"x" * 600_000)
        if event.order.number == "small":
            for number in range(3):
                os.unlink(f"{tempfile.gettempdir()}/{number}")
    """,
    )
    pool = Pool(folder, 1)
    full = pool.call("fills", travelling(), 5)
    assert full.asked is None
    assert "1,800,000 bytes of temporary files" in full.problem
    assert pool.call("fills", travelling(number="small"), 5).problem == ""
    pool.end()


def test_who_removes_the_folder_for_temporary_files_harms_nobody(folder):
    write(
        folder,
        """
    import shutil, tempfile
    from angelon.handlers import on

    @on("order.created")
    def tidies(event, outbox):
        shutil.rmtree(tempfile.gettempdir(), ignore_errors=True)
        outbox.send("received")
    """,
    )
    pool = Pool(folder, 1)
    for _ in range(2):
        told = pool.call("tidies", travelling(), 5)
        assert told.problem == ""
        assert [one["message"] for one in told.asked["sends"]] == ["received"]
    pool.end()


def test_the_network_is_kept_from_them_where_that_is_chosen(folder, monkeypatch):
    write(
        folder,
        """
    import socket
    from angelon.handlers import on

    @on("order.created")
    def asks(event, outbox):
        with socket.create_server(("127.0.0.1", 0)) as server:
            socket.create_connection(server.getsockname(), 1).close()
        print("answered")
    """,
    )
    for chosen, answered in (("yes", True), ("no", False)):
        monkeypatch.setenv("ANGELON_HANDLER_NETWORK", chosen)
        pool = Pool(folder, 1)
        loaded = pool.loaded()
        if loaded.problems:
            assert "this system can't keep the network" in loaded.problems[0]["problem"]
        else:
            assert ("answered" in pool.call("asks", travelling(), 5).output) is answered
        pool.end()


def test_a_changed_file_is_loaded_and_a_broken_one_leaves_the_last_good_at_work(bench, running, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    runner = running()
    event = {"id": "e", "type": "order.created", "name": "", "source": "shop", "was": "", "now": "", "payload": {}}
    event |= {"received_at": "2026-11-26T10:00:00+00:00", "parts": {"total": {"$money": ["120", "EUR"]}}}
    event |= {"person": {}, "values": {}}
    assert [send.line for send in runner.handlers.call("thanks", event)[0].sends] == [10]
    write(folder, "import nothing_of_that_name", "other.py")
    assert runner.look()
    with bench.database.reading() as session:
        kept = stored.folder(session)
        assert "nothing_of_that_name" in kept.problems[0]["problem"]
        assert [one["name"] for one in kept.handlers] == ["thanks"]
    assert not runner.handlers.call("thanks", event)[0].problem
    (folder / "other.py").unlink()
    write(folder, GOOD.replace('"received"', '"other"'))
    assert runner.look()
    assert [send.message for send in runner.handlers.call("thanks", event)[0].sends] == ["other"]


def test_processes_that_start_after_a_file_broke_still_have_the_last_good(bench, running, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    runner = running()
    event = {"id": "e", "type": "order.created", "name": "", "source": "shop", "was": "", "now": "", "payload": {}}
    event |= {"received_at": "2026-11-26T10:00:00+00:00", "parts": {"total": {"$money": ["120", "EUR"]}}}
    event |= {"person": {}, "values": {}}
    write(folder, "def broken(:")  # the very file
    assert runner.look()
    for _ in range(4):  # each of the pool's processes, and those that take their place
        asked, _ = runner.handlers.call("thanks", event)
        assert [send.line for send in asked.sends] == [10], asked.problem
        for process in list(runner.handlers._pool._of("thanks").queue):
            if process is not None:
                process.end()
    with bench.database.reading() as session:
        assert "SyntaxError" in stored.folder(session).problems[0]["problem"]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('from angelon.handlers import on\n@on("order..x")\ndef f(e, o): ...', "f can’t be registered"),
        ("import time; time.sleep(60)", "While it was loaded: It took longer than"),
        ("", "no handler in the folder"),
    ],
)
def test_what_can_t_be_registered_is_told(bench, folder, monkeypatch, text, said):
    monkeypatch.setattr("angelon.engine.handlers.pool.LOADING", 1)
    if text:
        write(folder, text)
    runner = HandlerRunner(bench.database, bench.clock, folder)
    assert runner.look()
    with bench.database.reading() as session:
        assert said in stored.folder(session).problems[0]["problem"]
    runner.handlers.end()


def test_a_folder_that_holds_more_than_handlers_is_told_and_not_copied(bench, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.snapshot.MOST_FILES", 3)
    for number in range(5):
        write(folder, "x = 1", f"f{number}.py")
    runner = HandlerRunner(bench.database, bench.clock, folder)
    assert runner.look()
    assert "in a folder of their own" in runner.handlers.seen["problems"][0]["problem"]
    (folder / ".venv").mkdir()
    for number in range(2, 5):
        (folder / f"f{number}.py").rename(folder / ".venv" / f"f{number}.py")
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    assert runner.look()
    assert runner.handlers.seen["problems"] == []
    runner.handlers.end()


def test_an_event_that_a_handler_failed_for_is_planned_again_once_it_is_mended(bench, running, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    off(bench)
    runner = running(GOOD.replace("outbox.derive", "nothing.derive"))
    bench.deliver(made.body())
    for _ in range(6):
        at = bench.clock.now() + dt.timedelta(minutes=2)
        bench.clock.now = lambda at=at: at
        ask(bench, runner)
    bench.plan()
    ((event_id, problem),) = bench.rows("SELECT id, problem FROM event WHERE parent_id IS NULL")
    assert "NameError" in problem
    write(folder, GOOD)
    runner.look()
    with unit(bench.services.installation, bench.store_id) as work:
        assert event_operations.plan_again(work, event_id)
    ask(bench, runner)
    assert bench.plan() == 1
    assert bench.rows("SELECT problem FROM event WHERE parent_id IS NULL") == [("",)]


def test_an_unknown_message_variable_or_gateway_is_held_with_the_reason(bench, running):
    off(bench)
    runner = running(
        """
    from angelon.handlers import on

    @on("order.created")
    def wrong(event, outbox):
        outbox.send("nothing-of-that-key", to="one@example.com")
        outbox.send("received", to="two@example.com", values={"unheard_of": 1})
        outbox.send("received", to="three@example.com", gateway="elsewhere")
        outbox.send("received", to="role:nobody")
    """
    )
    bench.deliver(made.body())
    ask(bench, runner)
    bench.plan()
    reasons = dict(bench.rows("SELECT recipient, reason FROM send WHERE state = 'held'"))
    assert "is not published" in reasons["one@example.com"]
    assert "“unheard_of”" in reasons["two@example.com"]
    assert "“elsewhere”" in reasons["three@example.com"]
    assert reasons[""] == "Nobody of the shop has the role “nobody”."


def test_a_pool_goes_on_after_each_process_that_ends(folder):
    write(
        folder,
        'from angelon.handlers import on\n@on("order.created")\ndef f(event, outbox):\n    import os; os._exit(1)',
    )
    pool = Pool(folder, 1)
    event = travelling()
    try:
        for _ in range(3):
            assert "exit code 1" in pool.call("f", event, 2).problem
    finally:
        pool.end()
    assert Asked.model_validate({"problem": "x"}).problem == "x"


def test_an_event_that_no_handler_was_asked_about_says_so_and_is_asked_about_once_more(bench, running):
    off(bench)
    runner = running()
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:  # as where asking itself has failed
        connection.exec_driver_sql("DELETE FROM inquiry")
        connection.exec_driver_sql("UPDATE event SET decide_at = 1")
    assert bench.plan() == 0
    ((event_id, problem),) = bench.rows("SELECT id, problem FROM event WHERE parent_id IS NULL")
    assert "has not run for this event" in problem
    with unit(bench.services.installation, bench.store_id) as work:
        assert event_operations.plan_again(work, event_id)
    ask(bench, runner)
    assert bench.plan() == 1


def test_without_a_folder_an_event_that_waits_for_a_handler_is_given_up_with_the_reason(bench, running):
    off(bench)
    running()
    bench.deliver(made.body())
    without = HandlerRunner(bench.database, bench.clock, None)
    for _ in range(6):
        ask(bench, without)
        at = bench.clock.now() + dt.timedelta(minutes=2)
        bench.clock.now = lambda at=at: at
    bench.plan()
    assert "ANGELON_HANDLERS names it" in bench.rows("SELECT problem FROM event")[0][0]


TAGS = """
    from angelon.handlers import Event, Outbox, on

    @on("order.created")
    def marks(event: Event, outbox: Outbox) -> None:
        print("tags", *event.person.tags)
        outbox.tag("collects")
        outbox.tag("new", on=False)
        outbox.skip("only marks")
"""


def test_a_tag_that_a_handler_sets_is_the_customer_s_and_a_condition_sees_it(bench, running):
    """For what is decided after it was set: nothing but the handler's own decision waits for the handler."""
    runner = running(TAGS)
    only = {"of": [{"kind": "compare", "of": "contact.tags", "which": "any", "op": "is", "value": "collects"}]}
    with unit(bench.services.installation, bench.store_id) as work:
        route_operations.change_draft(work, "received", {"only_if": only})
        route_operations.publish_and_switch_on(work, "received")
    for number in (1, 2):
        body = made.body(id=number, reference=f"BK-{number}")
        bench.deliver(body, store_delivery=f"d-{number}")
    ask(bench, runner)
    assert bench.plan() == 0
    assert bench.rows("SELECT tag, set_by FROM contact_tag") == [("collects", "marks")]
    bench.deliver(made.body(id=3, reference="BK-3"), store_delivery="d-3")
    assert bench.plan() == 1
    orders = bench.rows('SELECT number FROM send JOIN "order" o ON o.id = order_id')
    assert orders == [("BK-3",)]
    ask(bench, runner)
    assert bench.rows("SELECT output FROM inquiry ORDER BY at DESC LIMIT 1") == [("tags collects\n",)]


def test_a_call_that_a_handler_asks_for_is_planned_as_a_route_s(bench, running):
    from angelon.core.specs import Gateway, Message
    from angelon.db.setup import specs
    from angelon.db.tables import GatewayRow, MessageRow

    call = {"url": "https://shop.example/api"}
    bench.change(Gateway(key="shop-api", name="Shop API", kind="call", call=call), GatewayRow)
    text = {"path": "/orders/{{ order.number }}", "body": "{}"}
    with bench.database.writing() as session:
        row = specs.save_draft(
            session,
            MessageRow,
            bench.store_id,
            Message.model_validate({"key": "mark", "name": "Mark", "call": {"en": text}}),
            bench.clock.now(),
        )
        specs.publish(session, row, bench.clock.now())
        specs.touch(session, bench.store_id)
    bench.services.setups.forget()
    off(bench)
    runner = running(
        """
        from angelon.handlers import Event, Outbox, hours, on

        @on("order.created")
        def marks(event: Event, outbox: Outbox) -> None:
            outbox.call("mark", after=hours(1))
        """
    )
    bench.deliver(made.body())
    ask(bench, runner)
    assert bench.plan() == 1
    assert bench.rows("SELECT channel, state, recipient, whom FROM send") == [
        ("call", "scheduled", "shop.example", "system")
    ]
    assert "handler" in str(bench.rows("SELECT trace FROM send"))


def test_a_check_and_a_rehearsal_of_many_ask_the_code_as_it_is_now(bench, running, folder):
    """What it said then about an event counts only as long as it is the same code."""
    from angelon.engine.handlers.asking import AskNow
    from angelon.engine.operations import checks
    from angelon.engine.past.rehearsals import Span, rehearse
    from angelon.engine.setups import Setups

    off(bench)
    runner = running()
    bench.deliver(made.body(), store_delivery="d-1")
    ask(bench, runner)
    bench.plan()
    asking = AskNow(runner.handlers)
    setups = Setups(bench.database, asks=asking)
    installation = dataclasses.replace(bench.services.installation, setups=setups)
    ((event,),) = bench.rows("SELECT id FROM event WHERE parent_id IS NULL")

    def rehearsed():
        live = setups.get(bench.store_id)
        with bench.database.reading() as session:
            routes = {"now": live.routes["handler-thanks"]}
            ((_, _, came),) = list(rehearse(session.connection(), live, routes, Span(), bench.clock.now()))
        return [send.message for send in came[0].decisions["now"].sends]

    with unit(installation, bench.store_id) as work:
        key = checks.keep(work, "handler-thanks", event)
    with unit(installation, bench.store_id) as work:
        assert checks.run_one(work, key)[1].passed
    assert rehearsed() == ["received"]
    write(folder, GOOD.replace("< 100", "< 1000"))
    runner.handlers._looked = float("-inf")
    with unit(installation, bench.store_id) as work:
        outcome = checks.run_one(work, key)[1]
    assert outcome.differences[0] == "- outcome: send"
    assert rehearsed() == []


def test_an_event_is_read_once_for_the_handler_and_what_is_planned_after_it(bench, running, monkeypatch):
    """Within a process; under a changed set-up it is read anew, and what was erased meanwhile is not used."""
    off(bench)
    runner, readings, made_ = running(), Readings(), []
    planner = Planner(bench.database, bench.services.setups, bench.clock, readings=readings)
    inquirer = Inquirer(bench.database, bench.services.setups, bench.clock, "t", runner, readings=readings)
    real = batch.work_out
    for module in (batch, functions):
        monkeypatch.setattr(module, "work_out", lambda *given: made_.append(given) or real(*given))

    def plan():
        while planner.run_batch()[0]:
            pass

    bench.deliver(made.body())
    plan()
    of_created = "SELECT subject FROM send WHERE state = 'scheduled'"
    assert inquirer.run_due() == 1
    plan()
    assert len(made_) == 1, "what the handler derives is listened to by nobody, and not read"
    assert len(bench.rows(of_created)) == 1

    bench.deliver(made.body(id=2), store_delivery="d-2")
    plan()
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"name": "Another"})
    bench.services.setups.forget()
    before = len(made_)
    assert inquirer.run_due() == 1
    plan()
    assert len(made_) > before + 1, "the set-up is another"
    assert len(bench.rows(of_created)) == 2

    bench.deliver(made.body(id=3, buyer={"name": "Al", "email": "al@example.org"}), store_delivery="d-3")
    plan()
    with unit(bench.services.installation, bench.store_id) as work:
        ((contact,),) = bench.rows("SELECT id FROM contact WHERE email = 'al@example.org'")
        people.erase(work, contact, "al@example.org")
    assert inquirer.run_due() == 0
    plan()
    assert len(bench.rows(of_created)) == 2, "nothing is sent to somebody who was erased"
