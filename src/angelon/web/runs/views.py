"""Sent by hand: a route or a message, for orders, customers, an audience or the rows of a file; questions asked,
everything shown before anything is sent, then progress and what came of each.
"""

from __future__ import annotations

import json
import secrets
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from flask import Blueprint, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.addresses import check_email
from angelon.core.planning.prompts import prompts_for, read_answer, read_answers
from angelon.core.problems import Invalid, Problem
from angelon.core.recipes.context import StepFailed
from angelon.core.specs import Route
from angelon.core.specs.condition import Compare, Group
from angelon.core.specs.route import Prompt
from angelon.core.states import State
from angelon.core.values import Value, show, unpack
from angelon.db.log import orders, sends
from angelon.db.tables import OrderRow, RunRow
from angelon.engine.operations import manual_runs as operations
from angelon.engine.operations.manual_runs import OrderPreview, SetupChanged, Wish, execute, preview
from angelon.web.numbers import row_ids
from angelon.web.routes.sentence import rendered
from angelon.web.runs.lists import numbered_rows
from angelon.web.services import actor, live, names, read_anew, services, session, store_id, work, work_or_back

pages = Blueprint("runs", __name__, url_prefix="/runs", template_folder="templates")

MOST = 2000
PRICED = 300
"""Messages whose price is worked out; that of the others is estimated from these."""
MESSAGE = "message:"


@pages.before_request
def _take_long_lists() -> None:
    """The orders of a run, and what a file says of each, are fields of a form."""
    request.max_form_memory_size, request.max_form_parts = 10_000_000, MOST + 500


def _live_routes() -> dict[str, Route]:
    """The routes that are switched on: only what is live can be run."""
    return {active.route.key: active.route for active in live().setup.routes if not active.route.handler}


def _messages() -> list[tuple[str, str, str]]:
    """What can be sent without a route: (the form's value, the message's name, channel) of each channel of each
    published message that a gateway is there for.
    """
    channels = {gateway.channel for gateway in live().setup.gateways.values()}
    return [
        (f"{MESSAGE}{key}:{channel}", message.name, channel)
        for key, message in sorted(live().setup.messages.items(), key=lambda one: one[1].name)
        for channel in message.channels()
        if channel in channels and channel != "call"
    ]


def _route(what: str) -> Route | None:
    """What is chosen: a live route, or a message as a route that waits for nothing."""
    if not what.startswith(MESSAGE):
        return _live_routes().get(what)
    key, _, channel = what.removeprefix(MESSAGE).partition(":")
    message = live().setup.messages.get(key)
    gateways = [one for one in live().setup.gateways.values() if one.channel == channel]
    if message is None or channel not in message.channels() or not gateways:
        return None
    wanted = request.values.get("gateway", "")
    gateway = next((one for one in gateways if one.key == wanted), gateways[0])
    sender = request.values.get("sender", "")
    known = {one.key for one in live().setup.store.senders}
    return operations.by_hand(message, channel, gateway.key, sender if sender in known and channel == "email" else "")


@pages.get("/new")
def new() -> Any:
    """What, and for whom: ticked on the page of orders, given by number or as a file, a customer, an audience."""
    found = orders.by_ids(session(), store_id(), row_ids(request.args.getlist("order"))[:MOST])
    people = row_ids(request.args.getlist("person"))
    found += orders.newest_of_customers(session(), store_id(), people, MOST) if people else []
    return render_template(
        "runs/new.html",
        orders=found,
        routes=_live_routes(),
        messages=_messages(),
        segments=live().setup.store.segments,
        chosen=request.args.get("route", ""),
        segment=request.args.get("segment", ""),
        runs=_named(sends.runs(session(), store_id())),
    )


def _named(rows: list[RunRow]) -> list[tuple[RunRow, str]]:
    """Runs with their route's name."""
    called = names()["routes"]
    keys = {row.id: live().route_key(row.route_id) for row in rows}
    return [(row, called.get(keys[row.id], "a route that is gone")) for row in rows]


@dataclass
class Whom:
    """For which orders: each once; what a file says of each, as it is written; what was wrong with the list."""

    orders: list[OrderRow] = field(default_factory=list)
    said: dict[int, dict[str, str]] = field(default_factory=dict)
    twice: list[str] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    segment: str = ""
    cut: bool = False
    """Whether there were more orders than one run takes."""


def _whom() -> Whom:
    form, made = request.form, Whom()
    file = request.files.get("file")
    data = file.read(5_000_000).decode("utf-8-sig", "replace") if file and file.filename else ""
    rows = numbered_rows(data, live().setup.variables)
    wanted = [*(number for number, _ in rows), *(n for n, _ in numbered_rows(form.get("numbers", ""), {}))]
    made.cut, wanted = len(wanted) > MOST, wanted[:MOST]
    made.twice = [number for number, times in Counter(wanted).items() if times > 1]
    found = orders.by_reference(session(), store_id(), wanted)
    made.unknown = [number for number in dict.fromkeys(wanted) if number not in found]
    chosen = {row.id or 0: row for row in orders.by_ids(session(), store_id(), row_ids(form.getlist("order")))}
    chosen |= {found[number].id or 0: found[number] for number in wanted if number in found}
    made.segment = form.get("segment", "")
    if made.segment and not chosen:
        newest = orders.newest_of_customers(session(), store_id(), [], MOST + 1)
        chosen |= {row.id or 0: row for row in newest}
    made.cut = made.cut or len(chosen) > MOST
    made.orders = list(chosen.values())[:MOST]
    made.said = {found[number].id or 0: said for number, said in rows if number in found and said}
    try:
        kept = json.loads(form.get("said", "{}"))
        made.said |= {int(id_): {str(n): str(v) for n, v in said.items()} for id_, said in kept.items()}
    except (ValueError, AttributeError, RecursionError):
        pass  # written by the page itself: whoever changes it has nothing of it
    return made


def _wish(route: Route, whom: Whom) -> tuple[Wish, list[Problem]]:
    """What the form wishes, and what is wrong with it."""
    form = request.form
    typed = {name.removeprefix("answer."): text for name, text in form.items() if name.startswith("answer.")}
    answers, problems = read_answers(_prompts(route), typed, live().setup)
    of_order: dict[int, dict[str, Value]] = {}
    for id_, said in whom.said.items():
        for name, text in said.items():
            try:
                of_order.setdefault(id_, {})[name] = read_answer(name, text, live().setup)
            except StepFailed as error:
                number = next((row.number for row in whom.orders if row.id == id_), "")
                problems.append(Problem("file", f"Order {number}, column {name}: {error.what}", error.hint))
    copies = {}
    for name, label in (("cc", "Copy to"), ("reply_to", "Replies go to")):
        text = form.get(name, "").strip()
        try:
            copies[name] = check_email(text) if text else ""
        except ValueError as error:
            copies[name] = ""
            problems.append(Problem(name, f"{label}: “{text[:60]}” is no email address.", str(error)))
    if whom.segment:
        inside = Compare(of=f"segment.{whom.segment}", op="yes")
        only_if = Group(of=[inside, *([route.only_if] if route.only_if.of else [])])
        route = route.model_copy(update={"only_if": only_if})
    return Wish(route, answers, of_order, frozenset(row_ids(form.getlist("again"))), **copies), problems


def _prompts(route: Route) -> list[Prompt]:
    """What is asked: as the route says; for a message, each variable that it uses."""
    message = live().setup.messages.get(route.send)
    if route.asks or message is None or not request.form.get("route", "").startswith(MESSAGE):
        return list(route.asks)
    return prompts_for(message, route.channel, live().setup)


@pages.post("/look")
def show_preview() -> Any:
    """What would be sent to whom, before anything is."""
    route = _route(request.form.get("route", ""))
    if route is None:
        flash("Choose a route that is live, or a message.", "bad")
        return redirect(url_for(".new"))
    whom = _whom()
    if not whom.orders:
        none = "Choose at least one order: tick it on the page of orders, write its number, or give a file."
        flash("None of that is an order here: " + ", ".join(whom.unknown[:5]) + "." if whom.unknown else none, "bad")
        return redirect(url_for(".new", route=request.form.get("route")))
    return _preview(route, whom)


def _preview(route: Route, whom: Whom, status: int = 200) -> Any:
    wish, problems = _wish(route, whom)
    previews = preview(session(), live(), wish, whom.orders, g.now)
    outside = 0
    if whom.segment:
        inside = [one for one in previews if not _outside(one)]
        outside, previews = len(previews) - len(inside), inside
    planned = [send for one in previews if one.decision for send in one.decision.sends if send.state is State.SCHEDULED]
    sample = next(((send, made) for send in planned if (made := rendered(send, live())) is not None), None)
    answer = render_template(
        "runs/look.html",
        route=route,
        what=request.form.get("route", ""),
        prompts=_prompts(route),
        types={name: one.type.value for name, one in live().setup.variables.items()},
        gateways=[one for one in live().setup.gateways.values() if one.channel == route.channel],
        senders=live().setup.store.senders,
        chosen=previews,
        whom=whom,
        most=MOST,
        outside=outside,
        audience=next((one.name for one in live().setup.store.segments if one.key == whom.segment), ""),
        said=json.dumps(whom.said) if whom.said else "",
        again=wish.again,
        number=len(planned),
        cost=_cost(planned),
        reasons=Counter(one.decision.reason for one in previews if one.decision and one.decision.outcome != "send"),
        sample=sample,
        names=names(),
        me=getattr(g.get("person"), "email", ""),
        problems=problems,
        once=secrets.token_urlsafe(12),
    )
    return answer, 422 if problems else status


def _outside(one: OrderPreview) -> bool:
    """Whether an order's customer is not in the audience."""
    last = one.decision.trace[-1] if one.decision is not None and one.decision.trace else None
    return last is not None and last.part == "if" and one.decision is not None and one.decision.outcome == "no"


def _cost(planned: Sequence[Any]) -> tuple[Decimal, bool]:
    """What these messages cost at their gateways' prices, and whether that is an estimate."""
    total, some = Decimal(0), planned[:PRICED]
    for send in some:
        gateway, made = live().setup.gateways.get(send.gateway), rendered(send, live())
        total += gateway.cost(made.pieces) if gateway is not None and made is not None else 0
    if len(planned) > len(some):
        return (total / len(some) * len(planned)).quantize(Decimal("0.01")), True
    return total, False


@pages.post("")
def start() -> Any:
    """Carries out what was shown."""
    what = request.form.get("route", "")
    route = _route(what)
    if route is None:
        flash("The route is no longer live. Switch it on, and choose again.", "bad")
        return redirect(url_for(".new"))
    whom = _whom()
    once = request.form.get("once", "")[:60]
    back = redirect(url_for(".new", route=what))
    if not once:
        return _preview(route, whom) if whom.orders else back
    wish, problems = _wish(route, whom)
    if problems:
        return _preview(route, whom)
    if what.startswith(MESSAGE):
        try:
            with work() as unit:
                operations.keep_route(unit, route)
        except Invalid as error:
            flash(f"{error.problems[0].what} {error.problems[0].hint}", "bad")
            return _preview(route, whom)
    ids = [order.id or 0 for order in whom.orders]
    try:
        run_id, started = execute(services().installation, live(), wish, ids, once, actor())
    except SetupChanged:
        read_anew()
        flash("The set-up was changed just now. Look at what would be sent once more.", "bad")
        return _preview(route, whom)
    read_anew()
    if run_id is None:
        flash(
            "Nothing would be sent, so nothing was started. Tick an order to send to it again, or choose others.", "bad"
        )
        return _preview(route, whom) if whom.orders else back
    if not started:
        flash("This run was started already; here it is.", "good")
    return redirect(url_for(".one", run_id=run_id))


def _run(run_id: int) -> RunRow:
    run = session().get(RunRow, run_id)
    if run is None or run.store_id != store_id():
        abort(404, "There is no such run.")
    return run


@pages.get("/<int:run_id>")
def one(run_id: int) -> Any:
    run = _run(run_id)
    made = {send.id: send for send in sends.of_run(session(), run_id)}
    states = Counter(send.state for send in made.values())
    results = run.results or []
    return render_template(
        "runs/one.html",
        run=run,
        answers={name: show(unpack(value)) for name, value in (run.answers or {}).items() if value},
        key=live().route_key(run.route_id),
        route=_named([run])[0][1],
        sends=made,
        states=states,
        under_way=sum(states[state] for state in ("scheduled", "sending", "retrying")),
        paused=sum(1 for send in made.values() if send.state == "held" and send.reason == operations.PAUSED),
        by_reason=Counter(one["why"].replace(one["number"], "…") for one in results if not one["sends"]),
    )


@pages.post("/<int:run_id>")
def change(run_id: int) -> Any:
    """Pauses a run, lets it go on, or stops it."""
    _run(run_id)
    acts = {"pause": operations.pause, "go_on": operations.go_on, "stop": operations.stop}
    act = acts.get(request.form.get("act", ""))
    if act is None:
        abort(400, "That is nothing that can be done with a run.")
    here = url_for(".one", run_id=run_id)
    with work_or_back(here) as unit:
        moved = act(unit, run_id)
        unit.wake()
    said = {"pause": "held", "go_on": "scheduled again", "stop": "cancelled"}[request.form["act"]]
    flash(f"{moved} {'send is' if moved == 1 else 'sends are'} {said}.", "good")
    return redirect(here)


def runs_of(order_id: int) -> list[tuple[RunRow, str]]:
    """The manual runs that an order was part of, newest first, with the route's name."""
    return _named(sends.runs_of_order(session(), order_id))
