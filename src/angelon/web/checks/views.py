"""The pages of checks: kept from a rehearsal, carried out, loosened, taken as right anew."""

from __future__ import annotations

from typing import Any

import yaml
from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.payload.body import NotReadable
from angelon.core.planning import checking
from angelon.core.problems import Invalid
from angelon.core.specs.base import read_spec
from angelon.core.specs.check import Check
from angelon.core.specs.keys import key_of
from angelon.core.values import show
from angelon.db import checks, facts
from angelon.db.tables import CheckRow, EventRow
from angelon.engine.event_reader import read_event
from angelon.web.checks import gate
from angelon.web.routes.sentence import names
from angelon.web.routes.views import row_of
from angelon.web.services import live, services, session, store

pages = Blueprint("checks", __name__, url_prefix="/checks", template_folder="templates")


@pages.get("")
def index() -> Any:
    return render_template(
        "checks/index.html",
        rows=[(row, Check.model_validate(row.spec)) for row in checks.all_of(session(), store().id or 0)],
        names=names(),
        label=event_types.label,
    )


@pages.post("/run")
def run_all() -> Any:
    found = gate.run_all()
    red = sum(1 for _, outcome in found if not outcome.green)
    flash(
        f"{red} of {len(found)} checks are red." if red else f"All {len(found)} checks are green.",
        "bad" if red else "good",
    )
    return redirect(url_for(".index"))


def _row(key: str) -> CheckRow:
    row = checks.by_key(session(), store().id or 0, key)
    if row is None:
        abort(404, f"There is no check “{key}”.")
    return row


@pages.get("/<key>")
def one(key: str) -> Any:
    row = _row(key)
    check = Check.model_validate(row.spec)
    (outcome,) = gate.run([row], gate.routes_as(drafts=True))
    with services().database.writing() as writing:
        checks.note(writing, [(writing.merge(row), outcome.green)], g.now)
    return render_template(
        "checks/one.html",
        row=row,
        check=check,
        outcome=outcome,
        names=names(),
        label=event_types.label,
        values=_values(check),
    )


def _values(check: Check) -> list[str]:
    """The names of values that could be looked at: those that its sends have, and those chosen."""
    route = gate.routes_as(drafts=True).get(check.route)
    if route is None or check.source not in live().setup.sources:
        return []
    sends = checking.decision_of(check, route, live().setup).sends
    return sorted(
        {name for send in sends for name in send.values if name != "order"}
        | {name for one in check.sends for name in one.values}
    )


@pages.post("/keep")
def keep() -> Any:
    """Keeps an event and what comes of it by a route as a check."""
    row = row_of(request.form.get("route", ""))
    event = session().get(EventRow, request.form.get("event", ""))
    if event is None or live().source_key(event.source_id) not in live().setup.sources:
        abort(404, "There is no such event.")
    key = live().source_key(event.source_id)
    try:
        found = read_event(session(), live(), event)
    except NotReadable as error:
        abort(409, f"This event can’t be kept as a check: {error.problem.what}")
    payload, reading = found.event.payload, found.reading
    _, contact_id, _, statuses = facts.order(session().connection(), event.source_id, reading.reference[:200])
    route = gate.routes_as(drafts=True)[row.key]
    name = f"{route.name}: {reading.number or event.name}"
    wanted = key_of(f"{row.key} {reading.number or event.name}") or "check"
    with services().database.writing() as writing:
        check = Check(
            key=checks.free_key(writing, store().id or 0, wanted),
            name=name[:100],
            route=row.key,
            source=key,
            type=event.type,
            event=event.name,
            was=event.was,
            now=event.now,
            at=event.received_at,
            payload=payload,
            statuses=[
                *dict.fromkeys(
                    [
                        *statuses[: _position(statuses, reading.text("status"))],
                        *([reading.text("status")] if reading.text("status") else []),
                    ]
                )
            ],
            orders=facts.contact(session().connection(), contact_id).orders if contact_id else 1,
        )
        made = checking.expected_of(check, route, live().setup)
        checks.save(writing, store().id or 0, made)
    flash("Kept. From now on it is carried out whenever the route or its message goes live.", "good")
    return redirect(url_for(".one", key=made.key))


def _position(statuses: tuple[str, ...], status: str) -> int:
    """Up to where an order's statuses had come when it had this one."""
    return statuses.index(status) + 1 if status in statuses else len(statuses)


@pages.post("/<key>")
def change(key: str) -> Any:
    """Takes the form: name, what of the texts counts, chosen values, what has to stand in the text."""
    row = _row(key)
    check = Check.model_validate(row.spec)
    form = request.form
    spec = check.model_dump(mode="json")
    spec |= {"name": form.get("name", check.name), "texts": form.get("texts", check.texts)}
    route = gate.routes_as(drafts=True).get(check.route)
    decided = (
        checking.decision_of(check, route, live().setup)
        if route is not None and check.source in live().setup.sources
        else None
    )
    for number, send in enumerate(spec["sends"]):
        chosen = form.getlist(f"values.{number}")
        kept = send["values"]
        came = decided.sends[number].values if decided and number < len(decided.sends) else {}
        send["values"] = {name: kept.get(name) or show(came.get(name), send["locale"]) for name in chosen}
        send["contains"] = [line.strip() for line in form.get(f"contains.{number}", "").splitlines() if line.strip()]
    try:
        made = read_spec(Check, spec)
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".one", key=key))
    with services().database.writing() as writing:
        checks.save(writing, store().id or 0, made)
    flash("Kept.", "good")
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/right")
def right(key: str) -> Any:
    """Takes what comes out now as what must come out."""
    check = Check.model_validate(_row(key).spec)
    route = gate.routes_as(drafts=True).get(check.route)
    if route is None or check.source not in live().setup.sources:
        flash("Its route or source is gone: there is nothing to take as right. Delete the check.", "bad")
        return redirect(url_for(".one", key=key))
    chosen = tuple(dict.fromkeys(name for send in check.sends for name in send.values))
    with services().database.writing() as writing:
        checks.save(writing, store().id or 0, checking.expected_of(check, route, live().setup, chosen))
    flash("What comes out now is what must come out from now on.", "good")
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with services().database.writing() as writing:
        row = checks.by_key(writing, store().id or 0, _row(key).key)
        if row is not None:
            writing.delete(row)
    flash("The check is deleted.", "good")
    return redirect(url_for(".index"))


@pages.get("/<key>.yaml")
def download(key: str) -> Any:
    text = yaml.safe_dump(Check.model_validate(_row(key).spec).plain(), allow_unicode=True, sort_keys=False, width=120)
    return Response(
        text, mimetype="application/yaml", headers={"Content-Disposition": f'attachment; filename="{key}.yaml"'}
    )
