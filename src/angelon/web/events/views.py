"""Events that could not be planned: what was wrong with each, and planning it again."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for

from angelon.db import events
from angelon.db.tables import EventRow
from angelon.web.services import live, services, session

pages = Blueprint("events", __name__, url_prefix="/events", template_folder="templates")
A_PAGE = 50


@pages.get("")
def index() -> Any:
    """The newest of them; `before` is the id of the last one that was seen."""
    last = session().get(EventRow, request.args.get("before", "")) if request.args.get("before") else None
    rows = events.with_problems(
        session(), list(live().source_ids.values()), A_PAGE, (last.received_at, last.id) if last else None
    )
    orders = events.orders_of(session(), {row.order_id for row in rows if row.order_id})
    names = {
        id_: live().setup.sources[key].name for key, id_ in live().source_ids.items() if key in live().setup.sources
    }
    return render_template(
        "events/index.html",
        rows=rows,
        orders=orders,
        names=names,
        keys={id_: key for key, id_ in live().source_ids.items()},
        more=len(rows) == A_PAGE,
    )


@pages.post("/plan")
def plan_all() -> Any:
    """Plans all of them again: after a mapping or a route was fixed."""
    with services().database.connection() as connection:
        number = events.plan_all_again(connection, list(live().source_ids.values()))
    services().bell.ring()
    flash(
        f"{number} event{'' if number == 1 else 's'} will be planned again, now."
        if number
        else "There is nothing to plan again.",
        "good",
    )
    return redirect(url_for(".index"))


@pages.post("/<event_id>/plan")
def plan_again(event_id: str) -> Any:
    """Plans one again. What it has already led to stays as it is."""
    event = session().get(EventRow, event_id)
    if event is None or not live().source_key(event.source_id):
        abort(404, "There is no such event.")
    with services().database.connection() as connection:
        done = events.plan_again(connection, event_id)
    services().bell.ring()
    flash("The event will be planned again, now." if done else "The event has no problem any more.", "good")
    return redirect(_back(event))


def _back(event: EventRow) -> str:
    """The page that it was asked from."""
    if request.form.get("from") == "order" and event.order_id is not None:
        return f"/orders/{event.order_id}"
    if request.form.get("from") == "deliveries":
        return url_for("sources.capture", key=live().source_key(event.source_id))
    return url_for(".index")
