"""Intake: nothing acknowledged before it is on disk, nothing twice, every refusal kept with its reason."""

import json
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from angelon.db.setup import specs
from angelon.db.tables import SourceRow
from tests import made


def events(bench):
    return bench.rows("SELECT id, type, name, delivery_key FROM event WHERE parent_id IS NULL ORDER BY received_at")


def test_a_delivery_is_stored_and_then_acknowledged(bench):
    answer = bench.deliver(made.body(), store_delivery="d1")
    assert answer.status == 202
    assert events(bench) == [(answer.body["event"], "order.created", "placed", "d:d1")]


def test_the_same_delivery_again_is_answered_200_with_the_first_id(bench):
    first = bench.deliver(made.body(), store_delivery="d1")
    again = bench.deliver(made.body(state="packed"), store_delivery="d1")
    assert (again.status, again.body) == (200, first.body)
    assert len(events(bench)) == 1


def test_without_an_id_the_same_body_counts_once_within_its_window(bench):
    first = bench.deliver(made.body())
    assert bench.deliver(made.body()).body == first.body
    assert bench.deliver(made.body(id=2)).status == 202
    bench.change(made.source(same_body_minutes=0), SourceRow)
    time.sleep(0.01)
    assert bench.deliver(made.body()).status == 202
    assert len(events(bench)) == 3


def test_what_is_kept_of_a_delivery_stands_there_once(bench):
    """Its kind beside the headers, its hash only where it is known by that, its event under its own letters."""
    bench.deliver(made.body(), store_delivery="d1")
    bench.deliver(made.body(id=2))
    rows = bench.rows(
        "SELECT d.id, e.id, d.content_type, d.headers, d.body_hash FROM delivery d JOIN event e ON e.delivery_id = d.id"
    )
    assert all(event == "ev" + delivery[2:] for delivery, event, *_ in rows)
    assert [(kind, "content-type" in headers, len(known)) for *_, kind, headers, known in sorted(rows)] == [
        ("application/json", False, 0),
        ("application/json", False, 40),
    ]


def at_once(times, run):
    """What `run` gives when it is called from many threads at the same time."""
    with ThreadPoolExecutor(times) as pool:
        return [f.result() for f in [pool.submit(run) for _ in range(times)]]


def test_twenty_at_once_are_one_event(bench):
    for before, (body, headers) in enumerate([(made.body(), {"store_delivery": "d1"}), (made.body(id=2), {})]):
        answers = at_once(20, lambda body=body, headers=headers: bench.deliver(body, **headers))
        assert len({a.body["event"] for a in answers}) == 1
        assert {a.status for a in answers} <= {200, 202}
        assert len(events(bench)) == before + 1


def test_concurrent_deliveries_share_commits(bench):
    threads = [
        threading.Thread(target=lambda n=n: [bench.deliver(made.body(id=1000 * n + k)) for k in range(10)])
        for n in range(16)
    ]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert len(events(bench)) == 160
    assert bench.services.writer.commits < 160


@pytest.mark.parametrize(
    ("changes", "status", "said"),
    [
        ({"body": b"{"}, 400, "not JSON"),
        ({"body": b"[" * 100 + b"]" * 100}, 400, "levels deep"),
        ({"body": json.dumps({str(n): n for n in range(50_000)}).encode()}, 400, "fields"),
        ({"body": b'{"a": "' + b"x" * 1_100_000 + b'"}'}, 413, "1,048,576 are allowed"),
        ({"content_type": "text/xml"}, 415, "not a type"),
        ({"key": "nobody"}, 404, "no source at /in/nobody"),
        ({"method": "PUT"}, 405, "PUT is not taken"),
    ],
)
def test_what_can_t_be_taken_is_refused_with_a_reason(bench, changes, status, said):
    raw = changes.get("body", made.body())
    headers = {"content-type": changes.get("content_type", "application/json"), "authorization": "Bearer very-secret"}
    answer = bench.services.intake.receive(
        changes.get("key", "shop"), changes.get("method", "POST"), headers, raw, len(raw), {}, "127.0.0.1"
    )
    assert answer.status == status
    assert answer.body["status"] == status
    assert said in answer.body["detail"]
    assert answer.body["hint"]
    assert events(bench) == []
    if status in (400, 413, 415):
        bench.services.writer.close()
        (kept,) = bench.rows("SELECT status, reason, headers, body_bytes FROM refused")
        assert kept[0] == status
        assert said in kept[1]
        assert "very-secret" not in kept[2]
        assert kept[3] == len(raw)


def test_a_signed_source_refuses_what_is_not_signed_and_takes_what_is(bench):
    from angelon.core.signatures import sign
    from angelon.db.setup import specs

    source = made.source(signing={"header": "X-Sig", "timestamp_header": "X-Time"})
    bench.change(source, SourceRow)
    now = bench.clock.now()
    with bench.database.writing() as session:
        bench.vault.put(session, "source", 1, "a-signing-secret", now)
        specs.touch(session, bench.store_id)
    bench.services.setups.forget()
    good = {
        k.lower().replace("-", "_"): v
        for k, v in sign(source.signing, "a-signing-secret", made.body(), "", now).items()
    }
    import datetime as dt

    stale = {
        k.lower().replace("-", "_"): v
        for k, v in sign(source.signing, "a-signing-secret", made.body(), "", now - dt.timedelta(hours=1)).items()
    }
    assert bench.deliver(made.body(), **good).status == 202
    assert (
        bench.deliver(made.body()).status,
        bench.deliver(made.body(id=2), **good).status,
        bench.deliver(made.body(), **stale).status,
    ) == (401, 401, 401)


def test_refused_deliveries_are_bounded(bench):
    for number in range(130):
        bench.deliver(b"{%d" % number)
        time.sleep(0.001)
    bench.services.writer.close()
    assert bench.rows("SELECT count(*) FROM refused")[0][0] <= 100


def test_a_source_that_is_off_or_keeps_a_list_of_addresses(bench):
    bench.change(made.source(on=False), SourceRow)
    assert bench.deliver(made.body()).status == 404
    bench.change(made.source(allow_from=["192.0.2.0/24"]), SourceRow)
    assert bench.deliver(made.body()).status == 403
    bench.change(made.source(allow_from=["127.0.0.0/8"]), SourceRow)
    assert bench.deliver(made.body()).status == 202


def test_a_challenge_is_echoed(bench):
    bench.change(made.source(challenge={"method": "GET", "parameter": "hub.challenge"}), SourceRow)
    answer = bench.services.intake.receive("shop", "GET", {}, b"", 0, {"hub.challenge": "abc123"}, "127.0.0.1")
    assert (answer.status, answer.text) == (200, "abc123")
    assert bench.services.intake.receive("shop", "GET", {}, b"", 0, {}, "127.0.0.1").status == 405
    bench.change(made.source(challenge={"method": "POST", "parameter": "challenge"}), SourceRow)
    assert bench.deliver(b'{"challenge": "xyz"}').text == "xyz"
    assert bench.deliver(made.body()).status == 202


def test_a_source_that_was_made_elsewhere_a_moment_ago_takes_its_first_delivery(bench):
    assert bench.deliver(made.body(), key="annex").status == 404
    time.sleep(0.01)
    assert bench.deliver(made.body()).status == 202, "the set-up was looked at just now"
    with bench.database.writing() as session:
        specs.save_live(session, SourceRow, bench.store_id, made.source(key="annex"), bench.clock.now())
    assert bench.deliver(made.body(id=2), key="annex").status == 202
