"""The letterhead, with a contact sheet of every message under it; the store's rules; the team that gets test sends."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from flask import Blueprint, flash, jsonify, redirect, render_template, request, url_for

from angelon.core.colours import ENOUGH, contrast, ink_on
from angelon.core.messages.attachments import detect_media_type, file_name
from angelon.core.messages.blocks import PAPER
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.engine.operations import store as operations
from angelon.web import sample_event as sample_events
from angelon.web.conflicts import edits_seen
from angelon.web.messages.preview import Preview, preview
from angelon.web.sample_event import Wanted
from angelon.web.services import live, messages, store, work

pages = Blueprint("letterhead", __name__, url_prefix="/letterhead", template_folder="templates")

FIELDS = ("accent", "font", "logo", "logo_alt", "logo_width", "header", "signature", "footer", "subject_prefix")


@pages.get("")
def index() -> Any:
    return _page(live().setup.store, [], {})


def _page(the_store: Store, problems: list[Problem], given: dict[str, str]) -> str:
    pictures = sorted(
        {f"library:{f.shelf}/{f.name}" for f in live().files if f.type.startswith("image/") and f.by == ""}
    )
    team = (
        given.get("team")
        if "team" in given
        else "\n".join(", ".join(part for part in (p.name, p.email, p.phone) if part) for p in the_store.team)
    )
    return render_template(
        "letterhead/index.html",
        letterhead=the_store.letterhead,
        the_store=the_store,
        problems=problems,
        given=given,
        pictures=pictures,
        team=team,
        edits=given.get("edits", store().edits),
        sheets=_sheets(the_store),
        judged=_judged(the_store),
    )


def _judged(the_store: Store) -> dict[str, Any]:
    """Whether the accent can be read: as text on paper, and under the words of a button."""
    accent = the_store.letterhead.accent
    return {
        "paper": round(contrast(accent, PAPER), 1),
        "button": round(contrast(accent, ink_on(accent)), 1),
        "ink": ink_on(accent),
        "enough": ENOUGH,
    }


def _sheets(the_store: Store) -> list[tuple[str, str, Preview]]:
    """Every message with an email as it looks under a letterhead: key, name, preview."""
    changed = replace(live(), setup=replace(live().setup, store=the_store))
    mails = [row for row in messages() if row.spec.email]
    wanted = {}
    for row in mails:
        sending = [active.route for active in live().setup.routes if active.route.send == row.key]
        sources = {key for route in sending for key in route.sources}
        types = {type_ for route in sending for type_ in route.when}
        wanted[row.key] = Wanted(sources or None, types or None)
    samples = sample_events.select_many(live(), wanted)
    made = []
    for row in mails:
        locale = row.spec.locale_for("email", the_store.locale) or row.spec.locale
        seen = preview(row.spec, "email", locale, changed, samples[row.key])
        made.append((row.key, row.spec.name, seen))
    return made


def _changed() -> Store:
    """The store with the letterhead, rules and team of the form. Raises Invalid."""
    form = request.form
    spec = live().setup.store.model_dump(mode="json")
    spec["letterhead"] = {name: form.get(name, spec["letterhead"][name]) for name in FIELDS}
    if "forbidden" in form:
        spec["rules"] = {
            part: [line.strip() for line in form.get(part, "").splitlines() if line.strip()]
            for part in ("forbidden", "link_hosts")
        }
        spec["private_hosts"] = [line.strip() for line in form.get("private_hosts", "").splitlines() if line.strip()]
        spec["team"] = [_person(line) for line in form.get("team", "").splitlines() if line.strip()]
        spec["locales"] = [
            tag.strip() for tag in form.get("locales", "").replace(",", " ").split() if tag.strip() != spec["locale"]
        ]
    return read_spec(Store, spec)


def _person(line: str) -> dict[str, str]:
    """`name, address, number`: what has an @ is the address, what has digits only the number."""
    made = {"name": "", "email": "", "phone": ""}
    for part in (piece.strip() for piece in line.split(",")):
        kind = "email" if "@" in part else "phone" if part and not part.strip("+0123456789 ()-/") else "name"
        made[kind] = f"{made[kind]} {part}".strip()
    return made


@pages.post("/seen")
def seen() -> Any:
    """The contact sheet under the letterhead as it is being written; nothing is kept."""
    try:
        changed = _changed()
    except Invalid as error:
        return jsonify({"problems": [p.as_dict() for p in error.problems]}), 422
    return jsonify(
        {
            "sheets": {key: made.html or "" for key, _, made in _sheets(changed)},
            "judged": _judged(changed),
            "problems": [],
        }
    )


@pages.post("")
def save() -> Any:
    """Makes the letterhead live: every mail from now on has it."""
    file = request.files.get("logo_file")
    data = file.read(2_000_001) if file is not None and file.filename else b""
    form = dict(request.form)
    try:
        changed = _changed()
        if data:
            changed = _with_logo(changed, file.filename if file else "", data)
    except Invalid as error:
        return _page(live().setup.store, error.problems, form), 422
    with work() as unit:
        operations.save_letterhead(unit, changed, data, edits_seen())
    flash("Saved. Every mail from now on has it.", "good")
    return redirect(url_for(".index"))


def _with_logo(the_store: Store, name: str | None, data: bytes) -> Store:
    if len(data) > 2_000_000:
        raise Invalid(
            [Problem("logo", "The picture is larger than 2 MB.", "Make it smaller; 600 pixels across are enough.")]
        )
    if detect_media_type(data) not in ("image/png", "image/jpeg", "image/gif"):
        raise Invalid(
            [
                Problem(
                    "logo",
                    f"The file is {detect_media_type(data)} by its content.",
                    "Use a PNG, JPEG or GIF: what every mail program shows.",
                )
            ]
        )
    return the_store.model_copy(
        update={
            "letterhead": the_store.letterhead.model_copy(
                update={"logo": f"library:letterhead/{file_name(name or '', 'logo.png').replace('/', '-')}"}
            )
        }
    )
