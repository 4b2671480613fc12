"""The list of orders, and one order's story with the reason for every word and every silence."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, g, render_template, request

from angelon.core import event_types
from angelon.core.values import show, unpack
from angelon.db import orders, sends
from angelon.db.sends import Filter
from angelon.db.tables import ContactRow, EventRow, OrderRow, SourceRow
from angelon.web.orders import why
from angelon.web.runs.views import runs_of
from angelon.web.sends.views import names, outcome
from angelon.web.services import session, store

pages = Blueprint("orders", __name__, url_prefix="/orders", template_folder="templates")


@pages.get("")
def index() -> Any:
    words = request.args.get("words", "").strip()[:100]
    found = orders.listed(session(), store().id or 0, words, 101)
    told = orders.told_counts(session(), [order.id for order, _, _ in found if order.id])
    return render_template("orders/index.html", orders=found[:100], more=len(found) > 100, words=words, told=told)


@pages.get("/<int:order_id>")
def one(order_id: int) -> Any:
    order = session().get(OrderRow, order_id)
    if order is None or order.store_id != store().id:
        abort(404, "There is no such order.")
    happened = orders.events_of(session(), order_id)
    made = sends.listed(session(), store().id or 0, Filter(order_id=order_id), 100)
    source = session().get(SourceRow, order.source_id)
    contact = session().get(ContactRow, order.contact_id) if order.contact_id else None
    read = {part: show(unpack(value)) for part, value in (order.read or {}).items() if part not in ("lines", "parcels")}
    return render_template(
        "orders/one.html",
        order=order,
        events=happened,
        sends=made,
        attempts=sends.attempts_of(session(), [s.send.id for s in made]),
        names=names(),
        outcome=outcome,
        source=source,
        contact=contact,
        read=read,
        lines=[unpack(line) for line in (order.read or {}).get("lines", [])],
        why=why.of_order(source.key if source else "", happened, made, g.now),
        marks=why.SHOWN,
        runs=runs_of(order_id),
        label=event_types.label,
        story=story(happened, made),
    )


WIDTH, LEFT = 1000, 90


@dataclass(frozen=True)
class Mark:
    """One mark on the story's axis."""

    x: float
    lane: str
    shape: str
    said: str
    href: str = ""


def story(happened: list[EventRow], made: list[Any]) -> list[Mark]:
    """Events and sends as marks on one time axis. Equal steps where everything happened at once."""
    moments = [e.received_at for e in happened] + [s.send.settled_at or s.send.due_at for s in made]
    if not moments:
        return []
    start, end = min(moments), max(moments)
    whole = max((end - start).total_seconds(), 1.0)

    def x(at: Any) -> float:
        return LEFT + 20 + (WIDTH - LEFT - 60) * (at - start).total_seconds() / whole

    marks = [Mark(x(e.received_at), "store", "yes", event_types.label(e.type) if e.type else e.name) for e in happened]
    for s in made:
        marks.append(
            Mark(x(s.send.settled_at or s.send.due_at), s.send.channel, s.send.state, s.message, f"/sends/{s.send.id}")
        )
    placed: dict[str, list[float]] = {}
    apart = []
    for mark in sorted(marks, key=lambda m: m.x):
        at = mark.x
        for other in placed.get(mark.lane, []):
            if abs(other - at) < 17:
                at = other + 17
        placed.setdefault(mark.lane, []).append(at)
        apart.append(Mark(min(at, WIDTH - 12), mark.lane, mark.shape, mark.said, mark.href))
    return apart
