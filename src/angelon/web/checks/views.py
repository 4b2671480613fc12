"""The pages of checks: kept, run, looked at, changed."""

from __future__ import annotations

from typing import Any

import yaml
from flask import Blueprint, Response, abort, flash, redirect, render_template, request, url_for

from angelon.core import event_types
from angelon.core.messages.known_fields import GIVEN
from angelon.core.payload.body import NotReadable
from angelon.core.specs.check import Check
from angelon.core.specs.stored import from_stored
from angelon.db.setup import checks
from angelon.db.tables import CheckRow
from angelon.engine.operations import checks as operations
from angelon.web.services import live, names, session, store_id, work, work_or_back

pages = Blueprint("checks", __name__, url_prefix="/checks", template_folder="templates")


@pages.get("")
def index() -> Any:
    rows = [(row, from_stored(Check, row.spec)) for row in checks.all_of(session(), store_id())]
    return render_template("checks/index.html", rows=rows, names=names(), label=event_types.label)


@pages.post("/run")
def run_all() -> Any:
    with work() as unit:
        outcomes = [outcome for _, outcome in operations.run_all(unit)]
    failed = sum(1 for outcome in outcomes if not outcome.passed)
    if failed:
        flash(f"{failed} of {len(outcomes)} checks failed.", "bad")
    else:
        flash(f"All {len(outcomes)} checks passed.", "good")
    return redirect(url_for(".index"))


def _row(key: str) -> CheckRow:
    row = checks.by_key(session(), store_id(), key)
    if row is None:
        abort(404, f"There is no check “{key}”.")
    return row


@pages.get("/<key>")
def one(key: str) -> Any:
    with work() as unit:
        row, outcome = operations.run_one(unit, key)
    check = from_stored(Check, row.spec)
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
    decision = operations.decision_now(session(), live(), check)
    if decision is None:
        return []
    made = {name for send in decision.sends for name in send.values if name not in GIVEN}
    return sorted(made | {name for one in check.sends for name in one.values})


@pages.post("/keep")
def keep() -> Any:
    """Keeps an event and what comes of it by a route as a check."""
    try:
        with work() as unit:
            key = operations.keep(unit, request.form.get("route", ""), request.form.get("event", ""))
    except NotReadable as error:
        abort(409, f"This event can’t be kept as a check: {error.problem.what}")
    flash("Saved. From now on it is run whenever the route or its message goes live.", "good")
    return redirect(url_for(".one", key=key))


@pages.post("/<key>")
def change(key: str) -> Any:
    """Takes the form: name, what of the texts counts, chosen values, what has to stand in the text."""
    check = from_stored(Check, _row(key).spec)
    form = request.form
    wanted = [
        operations.Wanted(
            form.getlist(f"values.{number}"),
            [line.strip() for line in form.get(f"contains.{number}", "").splitlines() if line.strip()],
        )
        for number in range(len(check.sends))
    ]
    with work_or_back(url_for(".one", key=key)) as unit:
        operations.change(unit, key, form.get("name", check.name), form.get("texts", check.texts), wanted)
    flash("Saved.", "good")
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/accept")
def accept(key: str) -> Any:
    """Takes what comes out now as what must come out."""
    with work() as unit:
        done = operations.accept(unit, key)
    if done:
        flash("The current result is the expected one from now on.", "good")
    else:
        flash("Its route or source is gone: there is nothing to accept. Delete the check.", "bad")
    return redirect(url_for(".one", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with work() as unit:
        operations.delete(unit, key)
    flash("The check is deleted.", "good")
    return redirect(url_for(".index"))


@pages.get("/<key>.yaml")
def download(key: str) -> Any:
    text = yaml.safe_dump(from_stored(Check, _row(key).spec).plain(), allow_unicode=True, sort_keys=False, width=120)
    return Response(
        text, mimetype="application/yaml", headers={"Content-Disposition": f'attachment; filename="{key}.yaml"'}
    )
