"""Questions that a message asks: what can become of one, and which answer the words of a reply are. Pure."""

from __future__ import annotations

import datetime as dt
import re
import unicodedata
from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import NamedTuple

from angelon.core.specs.message import Answer, Message, Question

ANSWERED_EVENT = "answer.received"
LATE_EVENT = "answer.late"
EXPIRED_EVENT = "question.expired"
NOT_ASKED_EVENT = "question.not_asked"
EVENTS = frozenset({ANSWERED_EVENT, LATE_EVENT, EXPIRED_EVENT, NOT_ASKED_EVENT})
"""Events about a question: `was` is the message's key, `now` the outcome."""


class QuestionState(StrEnum):
    """What has become of a question. One that is not open has its outcome, and keeps it."""

    OPEN = "open"
    ANSWERED = "answered"
    EXPIRED = "no_answer"
    NOT_ASKED = "not_asked"
    WITHDRAWN = "withdrawn"


LABELS = {
    QuestionState.OPEN: "Open",
    QuestionState.ANSWERED: "Answered",
    QuestionState.EXPIRED: "No answer",
    QuestionState.NOT_ASKED: "Could not be asked",
    QuestionState.WITHDRAWN: "Withdrawn",
}
"""What people call each."""


class Asked(NamedTuple):
    """A question that an order's customer was asked. Times are aware."""

    message: str
    """The message's key."""
    asked_at: dt.datetime
    outcome: str = QuestionState.OPEN.value
    """An answer's key, or a state."""
    closed_at: dt.datetime | None = None

    def as_of(self, at: dt.datetime) -> Asked:
        """The same as it stood at a moment after it was asked."""
        later = self.closed_at is not None and self.closed_at > at
        return self._replace(outcome=QuestionState.OPEN.value, closed_at=None) if later else self


def outcome_of(asked: Iterable[Asked], message: str) -> str | None:
    """The outcome of the newest question of a message; None where it was never asked."""
    newest = max((one for one in asked if one.message == message), key=lambda one: one.asked_at, default=None)
    return newest.outcome if newest is not None else None


def subject_name(message: str) -> str:
    """What a condition on a question's outcome looks at: `question.shall_we_send`."""
    return f"question.{message.replace('-', '_')}"


def outcomes(message: Message) -> list[tuple[str, str]]:
    """Everything that can become of a message's question: its value in conditions, and what people call it."""
    question = message.question
    if question is None:
        return []
    answers = [(one.key, answer_label(one, message.locale)) for one in question.answers]
    rest = (QuestionState.EXPIRED, QuestionState.OPEN, QuestionState.NOT_ASKED, QuestionState.WITHDRAWN)
    return [*answers, *((state.value, LABELS[state]) for state in rest)]


def outcome_label(message: Message | None, outcome: str) -> str:
    """What people call an outcome; the key of an answer that the message no longer has."""
    known = dict(outcomes(message)) if message is not None else {}
    return known.get(outcome) or LABELS.get(outcome, outcome)  # type: ignore[call-overload]


def said_in(words: dict[str, str], locale: str, main: str) -> str:
    """A text in a reader's language: `de-AT`, else `de`, else the message's main language, else whichever there is."""
    for tag in (locale, locale.partition("-")[0], main):
        if words.get(tag):
            return words[tag]
    return next((text for text in words.values() if text), "")


def answer_label(answer: Answer, locale: str, main: str = "") -> str:
    """The words of an answer in a language; its key where it has none."""
    return said_in(answer.words, locale, main or locale) or answer.key


def find_answer(question: Question, key: str) -> Answer | None:
    return next((one for one in question.answers if one.key == key), None)


# ---- replies in own words

_COMMON = {
    "yes": """yes y yep yeah yup sure ok okay k confirm confirmed agree ja j jo jap klar gerne oui o ouais d'accord
        daccord si s vale claro certo va bene sim tak ano igen kylla joo da evet nai ναι да так
        はい 是 是的 好 好的 네 예
        نعم בכן כן 👍 ✅ ✔ 👌""",
    "no": """no n nope nah cancel decline refuse nein nee nicht non annuler annulez cancelar cancela annulla annullare
        nej nie ne nem ei hayir όχι οχι нет ні いいえ 不 不是 不要 아니요 아니오 لا לא 👎 ❌ ✖""",
}
"""Words that mean yes or no wherever a question has such an answer, in the languages of shops."""
_COURTESIES = """
    please pls plz thanks thank you thx ty hi hello hey dear kind regards best cheers bitte danke dankeschon vielen dank
    hallo gruss grusse s'il vous plait svp merci beaucoup bonjour por favor gracias muchas hola per favore grazie ciao
    alstublieft alsjeblieft dank je wel hoi obrigado obrigada ola tack hej takk prosim dekuji prosze dziekuje
    and so it is that's that 🙏 😊 🙂 😀 ❤ ♥
"""
_LOOKS = re.compile("[\ufe00-\ufe0f\U0001f3fb-\U0001f3ff\u200d]")
"""What changes how a sign looks, and not what it is."""


def folded(text: str) -> tuple[str, ...]:
    """The words of a text without case, accents and punctuation; a picture sign is a word of its own."""
    plain = _LOOKS.sub("", unicodedata.normalize("NFKD", text.replace("’", "'").casefold()))
    words = (word.strip("'") for word in "".join(map(_sign, plain)).split())
    return tuple(word for word in words if word)


def _sign(sign: str) -> str:
    kind = unicodedata.category(sign)
    if kind == "So":
        return f" {sign} "
    return "" if kind == "Mn" else " " if kind[0] in "PSZC" and sign != "'" else sign


_POLITE = frozenset(folded(_COURTESIES))


def phrases(answer: Answer, main: bool = True) -> set[tuple[str, ...]]:
    """What is taken for an answer, as folded words: its key, its words in each language, what else it lists; and with
    `main` the words that mean yes or no everywhere.
    """
    own = {folded(text) for text in (answer.key, *answer.words.values(), *answer.also)}
    common = {(word,) for word in folded(_COMMON.get(answer.means, ""))} if main else set()
    return {one for one in own | common if one}


def match(question: Question, text: str) -> str:
    """The key of the answer that a reply gives; empty where it is none of them, or may be two.

    The whole reply has to be an answer, in whatever order with courtesies (“yes please!”, «oui, merci»): “yes, but the
    address is wrong” is for a person to read.
    """
    words = folded(text[:500])
    if not words or len(words) > 40:
        return ""
    found = {answer.key for answer in question.answers if _is_answer(words, answer, question)}
    return found.pop() if len(found) == 1 else ""


def _is_answer(words: tuple[str, ...], answer: Answer, question: Question) -> bool:
    """Whether words are nothing but an answer's phrases and courtesies, with one phrase at least. A common word that
    another answer lists as its own is that one's.
    """
    others = {one for other in question.answers if other is not answer for one in phrases(other, False)}
    known = phrases(answer, False) | (phrases(answer) - others)
    longest = max(len(one) for one in known)
    reached: set[tuple[int, bool]] = {(0, False)}
    for start in range(len(words)):
        for said in (True, False):
            if (start, said) not in reached:
                continue
            if words[start] in _POLITE:
                reached.add((start + 1, said))
            for size in range(1, min(longest, len(words) - start) + 1):
                if words[start : start + size] in known:
                    reached.add((start + size, True))
    return (len(words), True) in reached


def same_words(question: Question) -> Iterator[tuple[str, str, str]]:
    """(words, answer, another answer) of what two answers are both known by."""
    for number, one in enumerate(question.answers):
        for other in question.answers[number + 1 :]:
            for shared in sorted(phrases(one, False) & phrases(other, False)):
                yield " ".join(shared), one.key, other.key


def event_of_outcome(outcome: str) -> str:
    """The type of the event by which an outcome is told: an answer's key, a state, or `late` for an answer after it."""
    told = {QuestionState.EXPIRED.value: EXPIRED_EVENT, QuestionState.NOT_ASKED.value: NOT_ASKED_EVENT}
    return LATE_EVENT if outcome == "late" else told.get(outcome, ANSWERED_EVENT)
