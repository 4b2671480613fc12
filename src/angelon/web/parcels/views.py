"""The list of parcels, an order's own, and files of them."""

from __future__ import annotations

import contextlib
import datetime as dt
import hashlib
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for

from angelon.core.parcels import numbers
from angelon.core.problems import Invalid
from angelon.db.log import orders, parcels
from angelon.engine.exports import parcels as export
from angelon.engine.operations import parcels as operations
from angelon.engine.orders.parcels import called, text_of
from angelon.web.exporting import as_file_of
from angelon.web.numbers import whole
from angelon.web.orders.views import page_of
from angelon.web.paging import Page
from angelon.web.parcels import shown
from angelon.web.services import actor, live, read_anew, services, session, store_id, work

pages = Blueprint("parcels", __name__, url_prefix="/parcels", template_folder="templates")
A_PAGE = 50
MOST_BYTES = 10_000_000
KEPT = 24 * 3600
"""Seconds for which a file that was tried is kept."""
COUNTED = dt.timedelta(days=90)
RECENT = dt.timedelta(days=60)
"""How long ago an order may have been placed whose parcel’s number is still asked for."""


@pages.get("")
def index() -> Any:
    return _index()


def _index(**more: Any) -> Any:
    wanted = _wanted()
    page = Page(parcels.listed(session(), store_id(), wanted, A_PAGE + 1, Page.after_time()), A_PAGE)
    in_them = parcels.orders_in(session(), [row.id for row in page.items])
    since = services().clock.now() - COUNTED
    counts = parcels.counts(session(), store_id(), since)
    by_stage: dict[str, int] = {}
    for (stage, _), number in counts.items():
        by_stage[stage] = by_stage.get(stage, 0) + number
    return render_template(
        "parcels/index.html",
        parcels=[shown.show(row, (), in_them.get(row.id, ())) for row in page.items],
        older=page.older(lambda row: (row.last_at, row.id)),
        wanted=wanted,
        stages=shown.STAGES,
        by_stage=by_stage,
        troubles=shown.TROUBLES,
        in_trouble=parcels.troubles(session(), store_id()),
        carriers=sorted({(key, called(live(), key)) for _, key in counts if key} | _set_up()),
        unknown=parcels.unknown_words(session(), store_id(), since),
        called=lambda key: called(live(), key),
        any=bool(counts) or bool(page.items),
        took=_took(since),
        **more,
    )


def _wanted() -> parcels.Wanted:
    return parcels.Wanted(*(request.args.get(name, "")[:60] for name in ("stage", "carrier", "trouble", "number")))


def _set_up() -> set[tuple[str, str]]:
    return {(one.key, one.name) for one in live().setup.store.carriers if one.on}


def _took(since: dt.datetime) -> list[tuple[str, str, int, float, float]]:
    """Days from the order to the door by carrier and country: how many, the median, and what 19 of 20 stay under."""
    found: dict[tuple[str, str], list[float]] = {}
    for carrier, country, days in parcels.took(session(), store_id(), since):
        found.setdefault((called(live(), carrier), country), []).append(days)
    made = []
    for (carrier, country), spans in found.items():
        spans.sort()
        made.append((carrier, country, len(spans), spans[(len(spans) - 1) // 2], spans[int((len(spans) - 1) * 0.95)]))
    return sorted(made, key=lambda row: -row[2])[:12]


@pages.get("/all.csv")
def as_csv() -> Any:
    """Every parcel that fits, as a file that can be read again."""
    return as_file_of("parcels", "csv", export.Parcels(live(), _wanted()))


# ---- an order's own


@pages.get("/guess/<int:order_id>")
def guess(order_id: int) -> Any:
    """Whose a number looks like, while it is typed."""
    number = request.args.get("number", "")[:80]
    order = orders.get(session(), store_id(), order_id)
    found = _guesses(order, number)
    enough = len(numbers.normal(number)) >= 6
    settled = numbers.settled(found)
    shown_ = [settled] if settled is not None else found[:3]
    carriers = live().setup.store.carriers
    return render_template(
        "parcels/_guess.html", guesses=shown_ if enough else None, settled=settled, asked=enough, carriers=carriers
    )


def _guesses(order: Any, number: str) -> list[numbers.Guess]:
    country = text_of((order.read or {}) if order is not None else {}, "country")[:2].upper()
    return numbers.guesses(live().setup.store.carriers, number, country)


@pages.post("/of/<int:order_id>")
def add(order_id: int) -> Any:
    """Adds a parcel to an order."""
    form, number = request.form, request.form.get("number", "")[:80]
    try:
        with work() as unit:
            name = operations.add(
                unit, services().clock, order_id, number, form.get("carrier", ""), form.getlist("item")
            )
    except operations.Choices as error:
        found = error.guesses[:3]
        return page_of(order_id, parcel={"guesses": found, "settled": None, "asked": True}), 422
    except Invalid as error:
        flash(f"Not added: {error.problems[0].said}", "bad")
        return page_of(order_id), 422
    flash(f"The parcel {number.strip()} is added{f', brought by {name}' if name else ''}.", "good")
    return redirect(url_for("orders.one", order_id=order_id))


@pages.post("/<int:parcel_id>")
def move(parcel_id: int) -> Any:
    """Says how far a parcel is, or takes an order out of it."""
    order_id = whole(request.form.get("order", "")) or 0
    back = url_for("orders.one", order_id=order_id) if order_id else url_for(".index")
    try:
        with work() as unit:
            if request.form.get("act") == "take_out":
                operations.take_out(unit, order_id, parcel_id)
                said = "The parcel is no longer of this order."
            else:
                operations.move(unit, services().clock, parcel_id, request.form.get("stage", ""))
                said = "It is noted. Routes that wait for it send now."
    except Invalid as error:
        flash(f"Nothing was changed: {error.problems[0].said}", "bad")
    else:
        flash(said, "good")
    return redirect(back)


@pages.get("/numbers")
def type_numbers() -> Any:
    """The newest orders without a parcel, each with a field for its number."""
    return _numbers({})


def _numbers(problems: Mapping[int, str], status: int = 200) -> Any:
    rows = parcels.orders_without(session(), store_id(), services().clock.now() - RECENT, A_PAGE)
    carriers = [one for one in live().setup.store.carriers if one.on]
    html = render_template("parcels/numbers.html", rows=rows, carriers=carriers, problems=problems, typed=request.form)
    return html, status


@pages.post("/numbers")
def add_numbers() -> Any:
    """Adds what was typed, each for itself; what can't be added stays with the reason."""
    problems: dict[int, str] = {}
    added = 0
    for name, number in request.form.items():
        kind, _, id_ = name.partition(".")
        order_id = whole(id_) if kind == "number" and number.strip() else None
        if order_id is None:
            continue
        try:
            with work() as unit:
                operations.add(unit, services().clock, order_id, number[:80], request.form.get(f"carrier.{id_}", ""))
            added += 1
        except operations.Choices as error:
            why = numbers.doubt(error.guesses)
            problems[order_id] = f"It {why}." if why else "It has the form of no carrier that is on: choose one."
        except Invalid as error:
            problems[order_id] = error.problems[0].said
    read_anew()
    if added:
        flash(f"{added} added. Routes that wait for an added parcel send now.", "good")
    elif not problems:
        flash("Type at least one number.", "bad")
    return _numbers(problems, 422) if problems else redirect(url_for(".type_numbers"))


# ---- files


def _kept(digest: str) -> Path | None:
    """Where a file that was tried is kept until it is taken."""
    folder = services().settings.home / "tried"
    folder.mkdir(mode=0o700, exist_ok=True)
    for old in folder.iterdir():
        with contextlib.suppress(FileNotFoundError):  # somebody else was quicker
            if time.time() - old.stat().st_mtime > KEPT:
                old.unlink()
    return folder / digest if len(digest) == 64 and digest.isalnum() else None


@pages.post("/file")
def read_file() -> Any:
    """Tries a file: what each of its lines would tell; then takes it."""
    heard = request.form.get("heard", "nothing")
    silent, unheard = heard != "everything", heard == "nothing"
    digest = request.form.get("digest", "")
    try:
        if digest:
            return _take(digest, silent, unheard)
        file = request.files.get("file")
        data = file.read(MOST_BYTES + 1) if file is not None else b""
        if not data:
            flash("Choose a file.", "bad")
            return redirect(url_for(".index"))
        if len(data) > MOST_BYTES:
            flash(f"The file is larger than {MOST_BYTES // 1_000_000} MB: split it.", "bad")
            return redirect(url_for(".index"))
        _, lines = operations.parse(data)
        with work() as unit, unit.look() as looked:
            read = operations.read_lines(looked, lines[:2000], actor().name, silent, unheard)
        read_anew()
    except Invalid as error:
        flash(f"Nothing was read: {error.problems[0].said}", "bad")
        return redirect(url_for(".index"))
    digest = hashlib.sha256(data).hexdigest()
    kept = _kept(digest)
    assert kept is not None
    kept.write_bytes(data)
    return _tried(read, len(lines), digest, heard)


def _take(digest: str, silent: bool, unheard: bool) -> Any:
    kept = _kept(digest)
    if kept is None or not kept.is_file():
        flash("The file is no longer here. Choose it again.", "bad")
        return redirect(url_for(".index"))
    taken, left = operations.take_file(services().installation, store_id(), actor(), kept.read_bytes(), silent, unheard)
    read_anew()
    kept.unlink(missing_ok=True)
    flash(f"{taken:,} of {taken + len(left):,} lines were taken.", "good" if taken else "bad")
    return _index(left=left[:100], left_all=len(left)) if left else redirect(url_for(".index"))


def _tried(read: list[operations.Line], total: int, digest: str, heard: str) -> Any:
    good = [one for one in read if not one.problem]
    bad = [one for one in read if one.problem]
    return render_template(
        "parcels/tried.html",
        good=good[:20],
        bad=bad[:100],
        number=len(good),
        wrong=len(bad),
        known=sum(one.known for one in good),
        total=total,
        looked=len(read),
        digest=digest,
        heard=heard,
    )
