"""Addresses that must not be written to, and the consent that channels need."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Any

from flask import Blueprint, Response, flash, redirect, render_template, request, stream_with_context, url_for

from angelon.core.messages.channels import CHANNELS
from angelon.core.planning.permission import EVERYTHING, NOTICE, OPTIONAL, ORIGINS, THIS_ORDER
from angelon.core.tables_out import active_again, inert
from angelon.db.people import suppressions
from angelon.engine.operations import store as store_operations
from angelon.engine.operations import suppressions as operations
from angelon.web.conflicts import edits_seen
from angelon.web.paging import Page
from angelon.web.services import (
    actor,
    kinds_of_events,
    live,
    names,
    read_anew,
    services,
    session,
    store,
    store_id,
    work,
    work_or_back,
)

pages = Blueprint("suppressions", __name__, url_prefix="/suppressions", template_folder="templates")
MOST_LINES = 5000
MOST_BYTES = 5_000_000
A_PAGE = 100


@pages.get("")
def index() -> Any:
    words = request.args.get("words", "").strip()[:100]
    rows = Page(suppressions.listed(session(), store_id(), words, A_PAGE + 1, Page.after_time()), A_PAGE)
    flags = [name for name, variable in live().setup.variables.items() if variable.type.value in ("flag", "text")]
    return render_template(
        "suppressions/index.html",
        rows=rows.items,
        older=rows.older(lambda row: (row.since, row.id)),
        words=words,
        the_store=live().setup.store,
        edits=store().edits,
        flags=flags,
        origins=ORIGINS,
        types=kinds_of_events(),
        scope_label=_scope_label,
        given=request.args,
    )


def _scope_label(scope: str) -> str:
    """What is not sent, in words."""
    if scope.startswith(NOTICE):
        key = scope.removeprefix(NOTICE)
        return f"no “{names()['messages'].get(key, key)}”"
    return {"": "nothing is sent", OPTIONAL: "no optional message"}.get(scope, scope)


@pages.post("")
def add() -> Any:
    """Takes addresses, one a line; those that are none are told and stay in the field."""
    file = request.files.get("file")
    if file is not None and file.filename:
        return _import(file.read(MOST_BYTES + 1))
    lines = [line.strip() for line in request.form.get("addresses", "").splitlines()[:MOST_LINES] if line.strip()]
    if not lines:
        flash("Write at least one address or number.", "bad")
        return redirect(url_for(".index"))
    why = request.form.get("why", "").strip()[:300] or "asked not to be written to."
    scope = OPTIONAL if request.form.get("scope") == OPTIONAL else EVERYTHING
    wanted = [(line, why, scope) for line in lines]
    new, unknown = operations.add_list(services().installation, store_id(), actor(), wanted, "person")
    read_anew()
    there = len(lines) - len(unknown) - new
    if len(lines) > len(unknown):
        flash(f"{new} added" + (f", {there} were there already." if there else "."), "good")
    if unknown:
        shown = ", ".join(unknown[:5])
        flash(f"Not understood as an address or number: {shown}. Numbers are written like +353 20 915 1234.", "bad")
    return redirect(url_for(".index", addresses="\n".join(unknown)[:1500] or None, why=why if unknown else None))


def _import(data: bytes) -> Any:
    """Takes a CSV file: address, why, scope; a first line that is a heading is passed over."""
    if len(data) > MOST_BYTES:
        flash(f"The file is larger than {MOST_BYTES // 1_000_000} MB: split it.", "bad")
        return redirect(url_for(".index"))
    try:
        rows = list(csv.reader(io.StringIO(data.decode("utf-8-sig"))))
    except (UnicodeDecodeError, csv.Error) as error:
        flash(f"The file is no CSV in UTF-8: {str(error)[:100]}", "bad")
        return redirect(url_for(".index"))
    if rows and rows[0] and rows[0][0].strip().lower() == "address":
        rows = rows[1:]
    wanted = list[tuple[str, str, str]]()
    for row in rows:
        if row and row[0].strip():
            why = active_again(row[1].strip())[:300] if len(row) > 1 else ""
            scope = OPTIONAL if len(row) > 2 and row[2].strip() == OPTIONAL else EVERYTHING
            wanted.append((active_again(row[0].strip()), why or "imported.", scope))
    new, unknown = operations.add_list(services().installation, store_id(), actor(), wanted, "import")
    read_anew()
    flash(f"{new} added of {len(wanted)}.", "good")
    if unknown:
        shown = ", ".join(unknown[:5])
        flash(f"Not understood as an address or number: {shown}{' …' if len(unknown) > 5 else ''}", "bad")
    return redirect(url_for(".index"))


@pages.get("/all.csv")
def export() -> Any:
    """Every suppressed address, as a CSV file that can be imported again."""

    def lines() -> Iterator[str]:
        out = io.StringIO()
        write = csv.writer(out)
        write.writerow(["address", "why", "scope", "since", "origin"])
        after = None
        with services().database.reading() as reading:
            while True:
                rows = suppressions.listed(reading, here, "", 1000, after)
                for row in rows:
                    if row.address_key.startswith(THIS_ORDER):
                        continue
                    plain = [row.address_key.partition(":")[2], row.why, row.scope, row.since.isoformat(), row.origin]
                    write.writerow([inert(cell) for cell in plain])
                yield out.getvalue()
                out.seek(0)
                out.truncate()
                if len(rows) < 1000:
                    return
                after = (rows[-1].since, rows[-1].id or 0)

    here = store_id()
    headers = {"Content-Disposition": 'attachment; filename="suppressions.csv"'}
    return Response(stream_with_context(lines()), mimetype="text/csv", headers=headers)


@pages.post("/<int:suppression_id>/delete")
def delete(suppression_id: int) -> Any:
    with work() as unit:
        key = operations.remove(unit, suppression_id)
    what = "The order's customer" if key.startswith(THIS_ORDER) else key.partition(":")[2]
    flash(f"{what} may be written to again." if key else "It was not in the list any more.", "good")
    return redirect(url_for(".index"))


@pages.post("/consent")
def consent() -> Any:
    form = request.form
    changes = {
        "consent": {channel: form[channel] for channel in CHANNELS if form.get(channel)},
        "echo_minutes": form.get("echo_minutes") or 0,
        "consent_covers": form.get("consent_covers") or "all",
        "suppress_on": form.getlist("suppress_on"),
        "leave_on": form.getlist("leave_on"),
    }
    with work_or_back(url_for(".index")) as unit:
        store_operations.change(unit, changes, edits_seen(), "consent")
    flash("Saved. It counts for every send from now on.", "good")
    return redirect(url_for(".index"))
