"""What people do with questions to customers: answer on the customer's page, note an answer for them, withdraw one."""

from __future__ import annotations

from angelon.core.problems import Invalid, NotFound, Problem
from angelon.core.questions import QuestionState, answer_label, find_answer
from angelon.core.specs.message import Message, Question
from angelon.db.log import questions
from angelon.db.rows import QuestionRecord
from angelon.engine.clock import Clock
from angelon.engine.feedback.answers import Answers, Given, Reply
from angelon.engine.unit import Work

BY_TEAM, BY_PAGE = "team", "page"


def answered(work: Work, row: QuestionRecord, key: str, clock: Clock) -> Given:
    """Takes an answer that was given on the customer's page. Raises Invalid for one that is none of the question's."""
    message, question = asked_by(work, row)
    answer = find_answer(question, key)
    if answer is None:
        raise Invalid([Problem("answer", "That is none of the answers.", "Choose one of them.")])
    said = Reply(answer_label(answer, message.locale), BY_PAGE, "")
    work.wake()
    return Answers(work.connection, work.live, clock).give(row, key, said)


def note_answer(work: Work, question_id: str, key: str, clock: Clock) -> None:
    """Takes an answer that a customer has given to somebody of the team. Raises Invalid and NotFound."""
    row = _of_store(work, question_id)
    message, question = asked_by(work, row)
    answer = find_answer(question, key)
    if answer is None:
        raise Invalid([Problem("answer", "Choose an answer.", "Then note it.")])
    said = Reply(answer_label(answer, message.locale), BY_TEAM, work.actor.name)
    if Answers(work.connection, work.live, clock).give(row, key, said) is not Given.TAKEN:
        raise Invalid([Problem("answer", "The question is no longer open.", "Ask it again for another answer.")])
    work.record("answer noted", "order", str(row.order_id), None, {"text": f"“{message.name}”: {said.text}"})
    work.wake()


def withdraw(work: Work, question_id: str) -> None:
    """Closes an open question without an answer. Raises Invalid and NotFound."""
    row = _of_store(work, question_id)
    why = f"Withdrawn by {work.actor.name}."
    if not questions.close(work.connection, row.id, QuestionState.WITHDRAWN, work.now, why=why):
        raise Invalid([Problem("", "The question is no longer open.", "Nothing was changed.")])
    name = work.live.setup.messages[key].name if (key := work.live.message_key(row.message_id)) else "the question"
    work.record("question withdrawn", "order", str(row.order_id), None, {"text": f"“{name}” was withdrawn."})


def asked_by(work: Work, row: QuestionRecord) -> tuple[Message, Question]:
    """The message that asks a question, as it is live. Raises NotFound where it asks nothing any more."""
    message = work.live.setup.messages.get(work.live.message_key(row.message_id))
    if message is None or message.question is None:
        raise NotFound("The message no longer asks anything.")
    return message, message.question


def _of_store(work: Work, question_id: str) -> QuestionRecord:
    row = questions.by_id(work.connection, question_id)
    if row is None or row.store_id != work.store_id:
        raise NotFound("There is no such question.")
    return row
