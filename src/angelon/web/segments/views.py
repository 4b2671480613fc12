"""Segments: customers that have something in common, under a name, for the conditions of routes."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, abort, flash, jsonify, redirect, render_template, request, url_for

from angelon.core.conditions.evaluate import describe_group
from angelon.core.planning.subjects import checked
from angelon.core.problems import Invalid
from angelon.core.specs.base import read_spec
from angelon.core.specs.store import Segment
from angelon.engine.operations import store as operations
from angelon.web import sample_event as sample_events
from angelon.web.conflicts import edits_seen
from angelon.web.routes.sentence import conditions
from angelon.web.services import live, routes, store, work, work_or_back

pages = Blueprint("segments", __name__, url_prefix="/segments", template_folder="templates")


@pages.get("")
def index() -> Any:
    segments = live().setup.store.segments
    uses = operations.segment_uses(routes())
    return render_template("segments/index.html", segments=segments, used=uses, said=describe_group)


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "").strip()
    with work_or_back(url_for(".index", name=name[:200])) as unit:
        key = operations.create_segment(unit, name)
    return redirect(url_for(".edit", key=key))


def _segment(key: str) -> Segment:
    found = next((segment for segment in live().setup.store.segments if segment.key == key), None)
    if found is None:
        abort(404, f"There is no audience “{key}”.")
    return found


def _page(key: str) -> dict[str, Any]:
    segment = _segment(key)
    sample = sample_events.select(live())
    shown = conditions(segment.holds, sample)
    shown["subjects"] = [one for one in shown["subjects"] if not one["name"].startswith("segment.")]
    return {
        "segment": segment,
        "sample": sample,
        "conditions": shown,
        "said": describe_group(segment.holds),
        "used": operations.segment_uses(routes()).get(key, []),
        "problems": checked(segment.holds, live().setup),
        "edits": store().edits,
    }


@pages.get("/<key>")
def edit(key: str) -> Any:
    return render_template("segments/edit.html", **_page(key))


@pages.post("/<key>")
def save(key: str) -> Any:
    """Takes the conditions or the name; it counts at once in every route that asks for the segment."""
    spec = _segment(key).model_dump(mode="json")
    try:
        if "only_if" in request.form:
            spec["holds"] = json.loads(request.form["only_if"])
        if "name" in request.form:
            spec["name"] = request.form["name"]
        with work() as unit:
            operations.save_segment(unit, read_spec(Segment, spec), edits_seen())
    except Invalid as error:
        if error.is_conflict:
            raise
        return jsonify({"detail": str(error.problems[0])}), 422
    except (ValueError, RecursionError):
        return jsonify({"detail": "The page sent conditions that can’t be read. Reload it."}), 400
    if request.headers.get("X-Fragment"):
        return render_template("segments/_segment.html", **_page(key))
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/delete")
def delete(key: str) -> Any:
    with work_or_back(url_for(".edit", key=key), "Not deleted") as unit:
        operations.delete_segment(unit, key)
    return redirect(url_for(".index", gone=key))


@pages.post("/<key>/copy")
def copy(key: str) -> Any:
    with work_or_back(url_for(".edit", key=key), "Not copied") as unit:
        new = operations.copy_segment(unit, key)
    flash("This is the copy. Change what is to be different.", "good")
    return redirect(url_for(".edit", key=new))


@pages.post("/<key>/rename")
def rename(key: str) -> Any:
    segment, name = _segment(key), request.form.get("name", "").strip()
    with work_or_back(url_for(".edit", key=key), "Not renamed") as unit:
        operations.save_segment(unit, read_spec(Segment, {**segment.plain(), "name": name}))
    flash(f"“{segment.name}” is called “{name}” now.", "good")
    return redirect(url_for(".edit", key=key))


@pages.post("/<key>/restore")
def restore(key: str) -> Any:
    """Undoes a deletion."""
    with work_or_back(url_for(".index"), "Not restored") as unit:
        segment = operations.restore_segment(unit, key)
    flash(f"“{segment.name}” is back.", "good")
    return redirect(url_for(".edit", key=key))
