"""Which answer the words of a reply are; what a question's outcome is, and was."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from angelon.core.problems import Invalid
from angelon.core.questions import Asked, folded, match, outcome_of, same_words
from angelon.core.specs import Message
from angelon.core.specs.base import read_spec
from angelon.core.specs.message import Answer, Question

YES = Answer(key="yes", means="yes", words={"en": "Yes, send it", "de": "Ja, bitte senden"})
NO = Answer(key="no", means="no", words={"en": "No, cancel it"}, also=["storno"])
SHALL_WE = Question(answers=[YES, NO])
NOON = dt.datetime(2026, 12, 1, 12, tzinfo=dt.UTC)
HOUR = dt.timedelta(hours=1)


@pytest.mark.parametrize(
    ("said", "answer"),
    [
        ("yes", "yes"),
        ("YES!", "yes"),
        ("yes please!", "yes"),
        ("Oui, merci", "yes"),
        ("Sí, por favor", "yes"),
        ("si", "yes"),
        ("Yes, send it", "yes"),
        ("yes yes", "yes"),
        ("  ok, thanks 🙏", "yes"),
        ("👍🏽", "yes"),
        ("ja bitte senden", "yes"),
        ("No", "no"),
        ("no, cancel it please", "no"),
        ("Cancel", "no"),
        ("STORNO", "no"),
        ("nein danke", "no"),
        ("❌", "no"),
        ("", ""),
        ("please", ""),
        ("yes no", ""),
        ("yes, but the address is wrong", ""),
        ("when does it come?", ""),
        ("not yes", ""),
        ("STOP", ""),
        ("yesterday", ""),
    ],
)
def test_a_reply_is_an_answer_where_all_of_it_is(said, answer):
    assert match(SHALL_WE, said) == answer


def test_a_common_word_that_another_answer_lists_is_that_one_s():
    both = Question(answers=[YES, Answer(key="later", words={"en": "Later"}, also=["ok"])])
    assert (match(both, "OK"), match(both, "sure")) == ("later", "yes")


def test_an_answer_that_means_neither_is_known_by_its_own_words_alone():
    sizes = Question(answers=[Answer(key="m", words={"en": "Medium"}), Answer(key="l", words={"en": "Large"})])
    assert (match(sizes, "large, please"), match(sizes, "M"), match(sizes, "yes")) == ("l", "m", "")


def test_what_two_answers_are_known_by_is_said():
    asked = Question(answers=[YES, Answer(key="no", words={"en": "yes, send it!"})])
    assert list(same_words(asked)) == [("yes send it", "yes", "no")]


@given(st.text(max_size=200))
def test_any_reply_is_one_answer_or_none(text):
    assert match(SHALL_WE, text) in ("yes", "no", "")


@given(st.sampled_from(["yes", "Yes, send it", "no", "storno"]), st.sampled_from([" ", "! ", " … ", "\n", "  🙂 "]))
def test_signs_and_courtesies_around_an_answer_change_nothing(words, around):
    assert match(SHALL_WE, f"{around}Please{around}{words}{around}thank you{around}") == match(SHALL_WE, words) != ""


def test_words_are_compared_without_case_accents_and_signs():
    assert folded("S’il vous plaît: OUI!") == ("s'il", "vous", "plait", "oui")
    assert folded("はい。") == ("はい",)


def test_the_newest_question_counts_and_is_open_before_it_was_closed():
    first, second = Asked("ask", NOON, "no", NOON + HOUR), Asked("ask", NOON + 3 * HOUR, "yes", NOON + 5 * HOUR)
    assert outcome_of([second, first], "ask") == "yes"
    assert outcome_of([second.as_of(NOON + 4 * HOUR), first], "ask") == "open"
    assert outcome_of([first], "other") is None


@pytest.mark.parametrize(
    ("answers", "said"),
    [
        ([{"key": "yes"}, {"key": "yes"}], "two answers with the same key"),
        ([{"key": "open"}], "means something else"),
        ([{"key": "a b"}], "may hold lower-case letters"),
        ([{"key": f"a{number}"} for number in range(6)], "more than 5"),
    ],
)
def test_a_question_that_can_not_be_is_refused_in_words(answers, said):
    with pytest.raises(Invalid, match=said):
        read_spec(Message, {"key": "ask", "name": "Ask", "question": {"answers": answers}})
