"""Each trouble is caused, told once to the right person, and told as over; what is in trouble is not needed for it."""

import datetime as dt
import email
import http.server
import json
import threading
from typing import ClassVar

import pytest

from angelon.core.breaker import Health
from angelon.core.problems import Invalid
from angelon.core.specs import Gateway, Source
from angelon.db.derived import status_words
from angelon.db.log import inquiries
from angelon.db.tables import AttemptRow, GatewayRow, GatewayUseRow, HeartbeatRow, SourceRow
from angelon.db.upkeep import gateway_health, nights
from angelon.engine.followers import alerts
from angelon.engine.followers.alerts import Alarm
from angelon.engine.followers.housekeeping import Housekeeper
from angelon.engine.operations import accounts
from angelon.engine.operations import store as store_operations
from angelon.engine.unit import unit
from angelon.standins.providers import Providers
from tests import made
from tests.web.test_access import account


@pytest.fixture
def watched(bench, mailbox):
    """A shop whose owner is told; a worker gives signs of life."""
    account(bench)
    account(bench, "viewer", "w@example.com", "W")
    setting(bench, on=True)
    alive(bench)
    return Alarm(bench.services.installation, bench.home)


def setting(bench, **changes):
    with unit(bench.services.installation, bench.store_id) as work:
        before = work.live.setup.store.alerts.model_dump(mode="json")
        store_operations.change(work, {"alerts": before | changes})
    bench.services.setups.forget()


def alive(bench, at=None):
    with bench.database.writing() as session:
        session.merge(HeartbeatRow(worker="a", at=at or bench.clock.now() + dt.timedelta(days=1), role="plan send"))


def later(bench, seconds):
    then = bench.clock.now() + dt.timedelta(seconds=seconds)
    bench.clock.now = lambda: then


def minutes(bench, alarm, number, each=15):
    """Looks for so many minutes; says how often somebody was told."""
    told = 0
    for _ in range(int(number * 60 / each)):
        later(bench, each + 1)
        told += alarm.look()
    return told


def mails(bench):
    return [email.message_from_bytes(row.raw, policy=email.policy.default) for row in bench.box.mails()]


def unreachable(bench, key="mailroom", since=True):
    id_ = bench.services.setups.get(bench.store_id).gateway_ids[key]
    now = bench.clock.now()
    with bench.database.connection() as connection:
        gateway_health.save(connection, {id_: Health(5, now if since else None, now, "no answer")})


def test_a_worker_that_is_missing_is_told_once_within_a_minute_and_told_as_over(bench, watched):
    assert minutes(bench, watched, 2) == 0
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    assert minutes(bench, watched, 1) == 1
    (mail,) = mails(bench)
    assert mail["To"] == "nuala@example.com", "who may only look is not told"
    assert mail["Subject"] == "Kites: No worker process runs"
    assert "No running worker processes events or delivers sends." in mail.get_body(("plain",)).get_content()
    assert minutes(bench, watched, 10) == 0, "it is told once"
    alive(bench)
    assert minutes(bench, watched, 3) == 1
    assert (
        mails(bench)[0 if "Over" in mails(bench)[0]["Subject"] else 1]["Subject"]
        == "Kites: Over: No worker process runs"
    )
    assert bench.rows("SELECT count(*) FROM alert WHERE over_told_at IS NULL") == [(0,)]


def test_where_the_gateway_is_the_trouble_another_tells(bench, watched):
    with bench.database.writing() as session:
        port = session.query(GatewayRow).filter(GatewayRow.key == "mailroom").one().spec["port"]
    second = Gateway.model_validate(made.gateway(port).model_dump() | {"key": "second", "name": "The second"})
    bench.change(second, GatewayRow)
    dead = made.gateway(9).model_copy(update={"timeout_seconds": 2})
    bench.change(dead, GatewayRow)
    bench.services.setups.forget()
    unreachable(bench)
    assert minutes(bench, watched, 1) == 1
    assert len(mails(bench)) == 1
    assert bench.rows("SELECT how, subject FROM alert") == [("by The second", "mailroom")]


def test_what_nobody_took_is_told_as_soon_as_somebody_does(bench, watched):
    (port,) = {row.spec["port"] for row in rows(bench)}
    bench.change(made.gateway(9).model_copy(update={"timeout_seconds": 2}), GatewayRow)
    bench.services.setups.forget()
    unreachable(bench)
    assert minutes(bench, watched, 1) == 0
    assert bench.rows("SELECT told_at, how FROM alert") == [(None, "no gateway took it; it is tried again")]
    bench.change(made.gateway(port), GatewayRow)
    bench.services.setups.forget()
    assert minutes(bench, watched, 1) == 1


def rows(bench):
    with bench.database.reading() as session:
        return session.query(GatewayRow).all()


def test_a_backlog_a_held_send_and_an_event_that_failed_are_told(bench, watched):
    bench.deliver(made.body())
    later(bench, 600)
    alive(bench)
    assert minutes(bench, watched, 1) == 1
    assert "1 event waits to be processed" in mails(bench)[0].get_body(("plain",)).get_content()
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'held', reason = 'The total of jo@example.org is missing.'")
        connection.exec_driver_sql("UPDATE event SET problem = 'It broke.'")
    setting(bench, gather_minutes=0)
    minutes(bench, watched, 1)
    told = "".join(mail.get_body(("plain",)).get_content() for mail in mails(bench))
    assert "1 send is held: The total of … is missing." in told
    assert "1 event was not processed in the last day." in told


def test_a_full_disk_and_a_certificate_are_told(bench, watched, monkeypatch):
    class Usage:
        total, free = 100e9, 1e9

    monkeypatch.setattr(alerts.shutil, "disk_usage", lambda _: Usage)
    watched._next_certificates = float("inf")
    watched._certificates = {"mail.shop.example": 3, "good.example": 80}
    assert minutes(bench, watched, 1) >= 1
    minutes(bench, watched, 1)
    told = "".join(mail.get_body(("plain",)).get_content() for mail in mails(bench))
    assert "1.0 GB of 100 GB are free" in told
    assert "The certificate of mail.shop.example runs out in 3 days." in told
    assert "good.example" not in told


def test_several_processes_look_and_one_tells(bench, watched):
    others = [watched, *(Alarm(bench.services.installation, bench.home) for _ in range(3))]
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    for _ in range(8):
        later(bench, 16)
        threads = [threading.Thread(target=one.look) for one in others]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(30)
    assert len(mails(bench)) == 1


def test_switched_off_nothing_is_looked_at_or_written(bench, watched):
    setting(bench, on=False)
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    before = bench.rows("SELECT count(*) FROM allowance")
    assert minutes(bench, watched, 2) == 0
    assert mails(bench) == []
    assert bench.rows("SELECT count(*) FROM allowance") == before


def test_the_heartbeat_asks_for_an_address_every_minute(bench, watched):
    asked = []

    class Listening(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            asked.append(self.path)
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_):
            pass

    with http.server.HTTPServer(("127.0.0.1", 0), Listening) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        with unit(bench.services.installation, bench.store_id) as work:
            store_operations.change(work, {"private_hosts": ["127.0.0.1"]})
        setting(bench, heartbeat=f"http://127.0.0.1:{server.server_port}/ping")
        minutes(bench, watched, 4)
        server.shutdown()
    assert 3 <= len(asked) <= 5
    setting(bench, heartbeat="http://127.0.0.1:9/ping")
    assert minutes(bench, watched, 2) == 0, "one that does not answer harms nothing"


def test_it_goes_on_whatever_the_database_does(bench, watched, monkeypatch):
    stop = threading.Event()
    monkeypatch.setattr(alerts, "EVERY", 0.03)
    seen = []

    def broken():
        seen.append(1)
        if len(seen) > 3:
            stop.set()
        raise OSError("the disk is full")

    monkeypatch.setattr(watched, "look", broken)
    watched.run(stop)
    assert len(seen) > 3


def test_accounts_that_may_not_sign_in_are_not_told(bench, watched):
    tomas = account(bench, "developer", "tomas@example.com", "Tomas")
    live = bench.services.setups.get(bench.store_id)
    assert watched.recipients(live) == ["nuala@example.com", "tomas@example.com"]
    accounts.let_in(bench.services.installation, tomas, False, "Nuala")
    setting(bench, emails=["night@example.org", "nuala@example.com"])
    assert watched.recipients(bench.services.setups.get(bench.store_id)) == ["nuala@example.com", "night@example.org"]


def test_what_is_long_over_goes(bench, watched):
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    assert minutes(bench, watched, 1) == 1
    alive(bench)
    assert minutes(bench, watched, 3) == 1
    for days, left in ((80, 1), (20, 0)):
        later(bench, days * 86_400)
        Housekeeper(bench.database, bench.services.setups, bench.clock).look()
        assert bench.rows("SELECT count(*) FROM alert") == [(left,)]


ORIGIN = "https://erp.example:443"
LOOK_UP = {"name": "loyalty", "url": "https://erp.example/customers/{id}", "parameters": {"id": "$.id"}}


def refuses(bench, session, ids):
    (send,) = bench.rows("SELECT id FROM send")
    now = bench.clock.now() + dt.timedelta(seconds=1)
    for number in range(12):
        outcome = "permanent" if number else "accepted"
        session.add(AttemptRow(send_id=send.id, number=number + 1, began_at=now, ended_at=now, outcome=outcome))


def short(bench, session, ids):
    session.merge(GatewayUseRow(gateway_id=ids["mailroom"], balance=0))


def silent(bench, session, ids):
    session.merge(
        HeartbeatRow(
            worker="b", at=bench.clock.now() + dt.timedelta(days=1), role="plan send", trouble="The port is taken."
        )
    )


def hanging(bench, session, ids):
    now = bench.clock.now()
    inquiries.save_health(session.connection(), {ORIGIN: Health(5, now, now, "no answer in 5 s")})


def not_written(bench, session, ids, name=nights.EXPORT):
    connection, now = session.connection(), bench.clock.now()
    nights.take(connection, name, str(now.date()), now, now)
    nights.failed(connection, name, now, "No space left")


def not_archived(bench, session, ids):
    not_written(bench, session, ids, nights.ARCHIVE)


CAUSED = {
    "export_failing": (not_written, "The nightly export failed: No space left."),
    "archive_failing": (not_archived, "The archive can’t be written to: No space left."),
    "gateway_refuses": (refuses, "Mailroom has refused 11 of the last 12 messages for good."),
    "credit": (short, "Mailroom has 0.00 EUR of credit left."),
    "returns_silent": (silent, "The port is taken."),
    "handler_failing": (hanging, "The look-up “loyalty” (erp.example) does not answer: no answer in 5 s."),
}


@pytest.mark.parametrize("kind", CAUSED)
def test_each_trouble_that_is_caused_is_told_once(bench, watched, kind):
    cause, said = CAUSED[kind]
    setting(bench, gather_minutes=0)
    source = Source.model_validate(made.source().model_dump(mode="json") | {"enrichments": [LOOK_UP]})
    if kind == "handler_failing":
        bench.change(source, SourceRow)
    bench.services.setups.forget()
    ids = bench.services.setups.get(bench.store_id).gateway_ids
    bench.deliver(made.body())
    bench.plan()
    with bench.database.writing() as session:
        cause(bench, session, ids)
    minutes(bench, watched, 3)
    told = [mail.get_body(("plain",)).get_content() for mail in mails(bench)]
    assert sum(said in text for text in told) == 1, told
    assert bench.rows("SELECT count(*) FROM alert WHERE kind = ?", kind) == [(1,)]


def test_while_one_process_tells_by_a_slow_server_no_other_tells_the_same(bench, watched, monkeypatch):
    other, slow, go_on = Alarm(bench.services.installation, bench.home), threading.Event(), threading.Event()
    real = Alarm.write_to

    def waits(alarm, *given):
        slow.set()
        assert go_on.wait(30)
        return real(alarm, *given)

    monkeypatch.setattr(watched, "write_to", waits.__get__(watched))
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    looking = threading.Thread(target=minutes, args=(bench, watched, 1))
    looking.start()
    assert slow.wait(30)
    assert minutes(bench, other, 2) == 0
    go_on.set()
    looking.join(60)
    assert len(mails(bench)) == 1


def test_nothing_goes_out_in_the_name_of_an_address_that_was_not_verified(bench, watched):
    (row,) = rows(bench)
    sender = {**row.spec["sender"], "verified": False}
    bench.change(made.gateway(row.spec["port"], sender=sender), GatewayRow)
    bench.services.setups.forget()
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    assert minutes(bench, watched, 1) == 0
    assert mails(bench) == []


class System(http.server.BaseHTTPRequestHandler):
    taken: ClassVar[list] = []

    def do_POST(self):
        self.taken.append((self.headers, json.loads(self.rfile.read(int(self.headers["Content-Length"])))))
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_): ...


@pytest.fixture
def system(bench):
    """A system that takes events; the shop knows it as a gateway."""
    System.taken = []
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), System)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with unit(bench.services.installation, bench.store_id) as work:
        store_operations.change(work, {"private_hosts": ["127.0.0.1"]})
    call = {"url": f"http://127.0.0.1:{server.server_port}/alerts"}
    bench.change(Gateway(key="ops", name="Operations", kind="call", call=call), GatewayRow)
    bench.services.setups.forget()
    yield System.taken
    server.shutdown()


def test_urgent_problems_go_to_phones_by_sms_and_the_others_do_not(bench, watched):
    server = Providers(bench.box)
    server.start()
    bench.change(Gateway.model_validate(made.provider("sms", server.port)), GatewayRow)
    with bench.database.writing() as session:
        id_ = session.query(GatewayRow).filter(GatewayRow.key == "sms").one().id
        bench.vault.put(session, "gateway", id_, "token", bench.clock.now())
    setting(bench, phones=["+49 30 1234567"], gather_minutes=0)
    held(bench)
    minutes(bench, watched, 2)
    assert bench.box.texts() == []
    assert len(mails(bench)) == 1
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    minutes(bench, watched, 1)
    alive(bench)
    minutes(bench, watched, 3)
    texts = [(one.to, one.text) for one in reversed(bench.box.texts())]
    said = "No running worker processes events or delivers sends. Start “angelon serve” or “angelon worker”."
    assert texts == [("+49301234567", f"Kites: {said}"), ("+49301234567", f"Kites: Over: {said}")]
    server.stop()


def held(bench):
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:
        connection.exec_driver_sql("UPDATE send SET state = 'held', reason = 'It has no address.'")


def test_a_system_gets_each_problem_as_an_event_when_it_begins_and_when_it_is_over(bench, watched, system):
    setting(bench, calls=["ops"], roles=[], emails=[])
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    minutes(bench, watched, 1)
    alive(bench)
    minutes(bench, watched, 3)
    assert mails(bench) == []
    (first, begun), (second, over) = system
    assert first["Content-Type"] == "application/cloudevents+json"
    assert begun["type"] == over["type"] == "angelon.worker_missing"
    assert (begun["data"]["state"], over["data"]["state"]) == ("begun", "over")
    assert first["Idempotency-Key"] == begun["id"] != over["id"] == second["Idempotency-Key"]
    assert begun["data"]["urgent"] is True
    assert "No running worker" in begun["data"]["what"]


def test_what_a_shop_is_told_of_itself_can_be_an_event_of_a_source(bench, watched, system):
    """The event goes in by the same door as a store's: a route can send it on, with conditions and texts."""
    setting(bench, calls=["ops"])
    alive(bench, bench.clock.now() - dt.timedelta(minutes=2))
    minutes(bench, watched, 1)
    (_, event) = system[0]
    itself = made.source(key="itself", name="Itself", event_name={"path": "$.type"}, delivery_id={"path": "$.id"})
    bench.change(itself, SourceRow)
    bench.services.setups.forget()
    for status in (202, 200):
        taken = bench.deliver(json.dumps(event).encode(), "itself", content_type="application/cloudevents+json")
        assert taken.status == status, "the same twice is one"
    assert bench.rows("SELECT name FROM event") == [("angelon.worker_missing",)]


def test_a_status_that_was_never_seen_is_told_once_and_is_over_once_it_is_mapped(bench, watched):
    setting(bench, gather_minutes=0)

    def changes(number, state):
        body = made.body(id=number, reference=f"BK-{number}", state=state)
        bench.deliver(body, store_event="changed", store_delivery=f"{number}-{state}")
        bench.plan()

    changes(1, "odd")
    minutes(bench, watched, 2)
    assert bench.rows("SELECT count(*) FROM alert") == [(0,)], "all is new at first"
    later(bench, 2 * 86_400)
    alive(bench)
    changes(2, "odd")
    changes(3, "ready-for-pickup")
    changes(4, "ready-for-pickup")
    minutes(bench, watched, 2)
    (mail,) = [mail.get_body(("plain",)).get_content() for mail in mails(bench)]
    assert "Shop has orders with the status “ready-for-pickup”, which is not mapped to an event" in mail
    bench.change(made.source(statuses={**made.source().statuses, "ready-for-pickup": "order.packed"}), SourceRow)
    bench.services.setups.forget()
    minutes(bench, watched, 3)
    assert bench.rows("SELECT subject, over_at IS NULL FROM alert") == [("shop:status:ready-for-pickup", 0)]


def test_a_status_that_is_another_for_each_order_fills_nothing(bench, monkeypatch):
    monkeypatch.setattr(status_words, "MOST", 5)
    for number in range(12):
        bench.deliver(
            made.body(id=number, reference=f"BK-{number}", state=f"state {number}"),
            store_event="changed",
            store_delivery=str(number),
        )
        bench.plan()
    assert bench.rows("SELECT count(*) FROM status_word") == [(5,)]


@pytest.mark.parametrize("phone", ["030 1234567", "+49 1"])
def test_a_phone_that_is_none_is_refused_in_words(bench, watched, phone):
    with pytest.raises(Invalid, match="international form"):
        setting(bench, phones=[phone])
