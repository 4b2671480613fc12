"""The pages of routes: list, the sentence with its rehearsal, switching on and off, copies and deletions."""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Sequence
from typing import Any

from flask import Blueprint, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.messages.channels import CHANNEL_LABELS
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route
from angelon.db.derived import counts
from angelon.db.setup import specs
from angelon.db.setup.specs import StoredRoute
from angelon.engine.operations import routes as operations
from angelon.engine.operations import stages
from angelon.engine.operations.checks import ChecksFailed
from angelon.engine.unit import Work
from angelon.web.conflicts import edits_seen
from angelon.web.listing import SHOWN_FROM, Choice, Sort, narrowed
from angelon.web.routes.form import changes_from
from angelon.web.routes.sentence import page, problems
from angelon.web.services import live, names, routes, session, store_id, work, work_or_back
from angelon.web.upkeep import many as changes

pages = Blueprint("routes", __name__, url_prefix="/routes", template_folder="templates")


def stored(key: str) -> StoredRoute:
    """The route of an address; 404 where there is none."""
    found = specs.route(session(), store_id(), key)
    if found is None:
        abort(404, f"There is no route “{key}”.")
    if found.gone_at is not None:
        abort(404, f"The route “{key}” was deleted. It can be restored on the page of routes.")
    return found


@pages.get("")
def index() -> Any:
    order = {type_: number for number, type_ in enumerate(event_types.LABELS)}
    called = names()
    week = counts.states_by(session().connection(), store_id(), "route_id", g.today - dt.timedelta(days=6))
    own = [row for row in routes() if not row.spec.handler]
    rows = [(row, row.spec, week.get(row.id, {}), problems(row.spec, called)) for row in own]
    rows.sort(key=lambda r: (min((order.get(t, 99) for t in r[1].when), default=99), r[1].priority))
    gone = specs.route(session(), store_id(), request.args["gone"]) if request.args.get("gone") else None
    found = narrowed(rows, lambda one: f"{one[1].name} {one[1].send} {one[1].key}", _filters(rows), _SORTS)
    return render_template(
        "routes/index.html",
        list=found,
        rows=[(_event_of(one[1]), *one) for one in found.rows],
        grouped=len(rows) > SHOWN_FROM and not found.sort,
        many=len(rows) > SHOWN_FROM,
        names=called,
        gone=gone if gone is not None and gone.gone_at else None,
        done=changes.done("route"),
        unreadable=[one for one in specs.unreadable(session(), store_id()) if one[0] == "route"],
    )


@pages.post("/many")
def many() -> Any:
    """Switches several routes on or off, tags, deletes or restores them."""
    on = {row.key: row.on for row in routes()}

    def switch_on(unit: Work, key: str) -> bool:
        if on.get(key):
            return False  # what is drafted of it stays a draft
        operations.publish_and_switch_on(unit, key)
        return True

    def switch_off(unit: Work, key: str) -> bool:
        if on.get(key) is False:
            return False
        operations.switch_off(unit, key, True)
        return True

    acts = {"on": switch_on, "off": switch_off, "delete": operations.delete, "restore": operations.restore}
    return changes.change("route", acts, "Restored. They are off until you switch them on.")


def _event_of(route: Route) -> str:
    """The event that a route is listed under."""
    return event_types.label(route.when[0]) if route.when else "manual" if route.by_hand else "no event chosen"


def _filters(rows: Sequence[tuple[StoredRoute, Route, dict[str, int], list[Problem]]]) -> dict[str, Choice]:
    events = sorted({type_ for _, route, _, _ in rows for type_ in route.when})
    sources = sorted({key for _, route, _, _ in rows for key in route.sources})
    tags = sorted({tag for _, route, _, _ in rows for tag in route.tags})
    called = names()["sources"]
    return {
        "state": Choice(
            "State",
            [("live", "live"), ("off", "off"), ("draft", "with a draft"), ("problem", "with a problem")],
            lambda one: _states_of(*one),
        ),
        "event": Choice("Event", [(type_, event_types.label(type_)) for type_ in events], lambda one: one[1].when),
        "channel": Choice("Channel", list(CHANNEL_LABELS.items()), lambda one: [one[1].channel]),
        "tag": Choice("Tag", [(tag, tag) for tag in tags], lambda one: one[1].tags),
        "source": Choice("Source", [(key, called.get(key, key)) for key in sources], lambda one: one[1].sources),
    }


_SORTS = {
    "name": Sort("by name", lambda one: one[1].name.casefold()),
    "sends": Sort("most sends first", lambda one: sum(one[2].values()), largest_first=True),
    "new": Sort("switched on last", lambda one: one[0].since.timestamp() if one[0].since else 0, largest_first=True),
}


def _states_of(row: StoredRoute, route: Route, week: dict[str, int], problems: list[Problem]) -> list[str]:
    found = ["live" if row.on else "off"]
    return found + ["draft"] * bool(row.draft and row.live_id) + ["problem"] * bool(problems)


@pages.get("/<key>/figures")
def figures(key: str) -> Any:
    """What the route has sent and what it has not, day by day."""
    row = stored(key)
    first = g.today - dt.timedelta(days=29)
    connection = session().connection()
    days = counts.days(connection, store_id(), first, g.today, row.id)
    states: Counter[str] = Counter()
    for day in days:
        for (_, state), number in day.outcomes.items():
            if number:
                states[state] += number
    silent = counts.decided_not(connection, store_id(), key, first)
    return render_template(
        "routes/figures.html",
        row=row,
        route=row.spec,
        days=[(f"{one.day.day} {one.day:%b}", one.outcomes, one.cost) for one in days],
        states=states,
        cost=sum(one.cost for one in days),
        silent=[
            (PARTS.get(part, part) or outcome, sum(by.values()), [by.get(one.day, 0) for one in days])
            for (outcome, part), by in silent.items()
        ],
        out=("sent", "delivered", "read"),
    )


PARTS = {
    "when": "another event, or the order is not a new one",
    "from": "another source, or it came before the route was switched on",
    "if": "a condition did not hold",
    "handler": "the handler wanted nothing sent",
    "to": "nobody to send to",
    "timing": "its time had passed",
    "once": "it was sent already",
    "guards": "a guard stopped it",
    "fallback": "nothing was left to fall back to",
}
"""What each part of a route says no about."""


@pages.post("")
def create() -> Any:
    name, when = request.form.get("name", "").strip(), request.form.get("when", "")
    with work_or_back(url_for(".index", name=name[:200], when=when[:100])) as unit:
        key = operations.create(unit, name, when)
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    row = stored(key)
    if row.spec.handler:
        return redirect(url_for("handlers.show", name=row.spec.handler))
    return render_template("routes/edit.html", **page(row))


@pages.post("/<key>")
def save(key: str) -> Any:
    """Keeps the draft after a change to one part; answers with the sentence and its rehearsal anew."""
    fragment = request.headers.get("X-Fragment")
    try:
        with work() as unit:
            operations.change_draft(unit, key, changes_from(request.form, stored(key).spec), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        if fragment:
            return jsonify({"detail": in_words(error.problems[0])}), 422
        flash(in_words(error.problems[0]), "bad")
        return redirect(url_for(".edit", key=key))
    if fragment:
        return render_template("routes/_sentence.html", **page(stored(key)))
    return redirect(url_for(".edit", key=key))


WORDS = {
    "when": "When",
    "sources": "From",
    "only_if": "If",
    "send": "Send",
    "to": "To",
    "gateway": "By",
    "channel": "By",
    "timing": "Timing",
    "urgent": "Timing",
    "once": "At most",
    "once_days": "At most",
    "guards": "Limits",
    "priority": "Limits",
    "fallback": "Fallback",
    "asks": "Manual run",
}
"""What the parts of a route are called in its sentence."""


def in_words(problem: Problem) -> str:
    """Why a change was not kept, with the part's word in place of its path."""
    part = WORDS.get(problem.where.partition(".")[0])
    if part is None:
        return str(problem)
    named = re.match(r"“(\w+)” ", problem.what)
    what = problem.what[named.end() :] if named else problem.what
    if named and not (named[1].isdigit() or named[1] in (*WORDS, "compare", "group")):
        what = f"the {named[1].replace('_', ' ')} {what}"
    return " ".join(f"{part}: {what.replace('..', '.')} {problem.hint} It stays as it was.".split())


@pages.post("/<key>/discard")
def discard(key: str) -> Any:
    """Discards the draft: the route is as it is live."""
    with work() as unit:
        operations.discard_draft(unit, key)
    flash("The draft is discarded; you see what is live.", "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/switch")
def switch(key: str) -> Any:
    """Makes the route as it stands live and switches it on; or switches it off."""
    back = url_for(".index") if request.form.get("back") == url_for(".index") else url_for(".edit", key=key)
    return _switch_on(key, back) if request.form.get("on") == "yes" else _switch_off(key, back)


@pages.post("/-/of-message")
def of_message() -> Any:
    """Makes the route that sends a message about its event by a channel, and switches it on; where that can't be yet,
    it is there, off, and says why.
    """
    message, channel = request.form.get("message", ""), request.form.get("channel", "")
    found = live().setup.messages.get(message)
    if found is None or not found.tells_of or channel not in found.channels():
        flash("The message is no longer live as it was. Look at it again.", "bad")
        return redirect(url_for("messages.index"))
    with work_or_back(url_for("messages.edit", key=message, channel=channel)) as unit:
        made = stages.set_up(unit, found.tells_of, channel, message, None, [])
    return _switch_on(made.route, url_for(".edit", key=made.route))


def _switch_off(key: str, back: str) -> Any:
    with work() as unit:
        held = operations.switch_off(unit, key, request.form.get("scheduled") == "hold")
    if held:
        flash(f"The route is off, and {held} of its sends are held until it is on again.", "good")
    else:
        flash("The route is off. What it has already scheduled still goes out.", "good")
    return redirect(back)


def _switch_on(key: str, back: str) -> Any:
    late = request.form.get("late", "send")
    try:
        with work() as unit:
            made = operations.publish_and_switch_on(unit, key, late, request.form.get("override") == "yes")
    except ChecksFailed as error:
        return render_template(
            "checks/failed.html",
            outcomes=error.outcomes,
            what=stored(key).spec.name,
            to=url_for(".switch", key=key),
            back=url_for(".edit", key=key),
            carried={"on": "yes", "late": late},
        ), 409
    except Invalid as error:
        flash(f"Not switched on: {error.problems[0].what} {error.problems[0].hint}", "bad")
        return redirect(url_for(".edit", key=key))
    more = f" {made.scheduled} sends that were held go out" if made.scheduled or made.dropped else ""
    more += f", {made.dropped} whose time had passed do not." if made.dropped else "." if more else ""
    flash(f"The route is live. Only events from now on count; nobody is written to about the past.{more}", "good")
    return redirect(back)


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with work() as unit:
        operations.delete(unit, key)
    return redirect(url_for(".index", gone=key))


@pages.post("/<key>/restore")
def restore(key: str) -> Any:
    with work_or_back(url_for(".index", gone=key), "Not restored") as unit:
        operations.restore(unit, key)
    flash("The route is restored, and off.", "good")
    return redirect(url_for(".edit", key=key))
