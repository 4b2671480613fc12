"""A customer's page: orders, sends, what was permitted; everything as a file; and its erasure."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, Response, abort, flash, g, redirect, render_template, request, url_for

from angelon.core.problems import Invalid, NotFound
from angelon.db.log import sends
from angelon.db.log.sends import Filter
from angelon.db.people import consents, contact_tags, people, personal, suppressions
from angelon.db.tables import ContactRow
from angelon.engine.exports import orders as export
from angelon.engine.operations import people as operations
from angelon.engine.operations import suppressions as suppression_operations
from angelon.engine.operations.people import known
from angelon.web.exporting import as_file_of
from angelon.web.services import live, names, services, session, store_id, work, work_or_back

pages = Blueprint("people", __name__, url_prefix="/people", template_folder="templates")

SHOWN = 20
"""Of orders and sends, the newest."""


@pages.get("/all.csv", defaults={"kind": "csv"})
@pages.get("/all.jsonl", defaults={"kind": "jsonl"})
def as_rows(kind: str) -> Any:
    """Every customer as a file."""
    return as_file_of("customers", kind, export.People(store_id()))


@pages.get("/<int:person_id>")
def one(person_id: int) -> Any:
    return _page(_person(person_id))


@pages.get("/<int:person_id>/data.json")
def data(person_id: int) -> Any:
    """Everything that is kept about somebody, as JSON."""
    person = _person(person_id)
    told = {"made_at": g.now, **operations.everything(session().connection(), live(), person, services().archive)}
    text = json.dumps(told, ensure_ascii=False, indent=2, default=lambda at: at.isoformat())
    head = {"Content-Disposition": f'attachment; filename="person-{person_id}.json"', "Cache-Control": "no-store"}
    return Response(text, mimetype="application/json", headers=head)


@pages.post("/<int:person_id>/value")
def note(person_id: int) -> Any:
    """Notes a value that conditions can ask for."""
    _person(person_id)
    back = url_for(".one", person_id=person_id)
    with work_or_back(back, "Not noted") as unit:
        operations.note(unit, person_id, request.form.get("name", ""), request.form.get("value", ""))
    flash("Noted. Conditions see it from now on.", "good")
    return redirect(back)


@pages.post("/<int:person_id>/erase")
def erase(person_id: int) -> Any:
    """Erases what says who somebody is."""
    person = _person(person_id)
    typed = request.form.get("typed", "")
    before = operations.found_before(session().connection(), person, services().clock.now())
    try:
        with work() as unit:
            found = operations.erase(unit, person_id, typed, before)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not erased: {error.problems[0]}", "bad")
        return _page(person, typed), 422
    flash(f"Erased: what {found['orders']} orders and {found['sends']} sends said of the person.", "good")
    return redirect(url_for(".one", person_id=person_id))


@pages.post("/<int:person_id>/stop")
def stop(person_id: int) -> Any:
    """Suppresses every address that is known of somebody."""
    _person(person_id)
    with work_or_back(url_for(".one", person_id=person_id)) as unit:
        suppression_operations.stop_person(unit, person_id, request.form.get("why", ""))
    flash("Nothing more goes to this person. Suppressions take that back, an address at a time.", "good")
    return redirect(url_for(".one", person_id=person_id))


def _person(person_id: int) -> ContactRow:
    found = people.get(session(), store_id(), person_id)
    if found is None:
        abort(404, "There is no such person.")
    return found


def _page(person: ContactRow, typed: str = "") -> str:
    connection, keys = session().connection(), people.address_keys(person)
    id_ = person.id or 0
    about = personal.About(connection, store_id(), person, keys)
    erased = person.identity == f"erased-{person.id}"
    return render_template(
        "people/one.html",
        keeps=[name for name, one in live().setup.variables.items() if one.keep],
        customer=person,
        erased=erased,
        orders=people.orders_of(session(), id_, SHOWN),
        sends=sends.listed(session(), store_id(), Filter(person_id=person.id), SHOWN),
        names=names(),
        **known(connection, live(), person),
        tags=contact_tags.of(connection, [id_]).get(id_, ()),
        consents=consents.listed(session(), store_id(), keys),
        suppressed=[row for key in keys for row in suppressions.of_address(session(), store_id(), key)],
        shown=SHOWN,
        checks=personal.checks_with(about) if about.addresses else [],
        typed=typed,
    )
