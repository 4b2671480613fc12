"""Manual runs: orders chosen, questions asked, everything shown before anything is sent, then the result of each."""

from __future__ import annotations

import csv
import io
import secrets
from collections import Counter
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.specs import Route
from angelon.core.values import Value
from angelon.db import orders, sends
from angelon.db.tables import OrderRow, RunRow
from angelon.engine.operations.manual_runs import SetupChanged, execute, preview
from angelon.web.numbers import row_ids
from angelon.web.routes.sentence import rendered
from angelon.web.services import actor, live, names, read_anew, services, session, store_id

pages = Blueprint("runs", __name__, url_prefix="/runs", template_folder="templates")

MOST = 2000


def _live_routes() -> dict[str, Route]:
    """The routes that are switched on: only what is live can be run."""
    return {active.route.key: active.route for active in live().setup.routes if not active.route.handler}


@pages.get("/new")
def new() -> Any:
    """Which route, on which orders: ticked on the page of orders, or given by number or as CSV."""
    found = orders.by_ids(session(), store_id(), row_ids(request.args.getlist("order"))[:MOST])
    chosen = request.args.get("route", "")
    runs = _named(sends.runs(session(), store_id()))
    return render_template("runs/new.html", orders=found, routes=_live_routes(), chosen=chosen, runs=runs)


def _named(rows: list[RunRow]) -> list[tuple[RunRow, str]]:
    """Runs with their route's name."""
    called = names()["routes"]
    keys = {row.id: live().route_key(row.route_id) for row in rows}
    return [(row, called.get(keys[row.id], "a route that is gone")) for row in rows]


def _orders() -> tuple[list[OrderRow], list[str], list[str]]:
    """The orders of the form, each once; what was given twice; what is no order."""
    file = request.files.get("file")
    data = file.read(5_000_000).decode("utf-8-sig", "replace") if file and file.filename else ""
    wanted = [*references(data), *references(request.form.get("numbers", ""))][:MOST]
    twice = [number for number, times in Counter(wanted).items() if times > 1]
    ticked = orders.by_ids(session(), store_id(), row_ids(request.form.getlist("order")))
    rows: dict[int, OrderRow] = {row.id or 0: row for row in ticked}
    found = orders.by_reference(session(), store_id(), wanted)
    rows |= {found[number].id or 0: found[number] for number in wanted if number in found}
    return list(rows.values())[:MOST], twice, [number for number in dict.fromkeys(wanted) if number not in found]


def references(text: str) -> list[str]:
    """Order numbers of a CSV file or a list: the column `number`, `reference` or `order` where there is a heading, else
    the first.
    """
    if not text.strip():
        return []
    try:
        dialect: Any = csv.Sniffer().sniff(text[:4000], delimiters=",;\t")
    except csv.Error:
        dialect = csv.excel
    try:
        rows = [row for row in csv.reader(io.StringIO(text, newline=""), dialect) if any(cell.strip() for cell in row)]
    except csv.Error:  # a cell of over 128 KB, a quote that never ends: no list of numbers
        rows = [[line] for line in text.splitlines() if line.strip()]
    heading = [cell.strip().casefold() for cell in rows[0]] if rows else []
    column = next(
        (
            heading.index(name)
            for name in ("number", "order number", "order_number", "reference", "order", "order_id")
            if name in heading
        ),
        None,
    )
    body = rows[1:] if column is not None else rows
    return [row[column or 0].strip() for row in body if len(row) > (column or 0) and row[column or 0].strip()]


def _asked(route: Route) -> tuple[dict[str, Value], set[int]]:
    """What the form answers to the route's questions, and for which orders the route is to speak again."""
    answers: dict[str, Value] = {
        question.variable: request.form.get(f"answer.{question.variable}", "").strip() or None
        for question in route.asks
    }
    return answers, set(row_ids(request.form.getlist("again")))


@pages.post("/look")
def show_preview() -> Any:
    """What would be sent to whom, before anything is."""
    route = _live_routes().get(request.form.get("route", ""))
    if route is None:
        flash("Choose a route that is live.", "bad")
        return redirect(url_for(".new"))
    chosen, twice, unknown = _orders()
    if not chosen:
        none = "Choose at least one order: tick it on the page of orders, write its number, or give a CSV file."
        flash("None of that is an order here: " + ", ".join(unknown[:5]) + "." if unknown else none, "bad")
        return redirect(url_for(".new", route=route.key))
    return _preview(route, chosen, twice, unknown)


def _preview(route: Route, chosen: list[OrderRow], twice: list[str], unknown: list[str]) -> Any:
    answers, again = _asked(route)
    previews = preview(session(), live(), route, chosen, again, answers, g.now)
    planned = [
        send for one in previews if one.decision for send in one.decision.sends if send.state.value == "scheduled"
    ]
    sample = next(((send, made) for send in planned if (made := rendered(send, live())) is not None), None)
    return render_template(
        "runs/look.html",
        route=route,
        chosen=previews,
        twice=twice,
        unknown=unknown,
        answers=answers,
        again=again,
        number=len(planned),
        sample=sample,
        names=names(),
        once=secrets.token_urlsafe(12),
    )


@pages.post("")
def start() -> Any:
    """Carries out what was shown."""
    route = _live_routes().get(request.form.get("route", ""))
    if route is None:
        flash("The route is no longer live. Switch it on, and choose again.", "bad")
        return redirect(url_for(".new"))
    chosen, twice, unknown = _orders()
    once = request.form.get("once", "")[:60]
    back = redirect(url_for(".new", route=route.key))
    if not once:
        return _preview(route, chosen, twice, unknown) if chosen else back
    answers, again = _asked(route)
    ids = [order.id or 0 for order in chosen]
    try:
        run_id, started = execute(services().installation, live(), route, ids, again, answers, once, actor())
    except SetupChanged:
        read_anew()
        flash("The set-up was changed just now. Look at what would be sent once more.", "bad")
        return _preview(route, chosen, twice, unknown)
    read_anew()
    if run_id is None:
        flash(
            "Nothing would be sent, so nothing was started. Tick an order to send to it again, or choose others.", "bad"
        )
        return _preview(route, chosen, twice, unknown) if chosen else back
    if not started:
        flash("This run was started already; here it is.", "good")
    return redirect(url_for(".one", run_id=run_id))


@pages.get("/<int:run_id>")
def one(run_id: int) -> Any:
    run = session().get(RunRow, run_id)
    if run is None or run.store_id != store_id():
        abort(404, "There is no such run.")
    made = {send.id: send for send in sends.of_run(session(), run_id)}
    states = Counter(send.state for send in made.values())
    results = run.results or []
    return render_template(
        "runs/one.html",
        run=run,
        key=live().route_key(run.route_id),
        route=_named([run])[0][1],
        sends=made,
        states=states,
        under_way=sum(states[state] for state in ("scheduled", "sending", "retrying")),
        by_reason=Counter(one["why"].replace(one["number"], "…") for one in results if not one["sends"]),
    )


def runs_of(order_id: int) -> list[tuple[RunRow, str]]:
    """The manual runs that an order was part of, newest first, with the route's name."""
    return _named(sends.runs_of_order(session(), order_id))
