"""A question about an order, on a page of the shop's: opened by the link in a message, answered by a button."""

from __future__ import annotations

import datetime as dt
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, g, redirect, render_template, request

from angelon.core.messages.fixed_words import words_in
from angelon.core.messages.known_fields import SAMPLE_END, shop_values
from angelon.core.problems import Invalid
from angelon.core.questions import QuestionState, answer_label, find_answer, said_in
from angelon.core.reading import Reading
from angelon.core.recipes.context import Context
from angelon.core.specs.message import Message, Question
from angelon.core.templates import BadTemplate, CantRender, compile_template
from angelon.core.values import Day, number_of, regional, show, show_day, unpack
from angelon.db.log import orders, questions, sends
from angelon.engine.feedback.preferences import Links, Reader
from angelon.engine.operations import questions as operations
from angelon.web.customers import frame
from angelon.web.customers.guesses import LONGEST
from angelon.web.customers.words import QUESTION_WORDS, question_words, why_words
from angelon.web.services import live, services, session, store_id, work

pages = Blueprint("answers", __name__, url_prefix="/a", template_folder="templates")
KEPT = dt.timedelta(days=180)
"""For how long after it was asked a question's page still opens."""


def _opened(token: str) -> Any:
    """The question that a link opens: the newest of its message about the order. The store in view is its shop's."""
    id_ = Links(services().vault).read_question(token[:LONGEST])
    row = questions.by_id(session().connection(), id_) if id_ is not None else None
    if row is not None and g.now - row.asked_at > KEPT:
        row = None
    frame.enter(row.store_id if row is not None else None, "the customer")
    assert row is not None
    return questions.newest(session().connection(), row.order_id, row.message_id)


frame.install(pages, _opened)


@pages.get(f"/{SAMPLE_END}")
def sample() -> Any:
    """Where the link of a test leads: to nobody's question."""
    locale = request.accept_languages.best_match(list(QUESTION_WORDS), "en") or "en"
    return render_template("customers/gone.html", gone=question_words(locale).test, locale=locale)


@pages.get("/<token>")
def show_page(token: str) -> Any:
    """Opening the link answers nothing: mail programs and scanners open links, too."""
    return page_of(_opened(token))


@pages.post("/<token>")
def answer(token: str) -> Any:
    """Takes the answer whose button was pressed; the page says then what became of it."""
    row = _opened(token)
    key = request.form.get("answer", "")
    try:
        with work() as unit:
            given = operations.answered(unit, row, key, services().clock)
    except Invalid:
        return page_of(row, 422)
    language = request.form.get("lang", "")
    query = f"?lang={language}" if language.replace("-", "").isalnum() else ""
    return redirect(f"{request.path}{query}{'&' if query else '?'}given={given.name.lower()}", 303)


def page_of(row: Any, status: int = 200) -> Any:
    """The page of a question (a row of its table), as its customer sees it."""
    message = live().setup.messages.get(live().message_key(row.message_id))
    order = orders.get(session(), store_id(), row.order_id)
    if message is None or message.question is None or order is None:
        frame.gone()
    question, shop = message.question, live().setup.store
    languages = list(dict.fromkeys([message.locale, *question.title, *(w for a in question.answers for w in a.words)]))
    locale = _locale(languages, order.language or "")
    read = Reading({}, Context()).order() | {part: unpack(value) for part, value in (order.read or {}).items()}
    said, written = question_words(locale), regional(locale, shop.country)
    zone = ZoneInfo(shop.timezone)
    answers = [
        {"key": one.key, "words": answer_label(one, locale, message.locale), "first": one.key == _first(question)}
        for one in question.answers
    ]
    reader = Reader(store_id(), row.reply_key, message.key, locale)
    return frame.page(
        "customers/question.html",
        locale,
        status,
        said=said,
        title=_filled(said_in(question.title, locale, message.locale), read, locale) or message.name,
        about=_filled(said_in(question.about, locale, message.locale), read, locale),
        lines=[(line.get("name") or "", _times(line, written)) for line in read.get("lines") or []],
        sums=_sums(read, locale, written),
        address=show(read.get("address"), written),
        answers=answers,
        state=row.state,
        still=row.state == QuestionState.OPEN and (row.ends_at is None or row.ends_at > g.now),
        until=moment_in(row.ends_at, zone, locale),
        told=_told(row, question, message, locale),
        languages=[(tag, frame.language(tag)) for tag in languages] if len(languages) > 1 else [],
        why=_why(row),
        why_link=why_words(locale).link,
        preferences=Links(services().vault).address(live(), reader) if row.reply_key else "",
    )


def _why(row: Any) -> str:
    """Where it says why the question was asked: by the first of its sends."""
    asked = sends.of_question(session().connection(), row.id)
    return f"/w/{Links(services().vault).why_token(asked[0].id)}" if asked else ""


def _first(question: Question) -> str:
    """The answer whose button stands out: that of the link that was followed, else the one that means yes."""
    chosen = request.args.get("answer", "")
    if find_answer(question, chosen) is not None:
        return chosen
    yes = next((one.key for one in question.answers if one.means == "yes"), "")
    return yes or (question.answers[0].key if question.answers else "")


def _told(row: Any, question: Question, message: Message, locale: str) -> str:
    """What has become of the question, to its customer; empty as long as it is open."""
    said, zone = question_words(locale), ZoneInfo(live().setup.store.timezone)
    if row.state == QuestionState.ANSWERED:
        answer = find_answer(question, row.answer)
        given = answer_label(answer, locale, message.locale) if answer is not None else row.answer
        other = request.args.get("given") == "late"
        thanks = said_in(answer.thanks, locale, message.locale) if answer is not None and not other else ""
        return said.already.format(answer=given) if other else thanks or said.answered.format(answer=given)
    if row.state in (QuestionState.WITHDRAWN, QuestionState.NOT_ASKED):
        return said.withdrawn
    if row.state == QuestionState.EXPIRED or (row.ends_at is not None and row.ends_at <= g.now):
        own = said_in(question.late, locale, message.locale)
        return own or said.late.format(ended=moment_in(row.ends_at, zone, locale))
    return ""


def _locale(languages: list[str], of_order: str) -> str:
    """The language of a page: the one that was chosen, the order's, the browser's, else the message's own."""
    for wanted in (request.args.get("lang", ""), request.form.get("lang", ""), of_order):
        for tag in languages:
            if wanted and tag.partition("-")[0] == wanted.replace("_", "-").partition("-")[0]:
                return tag
    return request.accept_languages.best_match(languages, languages[0]) or languages[0]


def _filled(text: str, order: dict[str, Any], locale: str) -> str:
    """A text of the shop's with the order's values; as it is written where they do not fit."""
    shop = live().setup.store
    try:
        made = compile_template(text).of_shop(shop_values(shop))
        return made.render({"order": order}, regional(locale, shop.country), 2000, "allow")
    except (BadTemplate, CantRender):
        return text


def _times(line: dict[str, Any], locale: str) -> str:
    quantity, price = show(line.get("quantity"), locale), show(line.get("price"), locale)
    return f"{quantity} × {price}" if quantity and price else quantity or price


def _sums(order: dict[str, Any], locale: str, written: str) -> list[tuple[str, str]]:
    """Postage, discount, tax that comes on top, and the total: those that the order has."""
    word, found = words_in(locale, live().setup.store.letterhead.fixed_words), []
    for part in ("postage", "discount", "tax", "total"):
        value = order.get(part)
        if value is None or (part != "total" and not number_of(value)) or (part == "tax" and not order["tax_on_top"]):
            continue
        found.append((word(part), ("\u2212" if part == "discount" else "") + show(value, written)))
    return found


def moment_in(at: dt.datetime | None, zone: ZoneInfo, locale: str) -> str:
    """A day of the week, a date and a time by the shop's clock, as a language writes them."""
    if at is None:
        return ""
    here = at.astimezone(zone)
    day = show_day(Day(here.date(), "day"), regional(locale, live().setup.store.country))
    return f"{day}, {here:%H:%M}"
