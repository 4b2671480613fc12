"""The pages of routes: list, the sentence with its rehearsal, switching on and off."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from flask import Blueprint, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.messages.templates import CantRender
from angelon.core.planning.plan import ActiveRoute, Decision, Event, Facts, compiled_part, decide
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message, Route
from angelon.core.specs.base import read_spec
from angelon.db import sends, setup, shapes
from angelon.db.sends import Filter
from angelon.db.setup import LiveSetup
from angelon.db.tables import MessageRow, RouteRow
from angelon.web import hand as hands
from angelon.web.services import live, services, session, store
from angelon.web.sources.bench import drifting

pages = Blueprint("routes", __name__, url_prefix="/routes", template_folder="templates")

LONG_AGO = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


def _row(key: str) -> RouteRow:
    row = setup.by_key(session(), RouteRow, store().id or 0, key)
    if row is None:
        abort(404, f"There is no route “{key}”.")
    found: RouteRow = row
    return found


@pages.get("")
def index() -> Any:
    rows = []
    order = {type_: number for number, type_ in enumerate(event_types.LABELS)}
    for row in session().exec(setup.select(RouteRow).where(RouteRow.store_id == store().id)):
        route = Route.model_validate(setup.current_spec(session(), row))
        week = sends.counts(session(), store().id or 0, Filter(route_id=row.id, since=g.now - dt.timedelta(days=7)), "states")
        rows.append((row, route, week, problems_of(route, live())))
    rows.sort(key=lambda r: min((order.get(t, 99) for t in r[1].when), default=99))
    return render_template("routes/index.html", rows=rows, names=_names())


def _names() -> dict[str, dict[str, str]]:
    """What sources, messages and gateways are called, by key. Drafts count."""
    messages = {}
    for row in session().exec(setup.select(MessageRow).where(MessageRow.store_id == store().id)):
        messages[row.key] = setup.current_spec(session(), row).get("name", row.key)
    return {
        "sources": {key: source.name for key, source in live().setup.sources.items()},
        "messages": messages,
        "gateways": {key: gateway.name for key, gateway in live().setup.gateways.items()},
    }


def problems_of(route: Route, now: LiveSetup) -> list[Problem]:
    """What keeps a route from being switched on."""
    found = []
    if not route.when:
        found.append(Problem("when", "The route waits for nothing yet.", "Choose at least one event."))
    if not route.sources:
        found.append(Problem("from", "The route listens to no source.", "Choose at least one."))
    found += [Problem("from", f"There is no source “{key}” any more.", "Choose another.") for key in route.sources if key not in now.setup.sources]
    message = now.setup.messages.get(route.send)
    if message is None:
        said = "The route's message is not published yet." if route.send else "The route says nothing yet."
        found.append(Problem("send", said, "Publish it on its page." if route.send else "Choose a message."))
    elif route.channel not in message.channels():
        found.append(Problem("send", f"“{message.name}” has no {route.channel} part.", "Write one, or choose another message."))
    if route.gateway not in now.setup.gateways:
        found.append(Problem("by", "No gateway is chosen.", "Choose one."))
    return found


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
    if not key:
        flash("Give the route a name with at least one letter or digit.", "bad")
        return redirect(url_for(".index"))
    gateways = list(live().setup.gateways)
    sources = list(live().setup.sources)
    spec: dict[str, Any] = {"key": key, "name": name, "gateway": gateways[0] if gateways else ""}
    when = request.form.get("when", "")
    if when in event_types.LABELS:
        spec["when"] = [when]
    if len(sources) == 1:
        spec["sources"] = sources
    with services().database.writing() as writing:
        if setup.by_key(writing, RouteRow, store().id or 0, key):
            flash(f"There is a route called “{key}” already. Choose another name.", "bad")
            return redirect(url_for(".index"))
        setup.save_draft(writing, RouteRow, store().id or 0, read_spec(Route, spec), g.now)
    return redirect(url_for(".edit", key=key))


@pages.get("/<key>")
def edit(key: str) -> Any:
    row = _row(key)
    return render_template("routes/edit.html", **_page(row))


def _page(row: RouteRow) -> dict[str, Any]:
    route = Route.model_validate(setup.current_spec(session(), row))
    hand = hands.take(live(), route.sources or None, route.when or None)
    if hand.event is None:
        hand = hands.take(live(), route.sources or None)
    decision, mail = rehearse(route, hand, live())
    revision = session().get(setup.RevisionRow, row.live_id) if row.live_id else None
    total = sends.counts(session(), store().id or 0, Filter(route_id=row.id), "states")
    return {
        "row": row, "route": route, "hand": hand, "decision": decision, "mail": mail, "revision": revision, "problems": problems_of(route, live()), "names": _names(),
        "types": event_types.LABELS, "by_part": {line.part: line for line in decision.trace} if decision else {}, "total": sum(total.values()),
        "drifts": _drifts(route), "gateway_channel": {key: gateway.channel for key, gateway in live().setup.gateways.items()},
    }  # fmt: skip


def _drifts(route: Route) -> list[tuple[str, str, Any]]:
    """(source key, source name, drift) of every field that this route's message or recipient needs and that has drifted."""
    needed = {"reading.email", "reading.reference"}
    message = live().setup.messages.get(route.send)
    for locale in message.email if message else ():
        try:
            needed |= {f"recipes.{name}" for name in compiled_part(message, "email", locale, live().setup.store).names}
        except Invalid:
            continue
    found = []
    for key in route.sources:
        source = live().setup.sources.get(key)
        if source:
            drifts = drifting(source, shapes.of_source(session(), live().source_ids[key]))
            found += [(key, source.name, told) for mark, told in drifts.items() if mark in needed]
    return found


def rehearse(route: Route, hand: hands.Hand, now: LiveSetup) -> tuple[Decision | None, Any]:
    """What a route as it stands would make of the event in hand; nothing is stored and nothing sent."""
    if hand.event is None or hand.reading is None or hand.variables is None or hand.source is None:
        return None, None
    event = Event(hand.event.id, hand.event.type, hand.event.name, hand.source.key, hand.payload, hand.event.received_at, hand.event.was, hand.event.now)
    decision = decide(event, hand.reading, hand.variables, ActiveRoute(route, LONG_AGO), now.setup, Facts(), g.now)
    mail = None
    message: Message | None = now.setup.messages.get(route.send)
    if decision.send and decision.send.values and message:
        try:
            mail = compiled_part(message, route.channel, decision.send.locale, now.setup.store).render(decision.send.values)
        except (CantRender, Invalid):
            mail = None
    return decision, mail


@pages.post("/<key>")
def save(key: str) -> Any:
    """Keeps the draft after a change to one part; answers with the sentence and its rehearsal anew."""
    row = _row(key)
    spec = setup.current_spec(session(), row)
    form = request.form
    for part in ("name", "send", "gateway", "once"):
        if part in form:
            spec[part] = form[part]
    for part in ("when", "sources"):
        if f"{part}.there" in form:
            spec[part] = form.getlist(part)
    if "own_type" in form and form["own_type"].strip():
        spec["when"] = [*spec.get("when", []), form["own_type"].strip()]
    try:
        route = read_spec(Route, spec)
    except Invalid as error:
        if request.headers.get("X-Fragment"):
            return jsonify({"detail": str(error.problems[0])}), 422
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".edit", key=key))
    with services().database.writing() as writing:
        setup.save_draft(writing, RouteRow, store().id or 0, route, g.now)
    session().rollback()  # a fresh look: the request's session still sees what was there before
    if request.headers.get("X-Fragment"):
        return render_template("routes/_sentence.html", **_page(_row(key)))
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/switch")
def switch(key: str) -> Any:
    """Makes the route as it stands live and switches it on; or switches it off."""
    row = _row(key)
    on = request.form.get("on") == "yes"
    route = Route.model_validate(setup.current_spec(session(), row))
    problems = problems_of(route, live())
    if on and problems:
        flash(f"Not switched on: {problems[0].what} {problems[0].mend}", "bad")
        return redirect(url_for(".edit", key=key))
    with services().database.writing() as writing:
        fresh = setup.by_key(writing, RouteRow, store().id or 0, key)
        if on:
            setup.publish(writing, fresh, g.now)
        setup.switch(writing, fresh, on, g.now)
    services().setups.forget()
    if on:
        flash("The route is live. Only events from now on count; nobody is written to about the past.", "good")
    else:
        flash("The route is off. What it has already scheduled still goes out.", "good")
    return redirect(url_for(".edit", key=key))
