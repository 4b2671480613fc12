"""The list of orders, and one order's story with the reason for every word and every silence."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.parcels.stages import EVENTS as PARCEL_EVENTS
from angelon.core.planning.permission import of_order
from angelon.core.problems import Invalid, NotFound
from angelon.core.questions import EVENTS, answer_label, outcome_label
from angelon.core.specs.message import Answer
from angelon.core.values import show, unpack
from angelon.db.log import history, inquiries, orders, questions, sends
from angelon.db.log.sends import Filter
from angelon.db.people import contact_tags
from angelon.db.people import suppressions as suppressed
from angelon.db.setup import changes
from angelon.db.tables import EventRow, OrderRow
from angelon.engine.exports import orders as export
from angelon.engine.operations import orders as operations
from angelon.engine.operations import parcels as parcel_operations
from angelon.engine.operations import people, suppressions
from angelon.engine.operations import questions as question_operations
from angelon.web.documents import of_order as documents_of
from angelon.web.exporting import as_file_of
from angelon.web.numbers import moment, row_ids, whole
from angelon.web.orders import outcomes
from angelon.web.paging import Page
from angelon.web.parcels.of_order import around_order
from angelon.web.runs.views import runs_of
from angelon.web.sends.views import outcome
from angelon.web.services import live, names, services, session, store_id, work, work_or_back

A_PAGE = 100
MOST_EVENTS = 200
"""Events of an order that its page shows at once."""
MOST_TICKED = 500
TOLD = (
    *(
        operations.NOTE,
        operations.JOINED,
        operations.PARTED,
        operations.STATUS_SET,
        "answer noted",
        "question withdrawn",
    ),
    *(parcel_operations.ADDED, parcel_operations.MOVED, parcel_operations.TAKEN_OUT),
)
"""What of an order's changes stands among its notes."""

pages = Blueprint("orders", __name__, url_prefix="/orders", template_folder="templates")


@pages.get("")
def index() -> Any:
    words = request.args.get("words", "").strip()[:100]
    further = whole(request.args.get("further", "")) or 0
    page = Page(orders.listed(session(), store_id(), words, A_PAGE + 1, Page.after_time(), further), A_PAGE)
    older = page.older(lambda row: (row[0].last_event_at, row[0].id))
    if words and not older and (end := orders.end_of_search(session(), store_id(), words, further)):
        older = url_for(".index", words=words, further=end)
    return render_template(
        "orders/index.html",
        orders=page.items,
        older=older,
        words=words,
        states=orders.send_states(session(), [order.id for order, _, _ in page.items if order.id]),
        words_for_status=statuses_in_use(),
    )


@pages.get("/all.csv", defaults={"kind": "csv"})
@pages.get("/all.jsonl", defaults={"kind": "jsonl"})
def as_rows(kind: str) -> Any:
    """Every order, or those that have the words, as a file."""
    words = request.args.get("words", "").strip()[:100]
    return as_file_of("orders", kind, export.Orders(store_id(), words))


@pages.get("/<int:order_id>")
def one(order_id: int) -> Any:
    return page_of(order_id)


@pages.post("/<int:order_id>/notes")
def add_note(order_id: int) -> Any:
    """A note for the team."""
    typed = request.form.get("text", "")
    try:
        with work() as unit:
            operations.add_note(unit, order_id, typed)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not kept: {error.problems[0]}", "bad")
        return page_of(order_id, typed), 422
    flash("The note is kept.", "good")
    return redirect(url_for(".one", order_id=order_id))


@pages.post("/status")
def set_status() -> Any:
    """Sets the status of those ticked, or of the one whose page it is."""
    ids = row_ids(request.form.getlist("order"))[:MOST_TICKED]
    back = url_for(".one", order_id=ids[0]) if request.form.get("from") == "order" and ids else url_for(".index")
    if not ids:
        flash("Tick at least one order.", "bad")
        return redirect(back)
    status = request.form.get("status", "") or request.form.get("own_status", "")
    with work_or_back(back, "Nothing was changed: ") as unit:
        tell = request.form.get("tell") == "1"
        number = operations.set_status(unit, services().clock, ids, status, tell)
    heard = " Routes that wait for it send now." if tell and number else " No message is sent." if number else ""
    flash(f"{number} of {len(ids)} changed to {status.replace('_', ' ')}.{heard}", "good" if number else "bad")
    return redirect(back)


def statuses_in_use() -> list[str]:
    """The words that the sources have for an order's status, as far as they are mapped."""
    found = [word for source in live().sources.values() for word in source.statuses]
    return list(dict.fromkeys(found))


@pages.post("/<int:order_id>/tags")
def tag(order_id: int) -> Any:
    """Sets a tag on the order's customer, or takes it off."""
    order = orders.get(session(), store_id(), order_id)
    if order is None or order.contact_id is None:
        abort(404, "There is no such order, or nobody is known of it.")
    with work_or_back(url_for(".one", order_id=order_id)) as unit:
        people.tag(unit, order.contact_id, request.form.get("tag", ""), request.form.get("act") != "remove")
    return redirect(url_for(".one", order_id=order_id))


@pages.post("/<int:order_id>/stop")
def stop(order_id: int) -> Any:
    """Lets nothing more go to the customer about this order, or takes that back."""
    with work_or_back(url_for(".one", order_id=order_id)) as unit:
        if request.form.get("act") == "resume":
            suppressions.resume_order(unit, order_id)
            said = "The customer is told about this order again."
        else:
            suppressions.stop_order(unit, order_id, request.form.get("why", ""))
            said = "Nothing more goes to the customer about this order. What waits is skipped when it is due."
    flash(said, "good")
    return redirect(url_for(".one", order_id=order_id))


@pages.post("/<int:order_id>/questions/<question_id>")
def act_on_question(order_id: int, question_id: str) -> Any:
    """Notes an answer that the customer gave to somebody of the team, or withdraws the question."""
    with work_or_back(url_for(".one", order_id=order_id)) as unit:
        if request.form.get("act") == "withdraw":
            question_operations.withdraw(unit, question_id)
            said = "The question is withdrawn. No answer to it counts any more."
        else:
            question_operations.note_answer(unit, question_id, request.form.get("answer", ""), services().clock)
            said = "The answer is noted. What follows from it happens now."
    flash(said, "good")
    return redirect(url_for(".one", order_id=order_id))


def questions_of(order_id: int) -> list[dict[str, Any]]:
    """What the order's customer was asked, newest first, with the answers that the team may note."""
    found = []
    for row in reversed(questions.of_orders(session().connection(), [order_id]).get(order_id, [])):
        message = live().setup.messages.get(live().message_key(row.message_id))
        asked = message.question.answers if message is not None and message.question is not None else []
        found.append(
            {
                "row": row,
                "message": message,
                "outcome": outcome_label(message, row.outcome),
                "late": outcome_label(message, row.late_answer) if row.late_answer else "",
                "shape": _shape_of(row, asked),
                "answers": [(one.key, answer_label(one, message.locale)) for one in asked] if message else [],
                "route": next((a.route for a in live().setup.routes if message and a.route.send == message.key), None),
            }
        )
    return found


def _shape_of(row: Any, asked: Sequence[Answer]) -> str:
    means = next((one.means for one in asked if one.key == row.answer), "other")
    answered = {"yes": "yes", "no": "failed", "other": "sent"}[means]
    shapes = {"open": "scheduled", "answered": answered, "not_asked": "problem", "withdrawn": "cancelled"}
    return shapes.get(row.state, "no")


@pages.post("/<int:order_id>/join")
def join(order_id: int) -> Any:
    """Makes it one with another order."""
    with work_or_back(url_for(".one", order_id=order_id)) as unit:
        order_id = operations.join(unit, live(), order_id, request.form.get("number", ""))
        flash("The two are one order now.", "good")
    return redirect(url_for(".one", order_id=order_id))


@pages.post("/<int:order_id>/part")
def part(order_id: int) -> Any:
    """Makes what one source tells of it an order of its own."""
    with work_or_back(url_for(".one", order_id=order_id)) as unit:
        made = operations.part(unit, live(), order_id, request.form.get("source", ""))
        flash("They are two orders now. This is the one that was parted.", "good")
    return redirect(url_for(".one", order_id=made))


def page_of(order_id: int, typed: str = "", parcel: Mapping[str, Any] | None = None) -> Any:
    """The order's page; `typed` is a note that was not kept, `parcel` what is said of a parcel that was not added."""
    order = orders.get(session(), store_id(), order_id)
    if order is None:
        abort(404, "There is no such order.")
    until = moment(request.args.get("before", ""))
    happened = orders.events_of(session(), order_id, MOST_EVENTS + 1, until)
    more, happened = len(happened) > MOST_EVENTS, happened[-MOST_EVENTS:]
    made = sends.listed(session(), store_id(), Filter(order_id=order_id), 100)
    source = live().setup.sources.get(live().source_key(order.source_id))
    contact = orders.customer_of(session(), order)
    read = {part: show(unpack(value)) for part, value in (order.read or {}).items() if part not in ("lines", "parcels")}
    return render_template(
        "orders/one.html",
        order=order,
        events=happened,
        older=happened[0].received_at if more else None,
        newest=until is None,
        unanswered=inquiries.unanswered(session().connection(), [event.id for event in happened]),
        sends=made,
        attempts=sends.attempts_of(session(), [s.send.id for s in made]),
        names=names(),
        outcome=outcome,
        source=source,
        tellers=[
            live().setup.sources[key]
            for id_, _ in orders.tellers(session(), order)
            if (key := live().source_key(id_)) in live().setup.sources
        ],
        contact=contact,
        tags=contact_tags.of(session().connection(), [contact.id]).get(contact.id, ())
        if contact and contact.id
        else (),
        tags_in_use=contact_tags.in_use(session().connection(), store_id()) if contact else [],
        read=read,
        lines=[unpack(line) for line in (order.read or {}).get("lines", [])],
        outcomes=outcomes.of_order(source.key if source else "", happened, made, g.now),
        shapes=outcomes.SHAPES,
        runs=runs_of(order_id),
        questions=questions_of(order_id),
        about_questions=EVENTS,
        about_parcels=PARCEL_EVENTS,
        label=event_types.label,
        changes=event_types.CHANGES.values(),
        statuses=statuses_of(order),
        words_for_status=list(dict.fromkeys([*(source.statuses if source else ()), *statuses_in_use()])),
        story=story(happened, made),
        notes=[n for n in changes.listed(session(), store_id(), "order", str(order_id)) if n.action in TOLD],
        by_hand=[one.route for one in live().setup.routes if not one.route.handler and one.route.channel != "call"],
        stopped=next(iter(suppressed.of_address(session(), store_id(), of_order(order_id))), None),
        note=typed,
        **around_order(order, **(parcel or {})),
        **documents_of.around_order(order),
    )


def statuses_of(order: OrderRow) -> dict[str, str]:
    """What an order's statuses are now, by part; those that it has."""
    others = {part: seen[-1] for part, seen in history.statuses_by_part(order.seen_others).items() if seen}
    return ({"status": order.status} if order.status else {}) | others


WIDTH, LEFT = 1000, 90


@dataclass(frozen=True)
class StoryMark:
    """One mark on the story's axis."""

    x: float
    lane: str
    shape: str
    label: str
    href: str = ""


def story(happened: list[EventRow], made: list[Any]) -> list[StoryMark]:
    """Events and sends as marks on one time axis. Equal steps where everything happened at once."""
    moments = [e.received_at for e in happened] + [s.send.settled_at or s.send.due_at for s in made]
    if not moments:
        return []
    start, end = min(moments), max(moments)
    whole = max((end - start).total_seconds(), 1.0)

    def x(at: dt.datetime) -> float:
        return float(LEFT + 20 + (WIDTH - LEFT - 60) * (at - start).total_seconds() / whole)

    marks = [
        StoryMark(x(e.received_at), "store", "yes", event_types.label(e.type) if e.type else e.name) for e in happened
    ]
    for s in made:
        marks.append(
            StoryMark(
                x(s.send.settled_at or s.send.due_at), s.send.channel, s.send.state, s.message, f"/sends/{s.send.id}"
            )
        )
    placed: dict[str, list[float]] = {}
    apart = []
    for mark in sorted(marks, key=lambda m: m.x):
        at = mark.x
        for other in placed.get(mark.lane, []):
            if abs(other - at) < 17:
                at = other + 17
        placed.setdefault(mark.lane, []).append(at)
        apart.append(StoryMark(min(at, WIDTH - 12), mark.lane, mark.shape, mark.label, mark.href))
    return apart
