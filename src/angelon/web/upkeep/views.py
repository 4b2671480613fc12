"""Renames, copies, deletes and restores a message, gateway, source or route."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, abort, flash, redirect, request, url_for

from angelon.engine.operations import upkeep as operations
from angelon.engine.operations import variables
from angelon.web.services import work_or_back

pages = Blueprint("upkeep", __name__, url_prefix="/upkeep", template_folder="templates")
COPIED = {
    "message": "This is the copy, a draft. Change what is to be different.",
    "gateway": "This is the copy. It is paused and has no password or token yet.",
    "source": "This is the copy, at an address of its own. It has no signing secret yet.",
    "route": "This is the copy. It is off; change what is to be different.",
}
"""What is said of a copy."""


def _kind(kind: str) -> str:
    if kind not in operations.KINDS:
        abort(404, "There is no such kind of thing.")
    return kind


def _page(kind: str, key: str) -> str:
    return url_for(f"{kind}s.{'show' if kind == 'source' else 'edit'}", key=key)


@pages.post("/<kind>/<key>/rename")
def rename(kind: str, key: str) -> Any:
    name = request.form.get("name", "")
    with work_or_back(_page(_kind(kind), key), "Not renamed") as unit:
        old = operations.rename(unit, kind, key, name)
    flash(f"“{old}” is called “{name.strip()}” now.", "good")
    return redirect(_page(kind, key))


@pages.post("/<kind>/<key>/copy")
def copy(kind: str, key: str) -> Any:
    with work_or_back(_page(_kind(kind), key), "Not copied") as unit:
        new = operations.copy(unit, kind, key)
    flash(COPIED[kind], "good")
    return redirect(_page(kind, new))


@pages.post("/<kind>/<key>/delete")
def delete(kind: str, key: str) -> Any:
    if kind == "route":
        abort(404, "A route is deleted on the page of routes.")
    with work_or_back(_page(_kind(kind), key), "Not deleted") as unit:
        operations.delete(unit, kind, key)
    return redirect(url_for(f"{kind}s.index", gone=key))


@pages.post("/variable/<name>/restore")
def restore_variable(name: str) -> Any:
    """Brings a deleted variable back, from Changes."""
    back = url_for("changes.index", kind="variable", key=name)
    with work_or_back(back, "Not restored") as unit:
        variables.restore(unit, name)
    flash(f"“{name}” is back, with its mapping.", "good")
    return redirect(back)


@pages.post("/<kind>/<key>/restore")
def restore(kind: str, key: str) -> Any:
    with work_or_back(url_for(f"{_kind(kind)}s.index", gone=key), "Not restored") as unit:
        name = operations.restore(unit, kind, key)
    flash(f"“{name}” is back.", "good")
    return redirect(_page(kind, key))
