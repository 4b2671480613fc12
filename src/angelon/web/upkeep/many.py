"""What is done with several routes or messages at once, and undone: switched, tagged, deleted."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from flask import flash, redirect, request, url_for

from angelon.core.problems import Invalid
from angelon.engine.operations import upkeep as operations
from angelon.engine.unit import Work
from angelon.web.services import session, store_id, work

MOST = 200
Act = Callable[[Work, str], Any]
"""Does it with one thing (its key); gives False where it was so already."""
DONE = {
    **{"on": ("live", "off"), "off": ("off", "on"), "delete": ("deleted", "restore"), "restore": ("restored", "")},
    **{"tag": ("tagged", "untag"), "untag": ("no longer tagged", "tag")},
}
"""What may be done: what the things are then, and what undoes it."""


def done(kind: str) -> dict[str, Any] | None:
    """What was just done with several, as the list was led to."""
    act, keys = request.args.get("done", ""), request.args.getlist("key")[:MOST]
    if act not in DONE or not keys or not DONE[act][1]:
        return None
    names = {key: operations.name_of(session(), store_id(), kind, key) for key in keys}
    word, undo = DONE[act]
    tag = request.args.get("tagged", "")[:30]
    told = {"refs": [key for key in keys if names[key]], "names": [name for name in names.values() if name]}
    return {"word": f"{word} “{tag}”" if act in ("tag", "untag") else word, "undo": undo, "tag": tag, **told}


def change(kind: str, acts: Mapping[str, Act], restored: str = "Restored.") -> Any:
    """Does with all that are ticked what the form asks for; what can't be done with one keeps no other."""
    act, keys = request.form.get("act", ""), list(dict.fromkeys(request.form.getlist(kind)))[:MOST]
    tag = " ".join(request.form.get("tag", "").split())
    acts = {**acts, **{one: _tagging(kind, tag, one == "tag") for one in ("tag", "untag")}}
    if act not in acts or not keys:
        flash(f"Tick at least one {kind}.", "bad")
        return redirect(url_for(".index"))
    if act in ("tag", "untag") and not tag:
        flash("Write the tag.", "bad")
        return redirect(url_for(".index"))
    changed = []
    for key in keys:
        try:
            with work() as unit:
                different = acts[act](unit, key) is not False
            if different:
                changed.append(key)
        except Invalid as error:
            name = operations.name_of(session(), store_id(), kind, key) or key
            flash(f"“{name}” is as it was: {error.problems[0].what}", "bad")
    if act == "restore" and changed:
        flash(restored, "good")
    shown: dict[str, Any] = {"tagged": tag or None, "tag": tag if act == "tag" else None}
    return redirect(url_for(".index", done=act, key=changed, **shown) if changed else url_for(".index"))


def _tagging(kind: str, tag: str, put: bool) -> Act:
    return lambda unit, key: operations.tag(unit, kind, key, tag, put)
