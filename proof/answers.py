"""`kill -9` of web, planner and sender while customers answer questions, twice and at once, and others say nothing:
each question has one outcome, and each outcome its consequence once.
"""

from __future__ import annotations

import datetime as dt
import itertools
import random
import tempfile
import threading
import time
from pathlib import Path

import httpx

from angelon.core.specs import Message
from angelon.db.access.secrets import Vault
from angelon.db.log import questions
from angelon.db.setup import live_setup, specs
from angelon.db.tables import MessageRow, RouteRow
from angelon.engine.clock import utc_now
from angelon.engine.feedback.preferences import Links
from proof.places import KEY, Place, place, until
from tests import made

SAME = {"Sec-Fetch-Site": "same-origin"}
ENDS = ("answer.received", "question.expired", "question.not_asked")


def _ask(here: Place) -> None:
    """Each order is asked by email, and each outcome sends one more."""
    now = utc_now() - dt.timedelta(days=1)
    words = {"email": {"en": {"subject": "About your order", "blocks": [{"kind": "text", "text": "Hello"}]}}}
    question = {
        "title": {"en": "Shall we send it?"},
        "answers": [{"key": key, "means": key, "words": {"en": key.title()}} for key in ("yes", "no")],
        "open_hours": 1,
    }
    messages = [Message.model_validate({"key": "ask", "name": "Ask", **words, "question": question})]
    messages += [
        Message.model_validate({"key": key.replace("_", "-"), "name": key, **words})
        for key in ("yes", "no", "no_answer")
    ]
    routes = [made.route(send="ask", guards={"even_if_notified": True})]
    routes += [
        made.route(
            key=f"on-{key.replace('_', '-')}",
            name=key,
            send=key.replace("_", "-"),
            when=list(ENDS),
            only_if={"of": [{"of": "question.ask", "op": "is", "value": key}]},
            guards={"even_if_notified": True},
        )
        for key in ("yes", "no", "no_answer")
    ]
    with here.database.writing() as session:
        (store,) = specs.stores(session)
        assert store.id is not None
        for spec in [*messages, *routes]:
            row = specs.save_draft(session, MessageRow if isinstance(spec, Message) else RouteRow, store.id, spec, now)
            specs.publish(session, row, now)
            if isinstance(row, RouteRow):
                specs.switch(session, row, True, now)
        specs.switch(session, specs.by_key(session, RouteRow, store.id, "by-sms"), False, now)
        specs.touch(session, store.id)


def run(rounds: int = 60, customers: int = 4) -> tuple[dict[str, int], list[str]]:
    rng = random.Random(31)
    accepted: set[int] = set()
    taken: list[tuple[str, str]] = []
    stop, lock = threading.Event(), threading.Lock()
    broken = []
    with tempfile.TemporaryDirectory() as folder, place(Path(folder)) as here:
        _ask(here)
        for name in ("stand-ins", "planner", "sender", "web"):
            here.start(name)
        assert here.up()
        links = Links(Vault(KEY), here.url)
        with here.database.reading() as session:
            live = live_setup.load(session, specs.stores(session)[0].id or 0)

        def answer(own: random.Random) -> None:
            """Answers as customers do: the same question by several at once, and not always alike; or lets its time
            run out.
            """
            with httpx.Client(timeout=5) as client:
                while not stop.is_set():
                    for (id_,) in here.rows("SELECT id FROM question WHERE state = 'open' ORDER BY asked_at LIMIT 30"):
                        if sum(id_.encode()) % 5 == 0:
                            _let_run_out(here, id_)
                            continue
                        key = own.choice(("yes", "no"))
                        end = links.question(live, id_)["token"]
                        try:
                            got = client.post(f"{here.url}/a/{end}", data={"answer": key}, headers=SAME)
                        except httpx.HTTPError:
                            continue
                        if got.status_code == 303 and got.headers["location"].endswith("given=taken"):
                            with lock:
                                taken.append((id_, key))
                    time.sleep(0.05)

        threads = [threading.Thread(target=here.keep_posting, args=(stop, itertools.count(1), accepted, 0.12))]
        threads += [threading.Thread(target=answer, args=(random.Random(n),)) for n in range(customers)]
        for thread in threads:
            thread.start()
        broken += here.kill_again_and_again(rounds, rng, 0.5, 1.5)
        stop.set()
        for thread in threads:
            thread.join()
        if not here.up(60):
            broken.append("the web process does not answer at the end")
        with here.database.writing() as session:  # as if their time had run out
            for row in questions.all_open(session.connection()):
                questions.change(session.connection(), row.id, open_hours=0)
        done = until(lambda: _settled(here), 240, 0.5)
        if not done:
            broken.append(f"not all was settled: {here.rows('SELECT state, count(*) FROM question GROUP BY state')}")
        counts, more = _count(here, accepted, taken)
    return {"kills": rounds, **counts}, broken + more


def _let_run_out(here: Place, id_: str) -> None:
    past = utc_now() - dt.timedelta(seconds=1)
    with here.database.writing() as session:
        row = questions.by_id(session.connection(), id_)
        if row is not None and row.ends_at is not None:
            questions.change(session.connection(), id_, ends_at=past, look_at=past)


def _settled(here: Place) -> bool:
    with here.database.writing() as session:
        for row in questions.all_open(session.connection()):
            if row.open_hours == 0 and row.look_at > utc_now():
                questions.change(session.connection(), row.id, look_at=utc_now())
    waiting = (
        "SELECT (SELECT count(*) FROM event WHERE planned_at IS NULL) + "
        "(SELECT count(*) FROM question WHERE state = 'open') + (SELECT count(*) FROM send WHERE state NOT IN "
        "('sent', 'delivered', 'skipped'))"
    )
    return here.rows(waiting)[0][0] == 0


def _count(here: Place, accepted: set[int], taken: list[tuple[str, str]]) -> tuple[dict[str, int], list[str]]:
    broken = []
    asked = here.rows("SELECT id, order_id, state, answer FROM question")
    outcome = {id_: answer if state == "answered" else "no_answer" for id_, _, state, answer in asked}
    by_order = {order_id: outcome[id_] for id_, order_id, _, _ in asked}
    if len(by_order) != len(asked) or len(asked) < len(accepted):
        broken.append(f"{len(accepted)} orders came to {len(asked)} questions about {len(by_order)}")
    told = {"no_answer": "question.expired"}
    ends = here.rows(f"SELECT order_id, type FROM event WHERE type IN {ENDS} ORDER BY order_id")
    if ends != sorted((order_id, told.get(end, "answer.received")) for order_id, end in by_order.items()):
        broken.append(f"{len(by_order)} outcomes came to {len(ends)} events, or to others")
    sends = here.rows(
        "SELECT send.order_id, route.key FROM send JOIN route ON route.id = route_id WHERE route.key LIKE 'on-%' "
        "AND send.state != 'skipped'"
    )
    wanted = sorted((order_id, f"on-{end.replace('_', '-')}") for order_id, end in by_order.items())
    if sorted(sends) != wanted:
        broken.append(f"{len(wanted)} outcomes have {len(sends)} consequences: {set(sends) ^ set(wanted)}")
    promised = dict(taken)
    if len(promised) != len(taken):
        broken.append("a question took two answers")
    changed = [id_ for id_, key in taken if outcome.get(id_) != key]
    if changed:
        broken.append(f"{len(changed)} answers were acknowledged and do not count: {changed[:5]}")
    ended = list(outcome.values())
    return {
        "questions": len(asked),
        **{f"ended with {end}": ended.count(end) for end in ("yes", "no", "no_answer")},
        "answers acknowledged": len(taken),
        "consequences": len(sends),
    }, broken
