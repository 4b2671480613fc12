"""A day of a shop, drawn by chance: orders whose states come in whole seconds, late, twice and from two sources;
gateways that fail in turn, mailboxes that do not exist, customers who say STOP, and who answer a question, twice, late
or never. A plain model says who must have been told what, and what each question must have come to; whoever was not
told has a reason, and the model agrees with it.
"""

from __future__ import annotations

import datetime as dt
import random
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from angelon.core.specs import Gateway
from angelon.db.database import Database
from angelon.db.log import questions
from angelon.db.tables import GatewayRow, MessageRow, SourceRow
from angelon.engine.feedback.answers import Answers, Questions, Reply
from angelon.engine.feedback.receipts import take_all
from angelon.engine.sending.breakers import IN_DOUBT, Breakers
from angelon.engine.sending.dispatcher import Dispatcher
from angelon.gateways.interface import Outcome
from tests import made
from tests.conftest import bench_in
from tests.engine.test_fallbacks import Shop
from tests.engine.test_same_orders import FAIR, SHOP, fair

ROUTES = {"order.created": "received", "packed": "packed", "shipped": "shipped", "cancelled": "cancelled"}
"""What each of these news is told by."""
MODES = ("works", "busy", "unreachable", "refuses everybody")
WITHIN = 30
"""Minutes after which SMS takes a mail's place."""
OPEN_FOR = dt.timedelta(hours=3)
"""How long the question about each new order may be answered, from when it was first taken by a gateway."""
OUTCOMES = ("yes", "no", "no_answer")
"""Each outcome of it that something is said to."""
ENDS = ("answer.received", "question.expired", "question.not_asked")


@dataclass
class Way:
    """A gateway as it behaves at the moment, and what it has taken: when, for whom."""

    clock: Any
    dead: set[str]
    mode: str = "works"
    taken: list[tuple[dt.datetime, str, str]] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)
    """Whom it has refused for good since it took something last, or its sender was started anew."""
    doubted: set[str] = field(default_factory=set)
    """Those who are taken not to exist: refused, and not when others were one after the other."""
    once_doubted: set[str] = field(default_factory=set)
    """Those who were taken so at any time."""

    def deliver(self, mail: Any, key: str) -> Outcome:
        to = mail.to_address
        outcome = self._answer(to)
        if outcome.kind == "accepted":
            self.taken.append((self.clock(), to, key))
            self.refused.clear()
        elif outcome.kind == "permanent":
            self.refused += [to] if to not in self.refused else []
            if len(self.refused) < IN_DOUBT:
                self.doubted.add(to)
                self.once_doubted.add(to)
            elif len(self.refused) == IN_DOUBT:
                self.doubted.difference_update(self.refused)
        return outcome

    def _answer(self, to: str) -> Outcome:
        match self.mode:
            case "busy":
                return Outcome("temporary", "451", "4.3.2 busy, come back later")
            case "unreachable":
                return Outcome("temporary", "", "no connection", unreachable=True)
            case "refuses everybody":
                return Outcome("permanent", "550", "5.1.1 user unknown")
        if to in self.dead:
            return Outcome("permanent", "550", "5.1.1 user unknown")
        return Outcome("accepted", "250", "taken")

    def close(self) -> None: ...


@dataclass
class Order:
    """An order as the plain model sees it."""

    number: int
    buyer: dict[str, str]
    seen: tuple[int, int] = (-1, -1)
    """(second, arrival) of what its status comes from."""
    status: str = ""
    news: set[str] = field(default_factory=set)
    second: int = 0

    def told(self, second: int, arrival: int, status: str, created: bool) -> None:
        """One delivery has arrived. At equal seconds the later arrival counts."""
        if created:
            self.news.add("order.created")
        if (second, arrival) > self.seen:
            if self.status and status != self.status and status in ROUTES:
                self.news.add(status)
            self.seen, self.status = (second, arrival), status


class Day(Shop):
    """One day, drawn from a seed."""

    def __init__(self, bench: Any, seed: int, orders: int = 14) -> None:
        super().__init__(bench)
        self.rng = random.Random(seed)
        self.counts: Counter[str] = Counter()
        self.broken: list[str] = []
        self.arrivals = 0
        self.start = self.now
        self.stopped: dict[str, dt.datetime] = {}
        people = [
            {"name": f"Buyer {n}", "email": f"b{n}@example.org", "phone": f"+49 30 2312{n:04}", "country": "DE"}
            for n in range(orders)
        ]
        dead = {people[n]["email"] for n in self.rng.sample(range(orders), 2)}
        self.ways = {"email": Way(lambda: self.now, dead), "sms": Way(lambda: self.now, set())}
        self.orders = [Order(n, self.rng.choice(people)) for n in range(orders)]
        self.answered: dict[str, list[tuple[dt.datetime, str]]] = {}
        """What was answered to each question, in turn."""
        self._set_up()
        self._ask()
        self._dispatcher = self._new_dispatcher()

    def _set_up(self) -> None:
        reading = made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}
        statuses = {"shipped": "parcel.picked_up", "cancelled": "order.cancelled"}
        self.bench.change(made.source(reading=reading, statuses=statuses), SourceRow)
        own = reading | {"reference": "$.fair_id"}
        self.bench.change(fair(reading=own, statuses=statuses, same_orders={"source": SHOP, "by": "number"}), SourceRow)
        line = made.provider("sms", 1) | {"key": "line", "receipts": {"from_at": "$.from"}}
        self.bench.change(Gateway.model_validate(line), GatewayRow)
        ways = {"options": [{"gateway": "line", "channel": "sms"}], "within_minutes": WITHIN, "tell": "owner"}
        for news, key in ROUTES.items():
            is_it = {"of": [{"of": "order.status", "op": "is", "value": news}]}
            only_if = {} if news == "order.created" else {"only_if": is_it}
            when = [news] if news == "order.created" else ["order.status_changed"]
            self.route(
                key=key, name=key.title(), when=when, sources=[SHOP, FAIR], fallback=ways, once="order",
                guards={"even_if_notified": True}, **only_if,
            )  # fmt: skip

    def _ask(self) -> None:
        """Each new order is asked whether it may be sent; each outcome but one sends a message of its own."""
        words = {"email": {"en": {"subject": "Your order", "blocks": [{"kind": "text", "text": "Hello"}]}}}
        answers = [{"key": key, "words": {"en": key.title()}} for key in ("yes", "no")]
        hours = OPEN_FOR / dt.timedelta(hours=1)
        question = {"title": {"en": "Shall we send it?"}, "answers": answers, "open_hours": hours}
        for key in ("ask", *OUTCOMES):
            more = {"question": question} if key == "ask" else {}
            message = made.message(key=key.replace("_", "-"), name=key, locale="en", **words, **more)
            self.publish(MessageRow, message)
            is_it = {"of": [{"of": "question.ask", "op": "is", "value": key}]}
            only_if = {} if key == "ask" else {"only_if": is_it}
            self.route(
                key=f"on-{message.key}", name=f"On {key}", send=message.key, sources=[SHOP, FAIR], once="order",
                when=["order.created"] if key == "ask" else list(ENDS), guards={"even_if_notified": True}, **only_if,
            )  # fmt: skip

    def answers(self) -> None:
        """A customer answers a question, whether or not it may still be answered."""
        with self.bench.database.writing() as session:
            asked = self.bench.rows("SELECT id FROM question")
            row = questions.by_id(session.connection(), self.rng.choice(asked).id) if asked else None
            if row is None or row.opened_at is None:  # nobody has seen it yet
                return
            key = self.rng.choice(("yes", "yes", "no"))
            live = self.bench.services.setups.get(self.bench.store_id)
            Answers(session.connection(), live, self.bench.clock).give(row, key, Reply(key, "page", ""))
        self.answered.setdefault(row.id, []).append((self.now, key))
        self.counts["answers"] += 1

    def _new_dispatcher(self) -> Dispatcher:
        bench = self.bench
        return Dispatcher(
            "day", bench.database, bench.services.setups, bench.vault, bench.clock,
            lambda gateway, secret: self.ways[gateway.channel], Breakers(),
        )  # fmt: skip

    def arrive(self, order: Order, second: int, status: str, event: str, source: str) -> None:
        """One delivery, to the model and to the shop."""
        self.arrivals += 1
        order.told(second, self.arrivals, status, event == "placed")
        at = (self.start.replace(microsecond=0) + dt.timedelta(seconds=second)).isoformat()
        self.later(milliseconds=self.rng.choice((1, 1, 200, 3_000)))
        body = made.body(
            id=f"s-{order.number}", fair_id=f"f-{order.number}", reference=f"BK-{order.number}", state=status,
            changed_at=at, buyer=order.buyer,
        )  # fmt: skip
        for _ in range(self.rng.choice((1, 1, 1, 2))):  # a delivery may come twice
            self.bench.deliver(body, source, store_delivery=f"d-{self.arrivals}", store_event=event)
        self.counts["deliveries"] += 1

    def happens(self) -> None:
        """Something happens to an order that is there: one to three states, some in one second, some out of order."""
        order = self.rng.choice([one for one in self.orders if one.status])
        came = []
        for _ in range(self.rng.choice((1, 1, 2, 3))):
            order.second += self.rng.choice((0, 0, 1, 600))
            came.append((order.second, self.rng.choice(("paid", "packed", "shipped", "shipped", "cancelled"))))
        if self.rng.random() < 0.3:
            self.rng.shuffle(came)
        for second, status in came:
            for source in self.rng.choice(((SHOP,), (SHOP,), (FAIR,), (SHOP, FAIR), (FAIR, SHOP))):
                self.arrive(order, second, status, "changed", source)

    def work(self) -> None:
        """The worker, for a moment; it may have been started anew."""
        if self.rng.random() < 0.1:
            self._dispatcher = self._new_dispatcher()
            for way in self.ways.values():
                way.refused.clear()
        self.bench.plan()
        for _ in range(3):
            self._dispatcher.run_batch()
        Questions(self.bench.database, self.bench.services.setups, self.bench.clock).run_due()
        self.follow()

    def says_stop(self) -> None:
        phone = self.rng.choice(self.orders).buyer["phone"].replace(" ", "")
        live = self.bench.services.setups.get(self.bench.store_id)
        body = [{"state": "answered", "from": phone, "text": self.rng.choice(("STOP", "stop!", "Stopp"))}]
        take_all(self.bench.database, live, live.setup.gateways["line"], body, self.bench.clock)
        self.stopped.setdefault(phone, self.now)
        self.counts["said STOP"] += 1

    def run(self) -> Day:
        """The day, and as long after it as everything takes to come to rest."""
        waiting = list(self.orders)
        for _ in range(60):
            if waiting and self.rng.random() < 0.5:
                order = waiting.pop()
                sources = self.rng.choice(((SHOP,), (FAIR,), (SHOP, FAIR), (FAIR, SHOP)))
                for source in sources:
                    self.arrive(order, order.second, "paid", "placed", source)
            elif any(one.status for one in self.orders):
                self.happens()
            if self.rng.random() < 0.2:
                way = self.rng.choice(list(self.ways.values()))
                way.mode = self.rng.choice(MODES)
            if self.rng.random() < 0.08:
                self.says_stop()
            if self.rng.random() < 0.3:
                self.answers()
            if self.rng.random() < 0.8:
                self.work()
            self.later(minutes=self.rng.choice((0, 1, 5, 20)))
        for way in self.ways.values():
            way.mode = "works"
        for _ in range(200):
            self.work()
            self.later(minutes=5)
            waits = "SELECT 1 FROM send WHERE state IN ('scheduled', 'retrying', 'sending')"
            if not self.bench.rows(f"{waits} UNION SELECT 1 FROM question WHERE state = 'open' LIMIT 1"):
                break
        self._compare()
        return self

    def _compare(self) -> None:
        """What came of everything, and what the model says of it."""
        rows = self.bench.rows(
            "SELECT s.id, o.number, r.key, s.channel, s.recipient, s.state, s.reason FROM send s"
            ' JOIN "order" o ON o.id = s.order_id JOIN route r ON r.id = s.route_id WHERE s.recipient_name != ?',
            "Nuala",
        )
        for row in rows:
            if row.state in ("scheduled", "retrying", "sending"):
                self.broken.append(f"{row.key} of {row.number} never came to rest: {row.state} {row.reason}")
            if row.state != "sent" and not row.reason:
                self.broken.append(f"{row.key} of {row.number} is {row.state} without a reason")
        counted = Counter(key for way in self.ways.values() for _, _, key in way.taken)
        self.broken += [f"{key} went out {times} times" for key, times in counted.items() if times > 1]
        for at, phone, _ in self.ways["sms"].taken:
            if phone in self.stopped and at > self.stopped[phone]:
                self.broken.append(f"{phone} said STOP at {self.stopped[phone]:%H:%M} and was written to at {at:%H:%M}")
        for order in self.orders:
            for news, key in ROUTES.items():
                of_it = [row for row in rows if row.number == f"BK-{order.number}" and row.key == key]
                self._compare_one(order, news, key, of_it)
        self._compare_questions(rows)
        suppressed = self.bench.rows("SELECT address_key FROM suppression WHERE origin = 'bounce'")
        found, doubted = {key.partition(":")[2] for (key,) in suppressed}, self.ways["email"].doubted
        if found != doubted:
            self.broken.append(f"suppressed are {sorted(found)}, and should be {sorted(doubted)}")
        self.counts["suppressed"] += len(found)

    def _compare_questions(self, rows: list[Any]) -> None:
        """What each question has come to, by when it was taken and what was answered when; and what was said then."""
        taken = {key: at for at, _, key in reversed(self.ways["email"].taken)}
        sent = {row.id: row for row in rows}
        for one in self.bench.rows(
            'SELECT q.id, q.state, q.answer, q.closed_at, o.number, s.id AS send FROM question q JOIN "order" o'
            " ON o.id = q.order_id LEFT JOIN send s ON s.question_id = q.id"
        ):
            about, asked = f"the question about {one.number}", taken.get(one.send)
            in_time = [key for at, key in self.answered.get(one.id, []) if asked and at < asked + OPEN_FOR]
            due = in_time[0] if in_time else "no_answer" if asked else "not_asked"
            outcome = one.answer or one.state
            self.counts[f"question: {outcome}"] += 1
            if outcome == "withdrawn":
                order = next(order for order in self.orders if one.number == f"BK-{order.number}")
                if "cancelled" not in order.news:
                    self.broken.append(f"{about} was withdrawn, and nobody has cancelled it")
            elif outcome != due:
                self.broken.append(f"{about} has come to {outcome}, and should have come to {due}")
            if outcome == "not_asked" and not sent[one.send].reason:
                self.broken.append(f"{about} was not asked, and nothing says why")
            for key in OUTCOMES:
                of_it = [row for row in rows if row.number == one.number and row.key == f"on-{key.replace('_', '-')}"]
                told = [row for row in of_it if row.state == "sent"]
                if len(told) > 1 or (told and key != outcome):
                    self.broken.append(f"{about}: {key} was told {len(told)} times, its outcome is {outcome}")
                elif key == outcome and not told and not any(row.reason for row in of_it):
                    self.broken.append(f"{about}: nobody was told of {key}, and nothing says why")

    def _compare_one(self, order: Order, news: str, key: str, rows: list[Any]) -> None:
        about = f"{key} of BK-{order.number}"
        out = [row for row in rows if row.state == "sent"]
        self.counts["told"] += len(out)
        self.counts["told by SMS"] += sum(row.channel == "sms" for row in out)
        if news not in order.news:
            if out or any(row.state != "skipped" for row in rows):
                self.broken.append(f"{about}: told, and it never happened")
        elif len(out) > 1:
            self.broken.append(f"{about}: told {len(out)} times")
        elif not out:
            self.counts["not told"] += 1
            way = self.ways["email"]
            refused = order.buyer["email"] in way.once_doubted | way.dead or any("550" in row.reason for row in rows)
            stopped = order.buyer["phone"].replace(" ", "") in self.stopped
            failed = any(row.channel == "sms" and row.state == "failed" for row in rows)  # the owner has been told
            if not (refused and (stopped or failed)):
                why = "; ".join(f"{row.channel} {row.state}: {row.reason}" for row in rows)
                self.broken.append(f"{about}: not told. {why or 'Nothing was planned.'}")


def run(days: int = 150, first: int = 1) -> tuple[dict[str, int], list[str]]:
    """So many days, each from a seed of its own."""
    counts: Counter[str] = Counter(days=days)
    broken = []
    with tempfile.TemporaryDirectory() as folder:
        migrated = Path(folder) / "migrated.db"
        database = Database(f"sqlite:///{migrated}")
        database.migrate()
        database.close()
        for seed in range(first, first + days):
            with bench_in(Path(folder) / f"day-{seed}", made.bundle(live=False), migrated) as bench:
                day = Day(bench, seed).run()
            counts += day.counts
            broken += [f"day {seed}: {line}" for line in day.broken]
    return dict(counts), broken
