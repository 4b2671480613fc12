"""The pages of routes: list, the sentence with its rehearsal, switching on and off, copies and deletions."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from flask import Blueprint, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Route
from angelon.core.specs.base import read_spec
from angelon.core.specs.keys import key_of
from angelon.db import routes, sends, setup
from angelon.db.sends import Filter
from angelon.db.tables import RouteRow
from angelon.web.checks import gate
from angelon.web.routes.sentence import names, page, problems, spec_from
from angelon.web.services import live, services, session, store

pages = Blueprint("routes", __name__, url_prefix="/routes", template_folder="templates")


def row_of(key: str) -> RouteRow:
    """The route of an address; 404 where there is none."""
    row = setup.by_key(session(), RouteRow, store().id or 0, key)
    if row is None or row.gone_at is not None:
        abort(
            404,
            f"There is no route “{key}”."
            if row is None
            else f"The route “{key}” was deleted. It can be brought back on the page of routes.",
        )
    found: RouteRow = row
    return found


@pages.get("")
def index() -> Any:
    rows = []
    order = {type_: number for number, type_ in enumerate(event_types.LABELS)}
    called = names()
    for row in routes.all_of(session(), store().id or 0):
        route = Route.model_validate(setup.current_spec(session(), row))
        week = sends.counts(
            session(), store().id or 0, Filter(route_id=row.id, since=g.now - dt.timedelta(days=7)), "states"
        )
        rows.append((row, route, week, problems(route, called)))
    rows.sort(key=lambda r: (min((order.get(t, 99) for t in r[1].when), default=99), r[1].rank))
    gone = setup.by_key(session(), RouteRow, store().id or 0, request.args.get("gone", ""))
    return render_template(
        "routes/index.html", rows=rows, names=called, gone=gone if gone is not None and gone.gone_at else None
    )


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = key_of(name)
    if not key:
        flash("Give the route a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    gateways = sorted(live().setup.gateways.values(), key=lambda way: way.channel != "email")
    sources = list(live().setup.sources)
    spec: dict[str, Any] = {
        "key": key,
        "name": name,
        "gateway": gateways[0].key if gateways else "",
        "channel": gateways[0].channel if gateways else "email",
    }
    when = request.form.get("when", "")
    if when in event_types.LABELS:
        spec["when"] = [when]
    if len(sources) == 1:
        spec["sources"] = sources
    with services().database.writing() as writing:
        there = setup.by_key(writing, RouteRow, store().id or 0, key)
        if there and there.gone_at is None:
            flash(f"There is a route called “{key}” already. Choose another name.", "bad")
            return redirect(url_for(".index"))
        spec["key"] = routes.free_key(writing, store().id or 0, key)
        setup.save_draft(writing, RouteRow, store().id or 0, read_spec(Route, spec), g.now)
    return redirect(url_for(".edit", key=spec["key"]))


@pages.get("/<key>")
def edit(key: str) -> Any:
    return render_template("routes/edit.html", **page(row_of(key)))


@pages.post("/<key>")
def save(key: str) -> Any:
    """Keeps the draft after a change to one part; answers with the sentence and its rehearsal anew."""
    row = row_of(key)
    try:
        route = read_spec(Route, spec_from(request.form, setup.current_spec(session(), row)))
    except Invalid as error:
        if request.headers.get("X-Fragment"):
            return jsonify({"detail": in_words(error.problems[0])}), 422
        flash(in_words(error.problems[0]), "bad")
        return redirect(url_for(".edit", key=key))
    with services().database.writing() as writing:
        setup.save_draft(writing, RouteRow, store().id or 0, route, g.now)
    session().rollback()  # a fresh look: the request's session still sees what was there before
    if request.headers.get("X-Fragment"):
        return render_template("routes/_sentence.html", **page(row_of(key)))
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
    "once": "At most",
    "once_days": "At most",
    "guards": "Guarded",
    "rank": "Guarded",
    "otherwise": "Otherwise",
    "asks": "By hand",
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
    return " ".join(f"{part}: {what.replace('..', '.')} {problem.mend} It stays as it was.".split())


@pages.post("/<key>/discard")
def discard(key: str) -> Any:
    """Drops the draft: the route is as it is live."""
    with services().database.writing() as writing:
        row = setup.by_key(writing, RouteRow, store().id or 0, row_of(key).key)
        if row.live_id:
            row.draft = None
    flash("The draft is gone; you see what is live.", "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/switch")
def switch(key: str) -> Any:
    """Makes the route as it stands live and switches it on; or switches it off."""
    back = redirect(
        request.form.get("back") if request.form.get("back") == url_for(".index") else url_for(".edit", key=key)
    )
    row = row_of(key)
    if request.form.get("on") != "yes":
        with services().database.writing() as writing:
            fresh = setup.by_key(writing, RouteRow, store().id or 0, key)
            held = routes.hold(writing, fresh) if request.form.get("scheduled") == "hold" else 0
            setup.switch(writing, fresh, False, g.now)
        services().setups.forget()
        flash(
            f"The route is off, and {held} of its sends are held until it is on again."
            if held
            else "The route is off. What it has already scheduled still goes out.",
            "good",
        )
        return back
    route = Route.model_validate(setup.current_spec(session(), row))
    stops = [problem for problem in problems(route, names()) if problem.severity == "error"]
    if stops:
        flash(f"Not switched on: {stops[0].what} {stops[0].mend}", "bad")
        return redirect(url_for(".edit", key=key))
    red = gate.red_for_route(route)
    if red and request.form.get("although") != "yes":
        return render_template(
            "checks/red.html",
            outcomes=red,
            what=route.name,
            to=url_for(".switch", key=key),
            back=url_for(".edit", key=key),
            carried={"on": "yes", "late": request.form.get("late", "send")},
        ), 409
    with services().database.writing() as writing:
        fresh = setup.by_key(writing, RouteRow, store().id or 0, key)
        setup.publish(writing, fresh, g.now, gate.although(red))
        setup.switch(writing, fresh, True, g.now)
        scheduled, dropped = routes.let_go(writing, fresh, request.form.get("late", "send"), g.now)
    services().setups.forget()
    services().bell.ring()
    told = (
        f" {scheduled} sends that were held go out" + (f", {dropped} whose time had passed do not." if dropped else ".")
        if scheduled or dropped
        else ""
    )
    flash(f"The route is live. Only events from now on count; nobody is written to about the past.{told}", "good")
    return back


@pages.post("/<key>/copy")
def copy(key: str) -> Any:
    with services().database.writing() as writing:
        made = routes.copy(writing, setup.by_key(writing, RouteRow, store().id or 0, row_of(key).key), g.now)
        new = made.key
    flash("This is the copy. It is off; change what is to be different.", "good")
    return redirect(url_for(".edit", key=new))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with services().database.writing() as writing:
        routes.delete(writing, setup.by_key(writing, RouteRow, store().id or 0, row_of(key).key), g.now)
    services().setups.forget()
    return redirect(url_for(".index", gone=key))


@pages.post("/<key>/bring-back")
def bring_back(key: str) -> Any:
    with services().database.writing() as writing:
        row = setup.by_key(writing, RouteRow, store().id or 0, key)
        if row is None:
            abort(404, f"There is no route “{key}”.")
        routes.bring_back(writing, row)
    services().setups.forget()
    flash("The route is back, and off.", "good")
    return redirect(url_for(".edit", key=key))
