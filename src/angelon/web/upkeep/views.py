"""Renames, copies, deletes and restores a message, gateway, source or route."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, abort, flash, redirect, request, url_for

from angelon.core.problems import Invalid, NotFound
from angelon.engine.operations import upkeep as operations
from angelon.web.services import work

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


def said(error: Invalid) -> str:
    """What was wrong first, and what to do."""
    problem = error.problems[0]
    return f"{problem.what} {problem.mend}".strip()


def _page(kind: str, key: str) -> str:
    return url_for(f"{kind}s.{'show' if kind == 'source' else 'edit'}", key=key)


@pages.post("/<kind>/<key>/rename")
def rename(kind: str, key: str) -> Any:
    name = request.form.get("name", "")
    try:
        with work() as unit:
            old = operations.rename(unit, _kind(kind), key, name)
        flash(f"“{old}” is called “{name.strip()}” now.", "good")
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not renamed: {said(error)}", "bad")
    return redirect(_page(kind, key))


@pages.post("/<kind>/<key>/copy")
def copy(kind: str, key: str) -> Any:
    try:
        with work() as unit:
            new = operations.copy(unit, _kind(kind), key)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not copied: {said(error)}", "bad")
        return redirect(_page(kind, key))
    flash(COPIED[kind], "good")
    return redirect(_page(kind, new))


@pages.post("/<kind>/<key>/delete")
def delete(kind: str, key: str) -> Any:
    if kind == "route":
        abort(404, "A route is deleted on the page of routes.")
    try:
        with work() as unit:
            operations.delete(unit, _kind(kind), key)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not deleted: {said(error)}", "bad")
        return redirect(_page(kind, key))
    return redirect(url_for(f"{kind}s.index", gone=key))


@pages.post("/<kind>/<key>/restore")
def restore(kind: str, key: str) -> Any:
    try:
        with work() as unit:
            name = operations.restore(unit, _kind(kind), key)
    except NotFound:
        raise
    except Invalid as error:
        flash(f"Not restored: {said(error)}", "bad")
        return redirect(url_for(f"{kind}s.index"))
    flash(f"“{name}” is back.", "good")
    return redirect(_page(kind, key))
