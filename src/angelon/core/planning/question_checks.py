"""What would go wrong with a message's question, found before it is published. Pure."""

from __future__ import annotations

from collections.abc import Iterator

from angelon.core.messages.chat import MOST_BUTTONS
from angelon.core.messages.known_fields import unknown_fields
from angelon.core.problems import Problem
from angelon.core.questions import folded, match, said_in, same_words
from angelon.core.replies import command
from angelon.core.specs.message import Message, Question
from angelon.core.templates import BadTemplate, compile_template


def problems_of(message: Message) -> list[Problem]:
    """Errors first; none for a message that asks nothing."""
    if message.question is None:
        return list(_answers_without(message))
    return [*_question(message, message.question), *_ways(message, message.question)]


def _answers_without(message: Message) -> Iterator[Problem]:
    """Blocks of answers in a message that asks nothing."""
    for locale, text in message.email.items():
        for place, block in text.pieces():
            if block.kind == "answers":
                what = "There are buttons for answers here, and the message asks nothing."
                yield Problem(f"email.{locale}.{place}", what, "Write a question, or take the block out.")


def _question(message: Message, question: Question) -> Iterator[Problem]:
    if len(question.answers) < 2:
        what = "A question needs two answers at least."
        yield Problem("question.answers", what, "Add one, or take the question out.")
    if not any(question.title.values()):
        yield Problem("question.title", "The question itself is not written.", "Write it: “Shall we send it?”")
    for channel in ("email", "sms", "chat"):
        for locale in message.variants(channel):
            for number, answer in enumerate(question.answers):
                if not said_in(answer.words, locale, ""):
                    what = f"The answer “{answer.key}” has no words in {locale}."
                    yield Problem(f"question.answers.{number}.words", what, "Write them.")
    for words, one, other in same_words(question):
        what = f"“{words}” is an answer twice: “{one}” and “{other}”."
        yield Problem("question.answers", what, "Give each words of its own.")
    for number, answer in enumerate(question.answers):
        for said in (*answer.words.values(), *answer.also):
            if command(said, "chat") == "stop":
                what = f"“{said}” means that somebody wants no more messages, so it can't be an answer."
                yield Problem(f"question.answers.{number}.also", what, "Choose another word.")
    texts = [("title", text) for text in question.title.values()] + [
        ("about", text) for text in question.about.values()
    ]
    for place, text in texts:
        try:
            made = compile_template(text)
        except BadTemplate as error:
            yield error.problem.at(f"question.{place}")
            continue
        yield from (problem.at(f"question.{place}") for problem in unknown_fields(made))
        if others := sorted(made.names - {"order"}):
            what = f"The page of a question knows the order and the shop only, and here is “{others[0]}”."
            yield Problem(f"question.{place}", what, "Use order.number, order.total and the like.")


def _ways(message: Message, question: Question) -> Iterator[Problem]:
    """Whether each text says how it is answered."""
    for locale, text in message.email.items():
        whole = " ".join((text.html, text.text, *(str(block.model_dump()) for _, block in text.pieces())))
        buttons = any(block.kind == "answers" for _, block in text.pieces())
        if not buttons and "question.link" not in whole:
            what = "The mail has no way to answer."
            yield Problem(f"email.{locale}.blocks", what, "Add the block Answers, or a link to {{ question.link }}.")
    for locale, sms in message.sms.items():
        spoken = any(match(question, word) for word in folded(sms.text))
        if "question.link" not in sms.text and not spoken:
            what = "The SMS does not say how to answer."
            yield Problem(f"sms.{locale}.text", what, "Name the words, as in “YES or NO”, or add {{ question.link }}.")
    for locale, chat in message.chat.items():
        if len(chat.buttons) + len(question.answers) > MOST_BUTTONS and "question." not in str(chat.model_dump()):
            what = f"A chat message has {MOST_BUTTONS} buttons at most, and not every answer gets one."
            yield Problem(f"chat.{locale}.buttons", what, "Take a button out, or say which words to write.", "warning")
