"""Events that could not be planned, and look-ups that were not answered: what was wrong with each, and the remedy."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid, NotFound
from angelon.db.log import events, inquiries
from angelon.db.tables import EventRow
from angelon.engine.operations import events as operations
from angelon.engine.operations import look_ups
from angelon.web.paging import Page
from angelon.web.services import actor, live, read_anew, services, session, store_id, work

pages = Blueprint("events", __name__, url_prefix="/events", template_folder="templates")
A_PAGE = 50
LOOK_UPS_FOR = dt.timedelta(days=14)
"""How long a look-up without an answer is shown."""


@pages.get("")
def index() -> Any:
    """The newest of them."""
    source_ids = live().source_ids
    page = Page(events.with_problems(session(), list(source_ids.values()), A_PAGE + 1, Page.after()), A_PAGE)
    failed = inquiries.failed(session().connection(), list(source_ids.values()), g.now - LOOK_UPS_FOR, A_PAGE)
    orders = events.orders_of(session(), {row.order_id for row in [*page.items, *failed] if row.order_id})
    keys = {id_: key for key, id_ in source_ids.items()}
    names = {id_: live().setup.sources[key].name for id_, key in keys.items() if key in live().setup.sources}
    older = page.older(lambda row: (row.received_at, row.id))
    return render_template(
        "events/index.html", rows=page.items, failed=failed, orders=orders, names=names, keys=keys, older=older
    )


@pages.post("/plan")
def plan_all() -> Any:
    """Plans all of them again: after a mapping or a route was fixed."""
    with work() as unit:
        number = operations.plan_all_again(unit)
    if number:
        flash(f"{number} event{'' if number == 1 else 's'} will be processed again now.", "good")
    else:
        flash("There is nothing to process again.", "good")
    return redirect(url_for(".index"))


@pages.post("/<event_id>/plan")
def plan_again(event_id: str) -> Any:
    """Plans one again. What it has already led to stays as it is."""
    event = events.rows_by_ids(session(), [event_id]).get(event_id)
    if event is None or not live().source_key(event.source_id):
        abort(404, "There is no such event.")
    with work() as unit:
        done = operations.plan_again(unit, event_id)
    flash("The event is processed again now." if done else "The event has no problem any more.", "good")
    return redirect(_back(event))


@pages.post("/<event_id>/ask")
def ask_again(event_id: str) -> Any:
    """Asks an address once more about one event."""
    event = events.rows_by_ids(session(), [event_id]).get(event_id)
    if event is None or not live().source_key(event.source_id):
        abort(404, "There is no such event.")
    back = f"/orders/{event.order_id}" if event.order_id is not None else url_for(".index")
    name = request.form.get("name", "")
    try:
        released = look_ups.ask_again(services().installation, store_id(), event_id, name, actor())
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Still no answer: {error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(back)
    read_anew()
    goes = f" {released} held send{' goes' if released == 1 else 's go'} out now." if released else ""
    flash(f"Answered: the values of +{name} are there.{goes}", "good")
    return redirect(back)


def _back(event: EventRow) -> str:
    """The page that it was asked from."""
    if request.form.get("from") == "order" and event.order_id is not None:
        return f"/orders/{event.order_id}"
    if request.form.get("from") == "deliveries":
        return url_for("sources.capture", key=live().source_key(event.source_id))
    return url_for(".index")
