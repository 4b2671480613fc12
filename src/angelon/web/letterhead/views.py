"""The letterhead, with every message as it looks under it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from flask import Blueprint, flash, jsonify, redirect, render_template, request, url_for

from angelon.core.colours import ENOUGH, contrast, ink_on
from angelon.core.messages.attachments import detect_media_type, file_name
from angelon.core.messages.fixed_words import NAMES, WORDS, words_in
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Store
from angelon.core.specs.base import read_spec
from angelon.core.specs.store import Letterhead
from angelon.core.values import locale_of
from angelon.engine.operations import store as operations
from angelon.web import sample_event as sample_events
from angelon.web.conflicts import edits_seen
from angelon.web.forms import RAW, TEXT, Spelling, filled
from angelon.web.messages.preview import Preview, preview
from angelon.web.sample_event import Wanted
from angelon.web.services import live, messages, store, work

pages = Blueprint("letterhead", __name__, url_prefix="/letterhead", template_folder="templates")

_FIELDS: dict[str, Spelling] = {
    **dict.fromkeys((f"letterhead.{name}" for name in Letterhead.model_fields if name != "fixed_words"), TEXT),
    **dict.fromkeys(("letterhead.signature", "letterhead.footer"), RAW),
}


@pages.get("")
def index() -> Any:
    return _page(live().setup.store)


def _page(the_store: Store, problems: Sequence[Problem] = (), spec: dict[str, Any] | None = None) -> str:
    """The page; `spec` is what was typed, where it could not be saved."""
    pictures = sorted(
        {f"library:{f.shelf}/{f.name}" for f in live().files if f.type.startswith("image/") and f.by == ""}
    )
    spec = spec or the_store.model_dump(mode="json")
    return render_template(
        "letterhead/index.html",
        spec=spec,
        problems=problems,
        pictures=pictures,
        edits=request.form.get("edits", store().edits),
        sheets=_sheets(the_store),
        variants={row.key: row.spec.locale_for("email", the_store.locale) or row.spec.locale for row in messages()},
        team=the_store.team,
        gateways=[gateway for gateway in live().setup.gateways.values() if gateway.channel == "email"],
        judged=_judged(the_store),
        languages=_languages(the_store),
        fixed_words=NAMES,
        words_in=words_in,
    )


def _judged(the_store: Store) -> dict[str, Any]:
    """Whether the accent can be read: as text on paper, and under the words of a button."""
    accent, body = the_store.letterhead.accent, the_store.letterhead.body
    return {
        "paper": round(contrast(accent, body), 1),
        "text": round(contrast(the_store.letterhead.ink, body), 1),
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


def _changed() -> tuple[dict[str, Any], list[Problem]]:
    """The store with the letterhead of the form, as plain data; and what can't be read."""
    spec, problems = filled(request.form, live().setup.store, _FIELDS)
    typed: dict[str, dict[str, str]] = {}
    for name, text in request.form.items():
        part, _, rest = name.partition(".")
        locale, _, word = rest.partition(".")
        if part == "fixed_words" and text.strip():
            typed.setdefault(locale, {})[word] = text.strip()
    spec["letterhead"]["fixed_words"] = typed
    return spec, problems


def _languages(the_store: Store) -> list[tuple[str, str, bool]]:
    """The languages that mails are written in, the name of each, and whether the fixed words are known in each."""
    written = [locale for row in messages() for locale in row.spec.email]
    return [
        (locale, locale_of(locale).get_display_name("en") or locale, locale.partition("-")[0] in WORDS)
        for locale in dict.fromkeys((the_store.locale, *the_store.locales, *sorted(written)))
    ]


def _read(spec: dict[str, Any], problems: list[Problem]) -> Store:
    """Raises Invalid."""
    if problems:
        raise Invalid(problems)
    return read_spec(Store, spec)


@pages.post("/seen")
def seen() -> Any:
    """The contact sheet under the letterhead as it is being written; nothing is kept."""
    try:
        changed = _read(*_changed())
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
    spec, problems = _changed()
    try:
        changed = _read(spec, problems)
        if data:
            changed = _with_logo(changed, file.filename if file else "", data)
    except Invalid as error:
        return _page(live().setup.store, error.problems, spec), 422
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
