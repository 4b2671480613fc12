"""Who brings the shop's parcels: the list, one carrier, files of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for

from angelon.core.parcels import numbers
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.carrier import Carrier
from angelon.engine.operations import carriers as operations
from angelon.web.conflicts import edits_seen
from angelon.web.listing import Choice, narrowed
from angelon.web.parcels.shown import SAID
from angelon.web.services import live, store, work, work_or_back

pages = Blueprint("carriers", __name__, url_prefix="/carriers", template_folder="templates")
CHECKS = {
    "": "no check digit",
    "s10": "check digit as in UPU S10",
    "mod7": "check digit modulo 7",
    "mod10": "check digit modulo 10 (GS1)",
    "mod11": "check digit modulo 11",
}
_BY_LABEL = {label: key for key, label in SAID.items()}


@pages.get("")
def index() -> Any:
    return _index()


def _index(typed: str = "") -> Any:
    carriers = sorted(live().setup.store.carriers, key=lambda one: (not one.on, one.name.casefold()))
    number = request.args.get("try", "")[:80]
    countries = sorted({country for one in carriers for country in one.countries})
    listed = narrowed(
        carriers,
        lambda one: f"{one.name} {' '.join(one.names.values())} {one.key}",
        {
            "country": Choice(
                "Country",
                [(one, one) for one in countries],
                lambda one: one.countries or countries,
            ),
            "state": Choice("On or off", [("on", "on"), ("off", "off")], lambda one: ["on" if one.on else "off"]),
        },
        {},
    )
    return render_template(
        "parcels/carriers.html",
        listed=listed,
        number=number,
        guesses=numbers.guesses(carriers, number)[:4] if number else None,
        settled=numbers.settled(numbers.guesses(carriers, number)) if number else None,
        typed=typed,
    )


@pages.post("")
def create() -> Any:
    name = request.form.get("name", "")[:100]
    try:
        with work() as unit:
            key = operations.create(unit, name)
    except Invalid as error:
        flash(f"Not added: {error.problems[0].said}", "bad")
        return _index(name), 422
    return redirect(url_for(".edit", key=key))


@pages.post("/switch")
def switch() -> Any:
    """Switches those that are ticked on or off."""
    on = request.form.get("act") == "on"
    with work_or_back(url_for(".index")) as unit:
        changed = operations.switch(unit, request.form.getlist("key"), on)
    flash(f"{changed} switched {'on' if on else 'off'}.", "good" if changed else "bad")
    return redirect(url_for(".index"))


@pages.get("/all.yaml")
def export() -> Any:
    headers = {"Content-Disposition": 'attachment; filename="carriers.yaml"'}
    return Response(operations.as_file(live().setup.store), mimetype="application/yaml", headers=headers)


@pages.post("/file")
def read_file() -> Any:
    file = request.files.get("file")
    data = file.read(operations.MOST_BYTES + 1) if file is not None else b""
    with work_or_back(url_for(".index"), "Nothing was taken: ") as unit:
        new, there = operations.read_file(unit, data)
    flash(f"{new} added, {there} replaced.", "good")
    return redirect(url_for(".index"))


@pages.get("/<key>")
def edit(key: str) -> Any:
    carrier = operations.of(live().setup.store, key)
    typed = _as_text(carrier)
    words = request.args.get("words", "")[:100]
    if words and words not in carrier.words:
        typed["words"] = f"{typed['words']}\n{words} = ".lstrip("\n")
    return _one(carrier, typed)


def _one(carrier: Carrier, typed: Mapping[str, Any], problems: Sequence[Problem] = ()) -> Any:
    return render_template(
        "parcels/carrier.html",
        carrier=carrier,
        typed=typed,
        problems=problems,
        edits=request.form.get("edits", store().edits),
        checks=CHECKS,
        stages=SAID,
        uses=sum(1 for one in live().setup.store.carriers if one.on),
    )


def _as_text(carrier: Carrier) -> dict[str, Any]:
    """A carrier as its form has it."""
    return {
        **{name: getattr(carrier, name) for name in ("name", "link", "days", "counts_after", "lost_after", "on")},
        "names": "\n".join(f"{locale} = {name}" for locale, name in carrier.names.items()),
        "countries": ", ".join(carrier.countries),
        "default_for": ", ".join(carrier.default_for),
        "forms": "\n".join(f"{form.shape} {form.check}".strip() for form in carrier.forms),
        "words": "\n".join(f"{words} = {SAID[stage]}" for words, stage in carrier.words.items()),
        "working_days": carrier.working_days,
    }


@pages.post("/<key>")
def save(key: str) -> Any:
    form = request.form
    carrier = operations.of(live().setup.store, key)
    if form.get("act") == "delete":
        with work_or_back(url_for(".edit", key=key)) as unit:
            operations.delete(unit, key)
        flash(f"{carrier.name} is deleted. Its parcels stay.", "good")
        return redirect(url_for(".index"))
    typed: dict[str, Any] = {
        **form.to_dict(),
        "working_days": [int(day) for day in form.getlist("working_days") if day.isdigit()],
    }
    typed["on"] = "on" in form
    try:
        given = _from_text(typed)
        with work() as unit:
            operations.save(unit, key, given, edits_seen())
    except Invalid as error:
        return _one(carrier, typed, error.problems), 422
    flash("Saved. It counts for what is told from now on.", "good")
    return redirect(url_for(".edit", key=key))


def _from_text(typed: Mapping[str, Any]) -> dict[str, Any]:
    """What a form says, as a spec's plain data. Raises Invalid."""
    problems: list[Problem] = []
    words = dict[str, str]()
    for line in _lines(typed.get("words", "")):
        theirs, _, ours = (part.strip() for part in line.rpartition("="))
        stage = _BY_LABEL.get(ours.casefold(), ours.casefold().replace(" ", "_"))
        if not theirs or stage not in SAID:
            hint = f"Write {theirs or 'Gone to depot'} = in transit. The stages are {', '.join(SAID.values())}."
            problems.append(Problem("words", f"“{line[:80]}” does not say what it means.", hint))
        words[theirs] = stage
    forms = []
    for line in _lines(typed.get("forms", "")):
        shape, _, check = line.rpartition(" ") if line.rpartition(" ")[2].casefold() in CHECKS else (line, "", "")
        forms.append({"shape": shape or line, "check": check.casefold() if shape else ""})
    names = dict[str, str]()
    for line in _lines(typed.get("names", "")):
        locale, equals, name = (part.strip() for part in line.partition("="))
        if not equals:
            problems.append(Problem("names", f"“{line[:60]}” has no language.", "Write de = Möwenpost."))
        names[locale] = name
    whole = dict[str, int]()
    for name in ("days", "counts_after", "lost_after"):
        text = str(typed.get(name, "")).strip() or "0"
        if not text.isdecimal():
            problems.append(Problem(name, f"“{text[:20]}” is no number of days.", "Write a whole number, 0 for none."))
        whole[name] = int(text) if text.isdecimal() else 0
    if problems:
        raise Invalid(problems)
    return {
        **whole,
        **{name: str(typed.get(name, "")).strip() for name in ("name", "link")},
        **{name: _codes(str(typed.get(name, ""))) for name in ("countries", "default_for")},
        "names": names,
        "forms": forms,
        "words": words,
        "working_days": sorted(set(typed["working_days"])),
        "on": typed["on"],
    }


def _lines(text: str) -> list[str]:
    return [line.strip() for line in str(text).splitlines() if line.strip()]


def _codes(text: str) -> list[str]:
    return list(dict.fromkeys(code.upper() for code in text.replace(",", " ").split()))
