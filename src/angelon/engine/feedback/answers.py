"""What becomes of questions to customers: answers, however they come, and none in time. Each has one outcome, once."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import structlog
from sqlalchemy import Connection

from angelon.core import questions as rules
from angelon.core.questions import QuestionState
from angelon.core.replies import command
from angelon.core.specs.message import Question
from angelon.core.states import OUT, State
from angelon.db import locks
from angelon.db.database import Database, is_database_failure
from angelon.db.log import events, orders, questions
from angelon.db.log import sends as send_queries
from angelon.db.records import NewEvent
from angelon.db.rows import QuestionRecord
from angelon.db.setup.live_setup import LiveSetup
from angelon.engine.clock import Clock
from angelon.engine.orders.marking import mark
from angelon.engine.setups import Setups

log = structlog.get_logger()

STILL_TRIED = (State.SCHEDULED, State.SENDING, State.RETRYING)
LATE_FOR = dt.timedelta(days=30)
"""For how long after its end a question's replies are still known for late answers."""
AGAIN = dt.timedelta(minutes=5)
"""How often a question is looked at that is not out yet, or could not be looked at."""


class Given(StrEnum):
    """What became of an answer."""

    TAKEN = "taken"
    AGAIN = "the same again"
    LATE = "too late"
    OTHER = "no answer"


@dataclass(frozen=True, slots=True)
class Reply:
    """What somebody has said: in which words, by which way (a channel, the page, the team), from which address."""

    text: str
    way: str
    by: str


class Answers:
    """Takes answers to one store's questions, in the caller's transaction."""

    def __init__(self, connection: Connection, live: LiveSetup, clock: Clock) -> None:
        self._connection, self._live, self._clock = connection, live, clock
        self._now = clock.now()

    def give(self, row: QuestionRecord, answer: str, said: Reply) -> Given:
        """Takes an answer (its key) to a question (a row of its table)."""
        values = {"answer": answer, "way": said.way, "by": said.by[:200], "said": said.text[:500], "unmatched": ""}
        if questions.close(self._connection, row.id, QuestionState.ANSWERED, self._now, **values):
            self._mark(row, answer)
            self._happened(row, rules.ANSWERED_EVENT, answer, said.text or answer)
            return Given.TAKEN
        known = questions.by_id(self._connection, row.id)
        if known is None or (known.state == QuestionState.ANSWERED and known.answer == answer):
            return Given.AGAIN
        row = known
        if row.state == QuestionState.OPEN:  # over, and not looked at since
            self.expire(row)
            self._now += dt.timedelta(microseconds=1)  # in this order
        if row.late_answer != answer:
            questions.change(self._connection, row.id, late_answer=answer, late_at=self._now)
            self._happened(row, rules.LATE_EVENT, answer, said.text or answer, f">{answer}")
        return Given.LATE

    def expire(self, row: QuestionRecord) -> bool:
        """Closes a question to which nobody has answered in time; says whether it was still open."""
        closed = questions.close(self._connection, row.id, QuestionState.EXPIRED, self._now)
        if closed:
            self._happened(row, rules.EXPIRED_EVENT, QuestionState.EXPIRED.value, "no answer")
        return closed

    def not_asked(self, row: QuestionRecord, why: str) -> bool:
        """Closes a question that did not reach its customer; says whether it was still open."""
        closed = questions.close(self._connection, row.id, QuestionState.NOT_ASKED, self._now, why=why[:300])
        if closed:
            self._happened(row, rules.NOT_ASKED_EVENT, QuestionState.NOT_ASKED.value, why)
        return closed

    def reply(self, row: QuestionRecord, said: Reply) -> Given:
        """Takes a reply in own words to a question. One that is no answer is kept for the team, and closes nothing; it
        is for the caller to say so to the order.
        """
        question = self._question(row)
        answer = rules.match(question, said.text) if question is not None else ""
        if answer:
            return self.give(row, answer, said)
        if row.state == QuestionState.OPEN and said.text.strip():
            questions.change(self._connection, row.id, unmatched=said.text[:500])
        return Given.OTHER

    def by_address(self, reply_key: str, said: Reply) -> Given | None:
        """Takes a reply that names no send: to the sender's one open question; where several are, to that whose order's
        number stands in it. None where they were asked nothing, or it is a STOP.
        """
        if command(said.text, "chat"):  # STOP is a STOP, whatever is open
            return None
        since = self._now - LATE_FOR
        rows = questions.asked_at(self._connection, self._live.store_id, reply_key, since)
        still = [row for row in rows if row.state == QuestionState.OPEN]
        among = still or rows[:1]
        if len(among) > 1:
            named = [row for row in among if row.number and row.number.casefold() in said.text.casefold()]
            if len(named) != 1:
                return self._for_the_team(among, said)
            among, said = named, Reply(_without(said.text, named[0].number), said.way, said.by)
        question = self._question(among[0]) if among else None
        if question is None or (not rules.match(question, said.text) and command(said.text, said.way)):
            return None
        given = self.reply(among[0], said)
        if given is Given.OTHER:
            return self._for_the_team(among, said) if still else None
        return given

    def _for_the_team(self, rows: Sequence[QuestionRecord], said: Reply) -> Given:
        """Keeps a reply that is no answer, or could be one to several questions."""
        for row in rows:
            questions.change(self._connection, row.id, unmatched=said.text[:500])
            ending = f">reply>{self._clock.new_id('rp', self._now)}"
            self._derive(row, rules.ANSWERED_EVENT, ending, said.text)
        return Given.OTHER

    def _mark(self, row: QuestionRecord, answer: str) -> None:
        """Notes about the customer what the answer says."""
        question = self._question(row)
        given = next((one for one in question.answers if one.key == answer), None) if question is not None else None
        contact_id = orders.contact_of(self._connection, row.order_id) if given is not None and given.marks else None
        if given is not None and contact_id is not None:
            mark(self._connection, self._live, contact_id, given.marks, f"answer “{answer}”", self._now)

    def _question(self, row: QuestionRecord) -> Question | None:
        message = self._live.setup.messages.get(self._live.message_key(row.message_id))
        return message.question if message is not None else None

    def _happened(self, row: QuestionRecord, type_: str, outcome: str, name: str, more: str = "") -> None:
        """What has become of a question as an event of its order, once."""
        self._derive(row, type_, f">{type_}{more}", name, self._live.message_key(row.message_id), outcome)

    def _derive(
        self, row: QuestionRecord, type_: str, ending: str, name: str, message: str = "", outcome: str = ""
    ) -> None:
        asked = events.by_ids(self._connection, [row.event_id]).get(row.event_id)
        if asked is None:  # kept no longer: the order's newest one stands for it
            of_order = events.of_orders(self._connection, [row.order_id]).get(row.order_id)
            if not of_order:
                log.warning("nothing is kept of the order of a question", question=row.id)
                return
            asked = of_order[0]
        key, id_ = f"{row.id}{ending}", self._clock.new_id("ev", self._now)
        made = NewEvent.derived(asked, id_, key, name, type_, self._now, row.order_id, message, outcome)
        events.derive_once(self._connection, made)


def _without(text: str, number: str) -> str:
    at = text.casefold().find(number.casefold())
    return text[:at] + " " + text[at + len(number) :]


class Questions:
    """Looks after open questions whose time has come. Each is dealt with in one transaction, once."""

    def __init__(self, database: Database, setups: Setups, clock: Clock) -> None:
        self._database, self._setups, self._clock = database, setups, clock

    def run_due(self, limit: int = 100) -> int:
        """Deals with up to `limit` of them; gives how many were closed."""
        now = self._clock.now()
        with self._database.reading() as session:
            due = questions.due(session.connection(), now, limit)
        closed = 0
        for store_id in dict.fromkeys(row.store_id for row in due):
            live = self._setups.get(store_id)
            with self._database.connection(locks.of_store(store_id), "questions") as connection:
                for row in questions.due(connection, now, limit, store_id):
                    closed += self._guarded(connection, live, row, now)
        return closed

    def _guarded(self, connection: Connection, live: LiveSetup, row: QuestionRecord, now: dt.datetime) -> bool:
        """One question; what raises harms that one alone."""
        try:
            with connection.begin_nested():
                return self._one(connection, live, row, now)
        except Exception as error:
            if is_database_failure(error):
                raise
            log.exception("a question could not be looked at", question=row.id)
            questions.change(connection, row.id, look_at=now + AGAIN)
            return False

    def _one(self, connection: Connection, live: LiveSetup, row: QuestionRecord, now: dt.datetime) -> bool:
        answers = Answers(connection, live, self._clock)
        if row.ends_at is not None and row.ends_at <= now:
            return answers.expire(row)
        sends = send_queries.of_question(connection, row.id)
        out = [send.settled_at for send in sends if send.state in OUT and send.settled_at is not None]
        if out and not row.delivered:
            opened = min(out)
            ends_at = opened + dt.timedelta(hours=row.open_hours)
            questions.change(connection, row.id, opened_at=opened, ends_at=ends_at, look_at=ends_at)
            return False
        if row.ends_at is not None or any(send.state in STILL_TRIED or send.fallback_at is not None for send in sends):
            questions.change(connection, row.id, look_at=max(now + AGAIN, row.ends_at or now))
            return False
        held = [send for send in sends if send.state == State.HELD]
        last = now if not held else max(send.due_at for send in held) + dt.timedelta(hours=row.open_hours)
        if held and last > now:  # a person may still have it sent
            questions.change(connection, row.id, look_at=min(last, now + 12 * AGAIN))
            return False
        why = next((send.reason for send in reversed(sends) if send.reason), "It was not sent.")
        return answers.not_asked(row, why)
