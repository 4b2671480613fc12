"""Segments: customers that have something in common, under a name, for the conditions of routes."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, abort, flash, g, jsonify, redirect, render_template, request, url_for

from angelon.core.conditions.evaluate import said_group
from angelon.core.planning.subjects import checked
from angelon.core.problems import Invalid
from angelon.core.specs import Route, Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.condition import compares
from angelon.core.specs.keys import key_of
from angelon.core.specs.store import Segment
from angelon.db import routes, setup
from angelon.web import hand as hands
from angelon.web.routes.sentence import conditions
from angelon.web.services import live, services, session, store

pages = Blueprint("segments", __name__, url_prefix="/segments", template_folder="templates")


def _used() -> dict[str, list[tuple[str, str]]]:
    """Which routes ask for each segment: key and name."""
    found: dict[str, list[tuple[str, str]]] = {}
    for row in routes.all_of(session(), store().id or 0):
        route = Route.model_validate(setup.current_spec(session(), row))
        for of in {part.of for part in compares(route.only_if) if part.of.startswith("segment.")}:
            found.setdefault(of.partition(".")[2], []).append((row.key, route.name))
    return found


@pages.get("")
def index() -> Any:
    return render_template("segments/index.html", segments=live().setup.store.segments, used=_used(), said=said_group)


def _keep(spec: dict[str, Any]) -> None:
    made = read_spec(Store, spec)
    with services().database.writing() as writing:
        setup.save_store(writing, store().id or 0, made)
    services().setups.forget()
    g.pop("live", None)
    g.pop("store", None)
    session().rollback()


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    key = key_of(name, "_")
    key = key if key[:1].isalpha() else f"s_{key}"
    if not name or any(segment.key == key for segment in live().setup.store.segments):
        flash("Give the segment a name of its own, with at least one letter.", "bad")
        return redirect(url_for(".index"))
    spec = dict(store().spec)
    try:
        _keep(
            {
                **spec,
                "segments": [
                    *spec.get("segments", []),
                    {
                        "key": key,
                        "name": name,
                        "holds": {"of": [{"kind": "compare", "of": "contact.orders", "op": "at_least", "value": "2"}]},
                    },
                ],
            }
        )
    except Invalid as error:
        flash(str(error.problems[0]), "bad")
        return redirect(url_for(".index"))
    return redirect(url_for(".edit", key=key))


def _segment(key: str) -> Segment:
    found = next((segment for segment in live().setup.store.segments if segment.key == key), None)
    if found is None:
        abort(404, f"There is no segment “{key}”.")
    return found


def _page(key: str) -> dict[str, Any]:
    segment = _segment(key)
    hand = hands.take(live())
    told = conditions(segment.holds, hand)
    told["subjects"] = [one for one in told["subjects"] if not one["name"].startswith("segment.")]
    return {
        "segment": segment,
        "hand": hand,
        "conditions": told,
        "said": said_group(segment.holds),
        "used": _used().get(key, []),
        "problems": checked(segment.holds, live().setup),
    }


@pages.get("/<key>")
def edit(key: str) -> Any:
    return render_template("segments/edit.html", **_page(key))


@pages.post("/<key>")
def save(key: str) -> Any:
    """Takes the conditions or the name; it counts at once in every route that asks for the segment."""
    segment = _segment(key)
    spec = segment.model_dump(mode="json")
    try:
        if "only_if" in request.form:
            spec["holds"] = json.loads(request.form["only_if"])
        if "name" in request.form:
            spec["name"] = request.form["name"]
        made = read_spec(Segment, spec)
        whole = dict(store().spec)
        _keep({**whole, "segments": [made.plain() if one["key"] == key else one for one in whole.get("segments", [])]})
    except Invalid as error:
        return jsonify({"detail": str(error.problems[0])}), 422
    except (ValueError, RecursionError):
        return jsonify({"detail": "The page sent conditions that can’t be read. Reload it."}), 400
    if request.headers.get("X-Fragment"):
        return render_template("segments/_segment.html", **_page(key))
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    used = _used().get(key, [])
    if used:
        flash(f"The segment is asked for by {', '.join(name for _, name in used)}. Take it out there first.", "bad")
        return redirect(url_for(".edit", key=key))
    spec = dict(store().spec)
    _keep({**spec, "segments": [one for one in spec.get("segments", []) if one["key"] != _segment(key).key]})
    flash("The segment is deleted.", "good")
    return redirect(url_for(".index"))
