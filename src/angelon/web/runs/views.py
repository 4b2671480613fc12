"""Routes run by hand: orders chosen, questions asked, everything shown before anything is sent, then the result of
each.
"""

from __future__ import annotations

import csv
import io
import secrets
from collections import Counter
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for
from sqlmodel import col, select

from angelon.core.specs import Route
from angelon.core.values import Value
from angelon.db.tables import OrderRow, RouteRow, RunRow, SendRow
from angelon.engine.byhand import SetupChanged, look, run_once
from angelon.web.numbers import row_ids
from angelon.web.routes.sentence import names, rendered
from angelon.web.services import live, services, session, store

pages = Blueprint("runs", __name__, url_prefix="/runs", template_folder="templates")

MOST = 2000


def _live_routes() -> dict[str, Route]:
    """The routes that are switched on: only what is live can be run."""
    return {active.route.key: active.route for active in live().setup.routes}


@pages.get("/new")
def new() -> Any:
    """Which route, on which orders: ticked on the page of orders, or given by number or as CSV."""
    ids = row_ids(request.args.getlist("order"))[:MOST]
    found = (
        list(session().exec(select(OrderRow).where(col(OrderRow.id).in_(ids), OrderRow.store_id == store().id)))
        if ids
        else []
    )
    return render_template(
        "runs/new.html", orders=found, routes=_live_routes(), chosen=request.args.get("route", ""), runs=_runs()
    )


def _runs() -> list[tuple[RunRow, str]]:
    by_key = names()["routes"]
    called = {
        row.id: by_key.get(row.key, row.key)
        for row in session().exec(select(RouteRow).where(RouteRow.store_id == store().id))
    }
    rows = session().exec(select(RunRow).where(RunRow.store_id == store().id).order_by(col(RunRow.id).desc()).limit(10))
    return [(row, called.get(row.route_id, "a route that is gone")) for row in rows]


def _orders() -> tuple[list[OrderRow], list[str], list[str]]:
    """The orders of the form, each once; what was given twice; what is no order."""
    ids = row_ids(request.form.getlist("order"))
    file = request.files.get("file")
    data = file.read(5_000_000).decode("utf-8-sig", "replace") if file and file.filename else ""
    wanted = [*references(data), *references(request.form.get("numbers", ""))][:MOST]
    twice = [number for number, times in Counter(wanted).items() if times > 1]
    rows: dict[int, OrderRow] = (
        {
            row.id or 0: row
            for row in session().exec(
                select(OrderRow).where(col(OrderRow.id).in_(ids), OrderRow.store_id == store().id)
            )
        }
        if ids
        else {}
    )
    unknown = []
    names_of = {}
    for start in range(0, len(wanted), 500):
        part = list(dict.fromkeys(wanted[start : start + 500]))
        for row in session().exec(
            select(OrderRow).where(
                OrderRow.store_id == store().id, col(OrderRow.number).in_(part) | col(OrderRow.reference).in_(part)
            )
        ):
            names_of[row.number] = names_of[row.reference] = row
    for number in dict.fromkeys(wanted):
        found = names_of.get(number)
        if found is None:
            unknown.append(number)
        else:
            rows[found.id or 0] = found
    return list(rows.values())[:MOST], twice, unknown


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
def preview() -> Any:
    """What would be sent to whom, before anything is."""
    route = _live_routes().get(request.form.get("route", ""))
    if route is None:
        flash("Choose a route that is live.", "bad")
        return redirect(url_for(".new"))
    orders, twice, unknown = _orders()
    if not orders:
        flash(
            "None of that is an order here: " + ", ".join(unknown[:5]) + "."
            if unknown
            else "Choose at least one order: tick it on the page of orders, write its number, or give a CSV file.",
            "bad",
        )
        return redirect(url_for(".new", route=route.key))
    return _looked(route, orders, twice, unknown)


def _looked(route: Route, orders: list[OrderRow], twice: list[str], unknown: list[str]) -> Any:
    answers, again = _asked(route)
    chosen = look(session(), live(), route, orders, again, answers, g.now)
    sends = [send for one in chosen if one.decision for send in one.decision.sends if send.state.value == "scheduled"]
    sample = next(((send, made) for send in sends if (made := rendered(send, live())) is not None), None)
    return render_template(
        "runs/look.html",
        route=route,
        chosen=chosen,
        twice=twice,
        unknown=unknown,
        answers=answers,
        again=again,
        number=len(sends),
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
    orders, twice, unknown = _orders()
    once = request.form.get("once", "")[:60]
    if not once:
        return _looked(route, orders, twice, unknown) if orders else redirect(url_for(".new", route=route.key))
    answers, again = _asked(route)
    try:
        run_id, started = run_once(
            services().database,
            live(),
            route,
            [order.id or 0 for order in orders],
            again,
            answers,
            services().clock,
            once,
        )
    except SetupChanged:
        flash("The set-up was changed just now. Look at what would be sent once more.", "bad")
        return _looked(route, orders, twice, unknown)
    if run_id is None:
        flash(
            "Nothing would be sent, so nothing was started. Tick an order to send to it again, or choose others.", "bad"
        )
        return _looked(route, orders, twice, unknown) if orders else redirect(url_for(".new", route=route.key))
    if started:
        services().bell.ring()
    else:
        flash("This run was started already; here it is.", "good")
    return redirect(url_for(".one", run_id=run_id))


@pages.get("/<int:run_id>")
def one(run_id: int) -> Any:
    run = session().get(RunRow, run_id)
    if run is None or run.store_id != store().id:
        abort(404, "There is no such run.")
    route = session().get(RouteRow, run.route_id)
    sends = {send.id: send for send in session().exec(select(SendRow).where(SendRow.run_id == run_id))}
    states = Counter(send.state for send in sends.values())
    under_way = sum(states[state] for state in ("scheduled", "sending", "retrying"))
    key = route.key if route else ""
    by_reason = Counter(
        result["why"].replace(result["number"], "…") for result in run.results or [] if not result["sends"]
    )
    return render_template(
        "runs/one.html",
        run=run,
        key=key,
        route=names()["routes"].get(key, key),
        sends=sends,
        states=states,
        under_way=under_way,
        by_reason=by_reason,
    )


def runs_of(order_id: int) -> list[tuple[RunRow, str]]:
    """The runs by hand that an order was part of, newest first, with the route's name."""
    ids = {
        run_id
        for run_id in session().exec(
            select(SendRow.run_id).where(SendRow.order_id == order_id, col(SendRow.run_id).is_not(None))
        )
    }
    rows = session().exec(select(RunRow).where(col(RunRow.id).in_(ids)).order_by(col(RunRow.id).desc())) if ids else []
    by_key = names()["routes"]
    called = {id_: by_key.get(key, key) for key, id_ in live().route_ids.items()}
    return [(row, called.get(row.route_id, "a route that is gone")) for row in rows]
