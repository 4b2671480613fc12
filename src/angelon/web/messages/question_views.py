"""A message's question: what is asked in which words, what it has come to, and what follows from each outcome."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.planning import question_checks
from angelon.core.problems import Conflict, Invalid, Problem
from angelon.core.questions import (
    LABELS,
    QuestionState,
    answer_label,
    folded,
    outcome_label,
    outcomes,
)
from angelon.core.specs import Message
from angelon.core.specs.base import read_spec
from angelon.core.specs.message import Question
from angelon.db.log import questions
from angelon.engine.exports.lines import moment as as_moment
from angelon.engine.operations import consequences
from angelon.engine.operations import messages as operations
from angelon.engine.past.rehearsals import rehearse_outcome
from angelon.web.exporting import as_file
from angelon.web.forms import with_text
from angelon.web.messages.starters import question_starter
from angelon.web.messages.views import stored_message
from angelon.web.numbers import whole
from angelon.web.paging import Page
from angelon.web.services import (
    live,
    messages,
    public_address,
    read_anew,
    routes,
    services,
    session,
    store_id,
    work,
    work_or_back,
)

pages = Blueprint("questions", __name__, url_prefix="/messages/<key>/question", template_folder="templates")

DAYS, A_PAGE = 30, 20
WITHDRAWING = ("order.cancelled", "order.paid", "payment.failed", "order.packed", "parcel.picked_up")
"""Events after which an answer may no longer matter, as the page offers them."""
MEANS = {"yes": "a yes", "no": "a no", "other": "neither"}
COLUMNS = (
    *("id", "order", "customer", "asked_at", "outcome", "answered_at", "by", "said", "reply", "late_answer", "late_at"),
    *("opened_at", "ends_at", "why"),
)


@pages.get("")
def show(key: str) -> Any:
    return _page(key)


@pages.post("")
def save(key: str) -> Any:
    """Keeps the question as it was typed, in the draft of its message."""
    row = stored_message(key)
    locale = request.form.get("locale", row.spec.locale)
    try:
        message = _read(row.spec, locale)
        with work() as unit:
            operations.save_draft(unit, message, request.form.get("known"), None)
    except Conflict:
        flash("Not saved: the message was changed in another window. What you typed is still here.", "bad")
        return _page(key, request.form), 409
    except Invalid as error:
        flash(f"Not saved: {error.problems[0]}", "bad")
        return _page(key, request.form), 422
    flash("The draft is saved. It counts once the message is published.", "good")
    return redirect(url_for(".show", key=key, locale=locale))


@pages.post("/start")
def start(key: str) -> Any:
    """Gives the message a question to begin with, in the shop's languages."""
    row, shop = stored_message(key), live().setup.store
    if row.spec.question is None:
        made = question_starter([row.spec.locale, shop.locale, *shop.locales])
        with work_or_back(url_for(".show", key=key)) as unit:
            operations.save_draft(unit, read_spec(Message, {**row.spec.plain(), "question": made}), None, None)
        flash("A question to begin with. Write it in your own words, then publish the message.", "good")
    return redirect(url_for(".show", key=key))


@pages.post("/remove")
def remove(key: str) -> Any:
    """Takes the question out of the draft; what was asked stays as it is."""
    row = stored_message(key)
    with work_or_back(url_for(".show", key=key)) as unit:
        operations.save_draft(unit, row.spec.model_copy(update={"question": None}), None, None)
    flash("The question is out of the draft. What was asked so far stays answerable until you publish.", "good")
    return redirect(url_for(".show", key=key))


@pages.post("/then")
def then(key: str) -> Any:
    """Makes a route that waits for an outcome; it is off until somebody switches it on."""
    message = live().setup.messages.get(key)
    if message is None or message.question is None:
        abort(404, "Publish the question first.")
    form = request.form
    with work_or_back(url_for(".show", key=key)) as unit:
        made = consequences.make_route(
            unit, message, form.get("outcome", ""), form.get("send", ""), form.get("whom", "customer")
        )
    flash("The route is made, and off. Look through it, then switch it on.", "good")
    return redirect(url_for("routes.edit", key=made))


@pages.get("/all.csv", defaults={"kind": "csv"})
@pages.get("/all.jsonl", defaults={"kind": "jsonl"})
def as_rows(key: str, kind: str) -> Any:
    """Every question of the message, or those of one outcome, as a file."""
    row = stored_message(key)
    outcome = request.args.get("outcome", "")[:60]
    return as_file(f"question-{key}", kind, COLUMNS, _parts(row.id, row.spec, outcome))


def _parts(message_id: int, message: Message, outcome: str) -> Iterator[Sequence[Mapping[str, Any]]]:
    before: tuple[dt.datetime, str] | None = None
    while True:
        with services().database.reading() as reading:
            rows = questions.listed(reading, store_id(), message_id, outcome, None, before, 1000)
        if not rows:
            return
        yield [_as_row(row, message) for row in rows]
        before = (rows[-1].asked_at, rows[-1].id)


def _as_row(row: Any, message: Message) -> dict[str, Any]:
    return {
        **{"id": row.id, "order": row.number, "customer": row.name or "", "asked_at": as_moment(row.asked_at)},
        **{"outcome": row.outcome, "answered_at": as_moment(row.closed_at), "by": row.way, "said": row.said},
        **{"reply": row.unmatched, "late_answer": row.late_answer, "late_at": as_moment(row.late_at)},
        **{"opened_at": as_moment(row.opened_at), "ends_at": as_moment(row.ends_at), "why": row.why},
    }


@dataclass(frozen=True)
class Branch:
    """One outcome, how often it has come, and what follows."""

    outcome: str
    label: str
    number: int
    tone: str
    """How it is drawn: good, bad, due, mute."""
    shape: str
    routes: list[Any]
    y: float = 0
    height: float = 0
    into: float = 0
    """Where its band leaves the bar of those who were asked."""


WIDTH, BAR, GAP, FROM, TO = 760, 120.0, 26.0, 150, 420


def _branches(message: Message, counts: Mapping[str, int]) -> list[Branch]:
    """The outcomes that there are, with the bands that lead to them, from top to bottom."""
    question = message.question or Question()
    tones = {"yes": ("good", "yes"), "no": ("bad", "failed"), "other": ("due", "sent")}
    found = [(one.key, answer_label(one, message.locale), *tones[one.means]) for one in question.answers]
    gone = [key for key in counts if key not in {one[0] for one in found} | {state.value for state in QuestionState}]
    found += [(key, key, "mute", "sent") for key in gone]
    rest = {
        QuestionState.EXPIRED: ("mute", "no"),
        QuestionState.OPEN: ("due", "scheduled"),
        QuestionState.NOT_ASKED: ("bad", "problem"),
        QuestionState.WITHDRAWN: ("mute", "cancelled"),
    }
    for state, look in rest.items():
        if counts.get(state.value) or state in (QuestionState.EXPIRED, QuestionState.OPEN):
            found.append((state.value, LABELS[state], *look))
    all_asked = sum(counts.values()) or 1
    y, into, made = 14.0, 0.0, []
    for outcome, label, tone, shape in found:
        number = counts.get(outcome, 0)
        height = BAR * number / all_asked
        waiting = [row for row in routes() if consequences.follows(row.live or row.spec, message, outcome)]
        made.append(Branch(outcome, label, number, tone, shape, waiting, y + max(height, 16) / 2, height, into))
        into += height
        y += max(height, 16) + GAP
    return made


def _page(key: str, typed: Any = None) -> Any:
    read_anew()
    row = stored_message(key)
    draft, published = row.spec, live().setup.messages.get(key)
    shop = live().setup.store
    languages = list(
        dict.fromkeys([draft.locale, *(tag for part in ("email", "sms", "chat") for tag in draft.variants(part))])
    )
    languages += [tag for tag in [shop.locale, *shop.locales] if tag not in languages]
    locale = request.values.get("locale", "")
    locale = locale if locale in languages else languages[0]
    asking = published if published is not None and published.question is not None else draft
    since = g.now - dt.timedelta(days=DAYS)
    counts = questions.counts(session().connection(), store_id(), row.id, since)
    outcome = request.args.get("outcome", "")[:60]
    listed = questions.listed(session(), store_id(), row.id, outcome, None, Page.after(), A_PAGE + 1)
    page = Page(listed, A_PAGE)
    branches = _branches(asking, counts) if asking.question is not None or counts else []
    return render_template(
        "messages/question.html",
        row=row,
        message=draft,
        question=Question.model_construct(**_question_of(draft, locale, typed)) if typed else draft.question,
        stamp=operations.stamp(row),
        locale=locale,
        languages=languages,
        means=MEANS,
        withdrawing=[(type_, event_types.label(type_)) for type_ in _withdrawing(draft)],
        problems=[*question_checks.problems_of(draft), *_unreachable()],
        live_question=published is not None and published.question is not None,
        asked=sum(counts.values()),
        days=DAYS,
        branches=branches,
        picture={"width": WIDTH, "bar": BAR, "from": FROM, "to": TO, "height": _height(branches)},
        rows=page.items,
        older=page.older(lambda one: (one.asked_at, one.id)),
        outcome=outcome,
        said_of=lambda one: outcome_label(asking, one),
        branch_of={one.outcome: one for one in branches},
        sendable=[
            (other.key, other.spec.name, "call" if other.spec.call and len(other.spec.channels()) == 1 else "")
            for other in messages()
            if other.key != key and other.live_id
        ],
        roles=sorted({member.role for member in shop.team if member.role}),
        asked_by=[active.route for active in live().setup.routes if active.route.send == key],
        as_if=_as_if(asking, request.args.get("as", "")) if asking.question is not None else None,
        late_routes=[one for one in routes() if consequences.follows(one.live or one.spec, asking, "late")]
        if asking.question is not None
        else [],
    )


def _as_if(message: Message, outcome: str) -> dict[str, Any] | None:
    """What the routes that wait for an outcome would make of it, for the order that was asked last; as it is planned,
    but nothing is sent. None where no outcome is chosen, or nobody was asked.
    """
    newest = questions.listed(session(), store_id(), live().message_ids.get(message.key, 0), limit=1)
    if not outcome or outcome not in dict(outcomes(message)) or not newest:
        return None
    decided = rehearse_outcome(session(), live(), message.key, newest[0].event_id, outcome, routes(), g.now)
    if decided is None:
        return None
    return {"outcome": outcome, "number": newest[0].number, "order_id": newest[0].order_id, "decided": decided}


def _unreachable() -> list[Problem]:
    """A warning where the links to the question's page would lead to this machine alone."""
    if live().setup.store.base_url or services().settings.base_url or services().settings.demo:
        return []
    what = f"Links to the question’s page lead to {public_address()}, as long as no public address is set."
    return [Problem("", what, "Set it in Settings.", "warning")]


def _height(branches: Sequence[Branch]) -> float:
    return max((one.y + max(one.height, 16) / 2 for one in branches), default=0) + 14


def _withdrawing(message: Message) -> list[str]:
    own = message.question.withdraw_on if message.question is not None else []
    return list(dict.fromkeys([*WITHDRAWING, *own]))


def _read(message: Message, locale: str) -> Message:
    """The message with its question as the form has it. Raises Invalid."""
    made = _question_of(message, locale, request.form)
    if not isinstance(made["open_hours"], int):
        raise Invalid([Problem("open_hours", "How long it stays open has to be a number of hours.", "Write 48.")])
    return read_spec(Message, {**message.plain(), "question": made})


def _question_of(message: Message, locale: str, form: Any) -> dict[str, Any]:
    """The question as it was typed, be it right or wrong."""
    was = (message.question or Question()).model_dump(mode="json")
    made = dict(was)
    for part in ("title", "about", "late"):
        made[part] = with_text(was[part], locale, form.get(part, ""))
    typed = form.get("open_hours", "")
    hours = whole(typed)
    made["open_hours"] = typed if hours is None else hours
    made["withdraw_on"] = form.getlist("withdraw_on")
    answers: list[dict[str, Any]] = []
    by_key = {one["key"]: one for one in was["answers"]}
    for number in range(12):
        words = form.get(f"answers.{number}.words")
        if words is None or form.get(f"answers.{number}.remove"):
            continue
        name = form.get(f"answers.{number}.key", "").strip()
        if not name and not words.strip():
            continue
        before = by_key.get(name, {"key": "", "words": {}, "thanks": {}})
        key = name or _key_of(words, [one["key"] for one in answers] + list(by_key))
        also = [part.strip() for part in form.get(f"answers.{number}.also", "").replace("\n", ",").split(",")]
        answers.append(
            {
                "key": key,
                "means": form.get(f"answers.{number}.means", "other"),
                "words": with_text(before["words"], locale, words),
                "also": [part for part in also if part],
                "thanks": with_text(before["thanks"], locale, form.get(f"answers.{number}.thanks", "")),
                "marks": form.get(f"answers.{number}.marks", before.get("marks", {})),
            }
        )
    return made | {"answers": answers}


def _key_of(words: str, taken: Sequence[str]) -> str:
    """A key for a new answer: its first word, told apart by a number."""
    plain = "".join(sign for sign in (folded(words) or ("answer",))[0] if sign.isascii() and sign.isalnum()) or "answer"
    key, number = plain[:40], 1
    while key in taken:
        number += 1
        key = f"{plain[:40]}-{number}"
    return key
